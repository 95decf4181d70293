// Package ending says how a match ended, in one way for whoever plays, records,
// judges, counts or shows it.
//
// It knows nothing of how a match is played or judged.
package ending

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/trace"
)

// How is how a match ended, in a word.
type How string

const (
	Running     How = "running" // not yet; or whoever recorded it was killed
	Complete    How = "complete"
	Stopped     How = "stopped" // early, as was asked for: at the first finding, or cut off
	Interrupted How = "interrupted"
	Failed      How = "failed" // it could not be played to its end
)

// Ending is how a match ended, and what broke in it before. The zero value is that it
// was complete.
type Ending struct {
	How    How      `json:"ended"`
	Why    string   `json:"why,omitempty"` // it failed
	Log    []string `json:"log,omitempty"` // then, the last log lines of the program concerned
	Breaks []Break  `json:"breaks,omitempty"`

	Damage       []string `json:"damage,omitempty"`       // what of the recording is missing or was changed, found by whoever reads it
	Unrepeatable string   `json:"unrepeatable,omitempty"` // why a match on the virtual clock may go otherwise when it is played again
}

// Kind is what broke.
type Kind string

const (
	Crashed     Kind = "crashed"      // a program ended that nobody had asked to
	Quit        Kind = "quit"         // a program ended well, but before anybody had asked it to
	Departed    Kind = "departed"     // a player left whose bot was to stay, and its client said so
	Bypassed    Kind = "bypassed"     // a view was in the match, and its packets did not go over its link
	Silent      Kind = "silent"       // a view said nothing more, though its player was in the match
	TraceBroken Kind = "trace broken" // the way of its trace lines broke
	MachineLost Kind = "machine lost" // the machine on which it ran was lost, and the view with it
)

// Break is something that broke for one view while the match went on.
type Break struct {
	Kind Kind          `json:"kind"`
	View string        `json:"view"`
	At   trace.Seconds `json:"at_s"`
	Back trace.Seconds `json:"back_s,omitempty"` // when the view went on; 0 means never
	How  string        `json:"how,omitempty"`    // like "exit status 3" or "its process is stopped"
	Log  []string      `json:"log,omitempty"`    // the last that it logged
}

func (b Break) String() string {
	var text string
	switch b.Kind {
	case Crashed, Quit:
		text = fmt.Sprintf("%s ended by itself at %s", b.View, b.At)
	case Departed:
		text = fmt.Sprintf("%s left at %s, though its bot was to stay", b.View, b.At)
	case Bypassed:
		return fmt.Sprintf("%s's packets did not go over its link: %s", b.View, b.How)
	case Silent:
		text = fmt.Sprintf("%s fell silent at %s", b.View, b.At)
	case TraceBroken:
		text = fmt.Sprintf("the trace of %s broke off at %s", b.View, b.At)
	case MachineLost:
		text = fmt.Sprintf("%s was lost with its machine at %s", b.View, b.At)
	}
	if b.How != "" {
		text += " (" + b.How + ")"
	}
	if b.Back > 0 {
		text += fmt.Sprintf(" and went on at %s", b.Back)
	}
	return text
}

// Spoils reports whether something of the match could not be judged for it. A crash is a finding of its own, a view
// that went on was judged again, and who left and said so was judged until then.
func (b Break) Spoils() bool {
	switch b.Kind {
	case Quit, Silent, TraceBroken, MachineLost:
		return b.Back == 0
	case Bypassed:
		return true
	}
	return false
}

// Well reports whether the match ended as it was to, with everybody heard to the end.
func (e *Ending) Well() bool {
	return len(e.Damage) == 0 && (e.How == "" || e.How == Complete || e.How == Stopped) && !slices.ContainsFunc(e.Breaks, Break.Spoils)
}

// CutOff reports whether whoever recorded the match was killed.
func (e *Ending) CutOff() bool { return e.How == Running }

// BreakOf is the newest break of a kind of a view, or nil.
func (e *Ending) BreakOf(kind Kind, view string) *Break {
	for i := range slices.Backward(e.Breaks) {
		if b := &e.Breaks[i]; b.Kind == kind && b.View == view {
			return b
		}
	}
	return nil
}

// Sentences says what did not go as it was to, a sentence each, what ended the match
// first. until is how far the match was judged.
func (e *Ending) Sentences(until time.Duration) (list []string) {
	list = append(list, e.Damage...)
	if e.Unrepeatable != "" {
		list = append(list, e.Unrepeatable)
	}
	at := trace.Seconds(until).String()
	switch e.How {
	case Running:
		list = append(list, "the recording was cut off; it is judged up to "+at+", as far as all files reach")
	case Stopped:
		list = append(list, "stopped at "+at+", as was asked for")
	case Interrupted:
		list = append(list, "interrupted at "+at)
	case Failed:
		why := e.Why
		if why == "" {
			why = "for no known reason"
		}
		if until > 0 {
			list = append(list, "ended early, at "+at+": "+why)
		} else {
			list = append(list, "it could not be played: "+why)
		}
	}
	for _, b := range e.Breaks {
		if b.Kind != Crashed { // that is a finding of its own
			list = append(list, b.String())
		}
	}
	return list
}
