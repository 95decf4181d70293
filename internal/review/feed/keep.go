package feed

import (
	"cmp"
	"errors"
	"path/filepath"
	"time"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Keep makes a run folder of traces that were recorded elsewhere, with what was said of them, so that
// they can be looked at like any other run. The folder must not exist or be empty.
func Keep(path string, traces Traces, result *Result, sign run.Sign) error {
	length := time.Duration(result.Verdict.To)
	p := plan.Defaults()
	p.Title, p.Clock, p.Align, p.Reference, p.Strict, p.Rules = filepath.Base(path), plan.Recorded, traces.Align, traces.Reference, traces.Strict, traces.Rules
	p.Duration = max(time.Second, length.Round(time.Millisecond))
	p.MaxEntities = cmp.Or(traces.Entities, p.MaxEntities)
	about := run.About{Title: p.Title, Clock: p.Clock, Length: length.Seconds(), Blind: true}
	for _, s := range traces.Sources {
		about.Views = append(about.Views, s.View)
		if s.View != rulebook.Server {
			p.Bots = append(p.Bots, plan.Bot{Name: s.View})
		}
	}
	text, err := p.Brief()
	if err != nil {
		return err
	}
	names := trace.AnyNames() // they were judged within the bound
	folder, err := run.Create(path, about, text, names)
	if err != nil {
		return err
	}
	if err := folder.SealWith(nil, sign); err != nil {
		return err
	}
	for i, s := range traces.Sources {
		if err := copyTrace(folder, i, s.Path, names); err != nil {
			return errors.Join(err, folder.Abandon(result.Verdict.Ending))
		}
	}
	findings, err := EncodeVerdict(result.Verdict)
	if err != nil {
		return errors.Join(err, folder.Abandon(result.Verdict.Ending))
	}
	return folder.Finish(result.Verdict.Ending, findings, result.Measures)
}

// copyTrace copies what can be read of a trace; what cannot has been remarked on.
func copyTrace(folder *run.Folder, view int, path string, names *trace.Names) error {
	file, err := open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	reader := trace.NewReader(file, names)
	var r trace.Record
	for {
		if reader.Next(&r) != nil { // its end, or where it breaks off
			return nil
		}
		if err := folder.Record(view, &r); err != nil {
			return err
		}
	}
}
