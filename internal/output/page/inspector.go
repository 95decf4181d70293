package page

import (
	_ "embed"
	"encoding/json"
	"html/template"
	"net"
	"net/http"
	"strconv"
	"time"

	"zitherwheel/internal/review/inspect"
)

//go:embed inspector.html
var inspectorText string

var inspectorPage = template.Must(template.New("inspector").Parse(inspectorText))

// Inspector serves a match that goes on, to be looked at in a browser on this machine: the page, and
// under /moment what it asks for. Requests under another name than this machine's are refused, so
// that no page from elsewhere can ask.
func Inspector(l *inspect.Live, title string, entities []string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'; img-src data:")
		_ = inspectorPage.Execute(w, struct { // whoever asked is gone if it fails
			Title    string
			Style    template.CSS
			Entities []string
		}{title, template.CSS(style), entities})
	})
	mux.HandleFunc("GET /moment", func(w http.ResponseWriter, r *http.Request) {
		q := inspect.Query{Entities: r.URL.Query()["entity"], Filter: r.URL.Query().Get("filter")}
		if text := r.URL.Query().Get("at"); text != "" {
			seconds, err := strconv.ParseFloat(text, 64)
			if err != nil {
				http.Error(w, "at: write seconds, like 12.5", http.StatusBadRequest)
				return
			}
			at := time.Duration(seconds * float64(time.Second))
			q.At = &at
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Cache-Control", "no-store")
		_ = json.NewEncoder(w).Encode(l.Ask(q)) // likewise
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			http.Error(w, "this is for this machine alone", http.StatusForbidden)
			return
		}
		mux.ServeHTTP(w, r)
	})
}
