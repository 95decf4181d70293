package plan

import (
	"errors"
	"strings"
)

// splitWords splits a command as a shell does, at blanks that are not in quotes. A
// backslash takes the meaning from a blank, a quote or a backslash behind it, and stays
// before anything else, so that C:\game\server.exe is one word as it stands. In single
// quotes everything stands for itself.
func splitWords(line string) ([]string, error) {
	var words []string
	var word strings.Builder
	quote, begun := byte(0), false
	for i := 0; i < len(line); i++ {
		c := line[i]
		special := func(j int) bool { return j < len(line) && strings.IndexByte(" \t\"'\\", line[j]) >= 0 }
		switch {
		case quote == '\'' && c != '\'' || quote == '"' && c != '"' && c != '\\':
			word.WriteByte(c)
		case quote != 0 && c == quote:
			quote = 0
		case c == '\\' && special(i+1) && (quote == 0 || line[i+1] == '"' || line[i+1] == '\\'):
			i++
			word.WriteByte(line[i])
			begun = true
		case quote == 0 && (c == '"' || c == '\''):
			quote, begun = c, true
		case quote == 0 && (c == ' ' || c == '\t'):
			if begun || word.Len() > 0 {
				words = append(words, word.String())
			}
			word.Reset()
			begun = false
		default:
			word.WriteByte(c)
		}
	}
	if quote != 0 {
		return nil, errors.New("a quote in it is not closed")
	}
	if begun || word.Len() > 0 {
		words = append(words, word.String())
	}
	return words, nil
}
