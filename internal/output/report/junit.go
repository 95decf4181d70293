package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/output/sanitize"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// The part of JUnit's XML that CI servers agree on.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Time     string      `xml:"time,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitMessage `xml:"failure"`
		Error   *junitMessage `xml:"error"`
		Skipped *junitSkipped `xml:"skipped"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr,omitempty"`
	}
	junitMessage struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes a verdict as JUnit's XML: one test case for each watch rule, event, event
// rule and limit, one for each view, and for what is left of findings. What met nothing
// is skipped, or under strict an error; so is, as an error, that the match did not go to
// its end.
func JUnit(w io.Writer, title string, v *judge.Verdict, limits []rulebook.Limit) error {
	length := fmt.Sprintf("%.3f", time.Duration(v.To-v.From).Seconds())
	suite := junitSuite{Name: title, Time: length}
	add := func(class, name string, findings []*judge.Finding) {
		c := junitCase{Class: class, Name: name, Time: "0"}
		if len(findings) > 0 {
			var lines []string
			for _, f := range findings {
				lines = append(lines, fmt.Sprintf("%s %s: %s (%s)", f.ID, f.Kind, Sentence(f), f.Why))
			}
			c.Failure = &junitMessage{Message: Sentence(findings[0]), Type: string(findings[0].Kind), Text: clean(strings.Join(lines, "\n"))}
			c.Failure.Message = clean(c.Failure.Message)
		}
		suite.Cases = append(suite.Cases, c)
	}
	used := map[*judge.Finding]bool{}
	take := func(fits func(*judge.Finding) bool) (list []*judge.Finding) {
		for _, f := range v.Findings {
			if !used[f] && fits(f) {
				used[f] = true
				list = append(list, f)
			}
		}
		return list
	}
	for _, r := range v.Rules {
		if !r.Judged {
			continue
		}
		add("watch", clean(fmt.Sprintf("%s of %s (%s)", r.Fields, r.Entities, r.Of)), take(func(f *judge.Finding) bool {
			return r.Findings > 0 && f.Subject == (judge.Subject{Name: r.Fields}) && !f.Invariant && fits(r, f)
		}))
		if r.Fits == 0 && suite.Cases[len(suite.Cases)-1].Failure == nil {
			suite.Cases[len(suite.Cases)-1].doubt(v, judge.Warning{Text: "it met nothing"})
		}
	}
	for _, view := range v.Views {
		c := junitCase{Class: "views", Name: clean(view.Name + " was compared"), Time: "0"}
		for _, warning := range v.Warnings {
			if warning.View == view.Name && warning.Rule == "" {
				c.doubt(v, warning)
			}
		}
		suite.Cases = append(suite.Cases, c)
	}
	for _, warning := range v.Warnings {
		if warning.View != "" && warning.Rule != "" {
			c := junitCase{Class: "views", Name: clean(warning.View + " tells " + warning.Rule), Time: "0"}
			c.doubt(v, warning)
			suite.Cases = append(suite.Cases, c)
		}
		if warning.Event != "" {
			c := junitCase{Class: "events", Name: clean(warning.Event), Time: "0"}
			c.doubt(v, warning)
			suite.Cases = append(suite.Cases, c)
		}
	}
	for _, e := range v.Events {
		add("events", clean(e.Event), take(func(f *judge.Finding) bool {
			return f.Subject == (judge.Subject{About: judge.AboutEvent, Name: e.Event})
		}))
	}
	unmeasured := func(measure string) *judge.Warning {
		i := slices.IndexFunc(v.Warnings, func(w judge.Warning) bool { return w.Measure == measure })
		if i < 0 {
			return nil
		}
		return &v.Warnings[i]
	}
	for _, l := range limits {
		add("limits", clean(fmt.Sprintf("%s at most %g", l.Measure, l.Max)), take(func(f *judge.Finding) bool {
			return f.Subject == (judge.Subject{About: judge.AboutMeasure, Name: l.Measure})
		}))
		if w := unmeasured(l.Measure); w != nil {
			suite.Cases[len(suite.Cases)-1].doubt(v, *w)
		}
	}
	if rest := take(func(*judge.Finding) bool { return true }); len(rest) > 0 {
		add("match", "what else was found", rest)
	}
	played := junitCase{Class: "match", Name: "played to its end", Time: "0"}
	if !v.Ending.Well() {
		list := v.Ending.Sentences(time.Duration(v.To))
		played.Error = &junitMessage{Message: clean(list[0]), Type: "not played", Text: clean(strings.Join(append(list, v.Ending.Log...), "\n"))}
	} else if v.Outcome == judge.NothingCompared {
		played.Error = &junitMessage{Message: "nothing was compared", Type: "nothing compared"}
	}
	suite.Cases = append(suite.Cases, played)
	for _, c := range suite.Cases {
		suite.Tests++
		switch {
		case c.Failure != nil:
			suite.Failures++
		case c.Error != nil:
			suite.Errors++
		case c.Skipped != nil:
			suite.Skipped++
		}
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(junitSuites{Tests: suite.Tests, Failures: suite.Failures, Errors: suite.Errors, Suites: []junitSuite{suite}}); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// doubt says that something was not compared: an error where that keeps the match from
// being a pass.
func (c *junitCase) doubt(v *judge.Verdict, w judge.Warning) {
	if w.Grave || v.Strict {
		c.Error = &junitMessage{Message: clean(w.Text), Type: "not compared"}
	} else {
		c.Skipped = &junitSkipped{Message: clean(w.Text)}
	}
}

// fits reports whether a finding is of an entity that a rule is about.
func fits(r judge.RuleReport, f *judge.Finding) bool {
	of := map[string]rulebook.Relation{rulebook.Own.String(): rulebook.Own, rulebook.Others.String(): rulebook.Others}[r.Of]
	rule := rulebook.Rule{Entities: r.Entities, Of: of, Fields: strings.Split(r.Fields, ", ")}
	return rule.Fits(f.Entity, f.Own, rule.Fields[0])
}

// clean leaves out what XML cannot say.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r == 0xfffe || r == 0xffff || r >= 0xd800 && r < 0xe000 {
			return '�'
		}
		return r
	}, s)
}

