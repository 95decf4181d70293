package judge

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSubjectsAreReadAsTheyAreWritten(t *testing.T) {
	for text, subject := range map[string]Subject{
		"x, y":                    {AboutFields, "x, y"},
		"existence":               {AboutFields, "existence"},
		"event bark":              {AboutEvent, "bark"},
		"sequence bell handed on": {AboutSequence, "bell handed on"},
		"membership":              {About: AboutMembership},
		"ticks":                   {About: AboutTicks},
		"program":                 {About: AboutProgram},
		"age-p95-ms":              {AboutMeasure, "age-p95-ms"},
	} {
		assert.Equal(t, subject, ParseSubject(text))
		written, err := json.Marshal(Finding{Subject: subject})
		require.NoError(t, err)
		assert.Contains(t, string(written), `"fields":"`+text+`"`)
		var read Finding
		require.NoError(t, json.Unmarshal(written, &read))
		assert.Equal(t, subject, read.Subject)
	}
	assert.Equal(t, []string{"x", "y"}, Subject{AboutFields, "x, y"}.Fields())
	assert.Nil(t, Subject{AboutEvent, "bark"}.Fields())
}
