package hunt

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/pack"
)

const journalName = "matches.jsonl"

// journal is the lines of matches that have been played, in the order in which they
// ended. Of what is in the file only the seeds are kept in memory, so that a hunt can go
// on for hours.
type journal struct {
	path   string
	file   *os.File       // nil for a hunt without a folder
	kept   []played.Match // of such a hunt
	played map[uint64]bool
}

func openJournal(o Options) (*journal, error) {
	j := &journal{played: map[uint64]bool{}}
	if o.Folder == "" {
		return j, nil
	}
	if err := os.MkdirAll(o.Folder, 0o755); err != nil {
		return nil, err
	}
	of, err := beginningOf(o)
	if err != nil {
		return nil, err
	}
	j.path = filepath.Join(o.Folder, journalName)
	_, err = os.Stat(j.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := of.write(o.Folder); err != nil {
			return nil, err
		}
	case err != nil:
		return nil, err
	case !o.Resume:
		return nil, fmt.Errorf("%s: %w", j.path, ErrJournal)
	default:
		if err := of.resumes(o.Folder); err != nil {
			return nil, err
		}
		whole, err := readJournal(j.path, func(m played.Match) { j.played[m.Seed] = true })
		if err != nil {
			return nil, err
		}
		if err := os.Truncate(j.path, whole); err != nil {
			return nil, err
		}
	}
	j.file, err = os.OpenFile(j.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	return j, err
}

// beginning is what a hunt begins with: its matches are those of one identity, but for their seeds.
type beginning struct {
	plan  []byte // what stands in plan.yaml of its folder
	build pack.Sums
	head  string // of that text: what it is known by
}

const buildName = "build.sha256"

func beginningOf(o Options) (b beginning, err error) {
	p := *o.Plan
	p.Seed = o.First
	of, files, err := played.IdentityOf(&p)
	if err != nil {
		return b, err
	}
	text, err := o.Plan.SeenFrom(o.Folder).YAML()
	if err != nil {
		return b, err
	}
	b.build = files
	b.head = fmt.Sprintf("# first seed %d, judged by %s\n# known as %s\n", o.First, of.Judge, of.Key())
	b.plan = append([]byte(b.head), text...)
	return b, nil
}

func (b beginning) write(folder string) error {
	if len(b.build) > 0 {
		if err := atomicfile.Text(filepath.Join(folder, buildName), b.build.Text()); err != nil {
			return err
		}
	}
	return atomicfile.Text(filepath.Join(folder, "plan.yaml"), b.plan)
}

// resumes reports, as an error, what keeps the hunt in a folder from being gone on with: matches of two plans, builds
// or judges are not mixed.
func (b beginning) resumes(folder string) error {
	plan, err := os.ReadFile(filepath.Join(folder, "plan.yaml"))
	if err != nil {
		return err
	}
	if bytes.Equal(plan, b.plan) {
		return nil
	}
	before, err := os.ReadFile(filepath.Join(folder, buildName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if changed := b.build.Changed(pack.ParseSums(before)); len(changed) > 0 {
		more := ""
		if n := len(changed) - filesNamed; n > 0 {
			changed, more = changed[:filesNamed], fmt.Sprintf(" and %d more", n)
		}
		return fmt.Errorf("%s: %w (%s%s); begin another, or say under build: files: what belongs to the build", folder, ErrBuild, strings.Join(changed, ", "), more)
	}
	return fmt.Errorf("%s: %w", folder, ErrOther)
}

const filesNamed = 5

// add writes a match into the journal: one write a line, so that a kill tears at most
// the last.
func (j *journal) add(m played.Match) error {
	j.played[m.Seed] = true
	if j.file == nil {
		j.kept = append(j.kept, m)
		return nil
	}
	line, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("the journal cannot be written: %w; what was played until then is kept, and zwheel hunt --resume continues from there", err)
	}
	return nil
}

// each hands on all matches, in no order.
func (j *journal) each(match func(played.Match)) error {
	if j.file != nil {
		_, err := readJournal(j.path, match)
		return err
	}
	for _, m := range j.kept {
		match(m)
	}
	return nil
}

func (j *journal) close() error {
	if j.file == nil {
		return nil
	}
	return j.file.Close()
}

// Journal reads the matches of a hunt's folder, in order of their seeds.
func Journal(folder string) (list []played.Match, err error) {
	_, err = readJournal(filepath.Join(folder, journalName), func(m played.Match) { list = append(list, m) })
	slices.SortFunc(list, func(a, b played.Match) int { return cmp.Compare(a.Seed, b.Seed) })
	return list, err
}

// readJournal hands on the matches of the whole lines of a journal, and says how many
// bytes they are. A line that was torn by a kill is a match that was not finished. One
// that stands there twice counts once.
func readJournal(path string, match func(played.Match)) (whole int64, err error) {
	file, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	seen := map[uint64]bool{}
	for lines := bufio.NewReaderSize(file, 1<<20); ; {
		line, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return whole, nil
		} else if err != nil {
			return whole, err
		}
		whole += int64(len(line))
		var m played.Match
		if json.Unmarshal(line, &m) == nil && !seen[m.Seed] {
			seen[m.Seed] = true
			match(m)
		}
	}
}