// Markdown writes a short summary, fit for a merge request.
func Markdown(w io.Writer, title string, seed uint64, v *judge.Verdict, folder string) {
	fmt.Fprintf(w, "**%s: %s**, %s (seed %d)\n", plain(title), strings.ToUpper(string(v.Outcome)), plain(Summary(v)), seed)
	for _, text := range Beside(v) {
		fmt.Fprintf(w, "\n%s\n", plain(text))
	}
	if len(v.Incidents) > 0 {
		fmt.Fprint(w, "\n| incident | kind | what | findings |\n|---|---|---|---|\n")
	}
	for i, in := range v.Incidents {
		if i == 10 {
			fmt.Fprintf(w, "\nand %d more incidents\n", len(v.Incidents)-i)
			break
		}
		for _, f := range v.Findings {
			if f.ID == in.Head {
				fmt.Fprintf(w, "| %s | %s | %s | %d |\n", in.ID, in.Kind, plain(Sentence(f)), len(in.Findings))
			}
		}
	}
	fmt.Fprintf(w, "\n%s values of %s compared; run folder `%s`\n", Number(v.Comparisons), count(len(v.Views), "client", "clients"), strings.ReplaceAll(folder, "`", "'"))
}

// plain makes a game's text harmless in Markdown.
func plain(s string) string {
	s = sanitize.Text(strings.ReplaceAll(s, "\n", " "))
	return strings.NewReplacer("\\", "\\\\", "|", "\\|", "*", "\\*", "_", "\\_", "`", "\\`", "<", "&lt;", ">", "&gt;", "[", "\\[", "]", "\\]").Replace(s)
}
