package page

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/review/inspect"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

func TestTheInspectorIsForThisMachineAlone(t *testing.T) {
	names := trace.NewNames()
	l := inspect.NewLive(inspect.LiveTraces{Names: names, Views: []string{"server", "fern"}, Rules: rulebook.Rules{Fields: []rulebook.Rule{{Entities: "dog/*", Fields: []string{"x"}}}}})
	l.Lock()
	for view := range 2 {
		l.Record(view, &trace.Record{T: time.Second, Full: true, State: []trace.Change{{Entity: names.Entity("dog/<b>"), Field: names.Field("x"), Value: trace.Number(float64(view))}}})
	}
	l.Unlock()
	handler := Inspector(l, "<script>alert(1)</script>", []string{`"><dog>`})
	get := func(host, path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.Host = host
		handler.ServeHTTP(w, r)
		return w
	}
	front := get("127.0.0.1:7000", "/")
	assert.Equal(t, http.StatusOK, front.Code)
	assert.NotContains(t, front.Body.String(), "<script>alert(1)")
	assert.NotContains(t, front.Body.String(), `"><dog>`)
	assert.Contains(t, front.Header().Get("Content-Security-Policy"), "default-src 'none'")

	w := get("localhost:7000", "/moment?entity=dog/<b>&at=1")
	require.Equal(t, http.StatusOK, w.Code)
	var m inspect.Moment
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &m))
	assert.Equal(t, "dog/<b>", m.Sheets[0].Entity)
	assert.Equal(t, "0", m.Sheets[0].Rows[1].Cells[0].Value)
	assert.NotContains(t, w.Body.String(), "<b>", "what a game says is harmless in whatever reads it")

	assert.Equal(t, http.StatusBadRequest, get("[::1]:7000", "/moment?at=soon").Code)
	assert.Equal(t, http.StatusNotFound, get("127.0.0.1", "/other").Code)
	for _, host := range []string{"attacker.example:7000", "10.0.0.5", "127.0.0.1.example"} {
		assert.Equal(t, http.StatusForbidden, get(host, "/moment").Code, host)
	}
}
