// Package run is what one run leaves behind: a folder with the plan as it
// was resolved, what every view said, the outcome of every packet, the logs and
// the verdict. Everything is written as the run goes and put in place by rename
// when it is finished; whatever kills the run, what was written until then can
// be read.
//
//	about.json            title, seed, clock, views, how the run ended
//	plan.yaml             the plan with every default filled in
//	views/NAME.jsonl.zst  trace lines; without .zst while the run goes
//	packets.jsonl.zst     outcomes; likewise
//	inputs.jsonl.zst      what bots did, on the wall clock
//	logs/NAME.log         log text
//	findings.json         the verdict
//	measures.json         what was measured
//	packets.pcapng        packets with payloads, where that was asked for
//	timing.json           how well a run on the wall clock kept time
//	rules.yaml            the rules that it was judged by, where they were learned from it
//	seal.json             size and sum of every file, and which build was played
//	recorded-by           the mark of its user over that
package run

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/version"
)

// Versions of the folder's layout: this program reads those from oldestVersion on.
const (
	folderVersion = 3
	sealedSince   = 3
	oldestVersion = 2
)

const (
	aboutName = "about.json"
	rulesName = "rules.yaml"
)

// About is about.json. It holds no wall-clock time: the same plan and seed give
// the same bytes.
type About struct {
	Layout int      `json:"layout"`
	Title  string   `json:"title"`
	Seed   uint64   `json:"seed"`
	Clock  string   `json:"clock"`
	Length float64  `json:"length_s"`
	Views  []string `json:"views"`                     // the server's first
	Blind  bool     `json:"packets_unknown,omitempty"` // nobody saw its packets: the traces came from elsewhere
	By     string   `json:"recorded_by"`               // the build of the program, see package version
	ending.Ending
}

// ErrExists is the error of Create when the folder is there already.
var ErrExists = errors.New("the folder exists already")

// Folder is a run folder that is being written.
type Folder struct {
	path    string
	about   About
	views   []*file
	packets *file
	inputs  *file // nil until there is something in it
	logs    []*file
	files   map[string]*file // all of these, by their paths in the folder, without .zst
	origin  *Origin
	sign    Sign
}

// file is a file that grows during the run.
type file struct {
	*os.File
	path   string
	writer *trace.Writer
	buffer []byte
	size   int // of a log

	records int           // trace lines or packets
	last    time.Duration // the time of the last
}

// Create makes the folder, which must not exist or be empty, and opens its
// files.
func Create(path string, about About, planYAML []byte, names *trace.Names) (*Folder, error) {
	if entries, err := os.ReadDir(path); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s: %w", path, ErrExists)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, dir := range []string{path, filepath.Join(path, "views"), filepath.Join(path, "logs")} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
	}
	var err error
	about.Layout, about.By, about.Ending = folderVersion, version.String(), ending.Ending{How: ending.Running}
	f := &Folder{path: path, about: about, files: map[string]*file{}}
	if err := f.writeJSON(aboutName, about); err != nil {
		return nil, err
	}
	if err := f.write("plan.yaml", planYAML); err != nil {
		return nil, err
	}
	for _, view := range about.Views {
		file, err := f.open("views/" + view + ".jsonl")
		if err != nil {
			return nil, err
		}
		file.writer = trace.NewWriter(file, names)
		f.views = append(f.views, file)
		log, err := f.open("logs/" + view + ".log")
		if err != nil {
			return nil, err
		}
		f.logs = append(f.logs, log)
	}
	if about.Blind { // a file without a packet would say that nothing was ever heard
		return f, nil
	}
	f.packets, err = f.open("packets.jsonl")
	return f, err
}

// open makes a file that grows during the run.
func (f *Folder) open(name string) (*file, error) {
	path := filepath.Join(f.path, filepath.FromSlash(name))
	handle, err := os.Create(path)
	one := &file{File: handle, path: path}
	f.files[name] = one
	return one, err
}

// Path is where the folder is.
func (f *Folder) Path() string { return f.path }

// Record writes a trace line of a view, by its place in About.Views.
func (f *Folder) Record(view int, r *trace.Record) error {
	file := f.views[view]
	file.records++
	file.last = r.T
	return file.writer.Write(r)
}

// mostLog bounds the log of a view: a program that floods its output is not to fill
// the disk.
const mostLog = 32 << 20

// Log writes a line of log text of a view.
func (f *Folder) Log(view int, t time.Duration, text string) error {
	log := f.logs[view]
	if log.size > mostLog {
		return nil
	}
	if log.size += len(text) + 12; log.size > mostLog {
		text = "... more log text than 32 MiB is left out"
	}
	log.buffer = trace.AppendSeconds(log.buffer, t)
	log.buffer = append(log.buffer, ' ')
	log.buffer = append(log.buffer, strings.ReplaceAll(text, "\n", " ")...)
	log.buffer = append(log.buffer, '\n')
	return log.flush(4 << 10)
}

// Packet writes the outcome of a packet on the link of a view.
func (f *Folder) Packet(view int, p link.Packet) error {
	f.packets.records++
	f.packets.last = p.Sent
	f.packets.buffer = AppendPacket(f.packets.buffer, f.about.Views[view], p)
	return f.packets.flush(64 << 10)
}

// Input writes a line of what bots did. A run whose bots can be asked again needs none.
func (f *Folder) Input(line []byte) error {
	if f.inputs == nil {
		file, err := f.open("inputs.jsonl")
		if err != nil {
			return err
		}
		f.inputs = file
	}
	f.inputs.buffer = append(f.inputs.buffer, line...)
	return f.inputs.flush(64 << 10)
}

// Flush writes everything to the files that still waits, so that a run that takes
// its time loses no more than a torn line when it is killed.
func (f *Folder) Flush() error {
	var failures []error
	for _, file := range f.files {
		if file.writer != nil {
			failures = append(failures, file.writer.Flush())
		}
		failures = append(failures, file.flush(0))
	}
	return errors.Join(failures...)
}

// Rules keeps the rules that were learned from the run.
func (f *Folder) Rules(text []byte) error { return f.write(rulesName, text) }

// Timing writes timing.json.
func (f *Folder) Timing(timing any) error { return f.writeJSON("timing.json", timing) }

// flush writes the buffer to the file if it holds at least so many bytes.
func (f *file) flush(atLeast int) error {
	if len(f.buffer) < atLeast || len(f.buffer) == 0 {
		return nil
	}
	_, err := f.Write(f.buffer)
	f.buffer = f.buffer[:0]
	return err
}

// Finish completes the folder with the verdict, as JSON, and the measures, and
// says how the run ended. Without a verdict there is no findings.json.
func (f *Folder) Finish(how ending.Ending, findings []byte, measures any) error {
	var failures []error
	check := func(err error) { failures = append(failures, err) }
	check(f.Flush())
	for _, file := range f.files {
		check(file.Close())
	}
	if err := errors.Join(failures...); err != nil {
		return err
	}
	packed := slices.DeleteFunc(slices.Collect(maps.Values(f.files)), func(file *file) bool { return slices.Contains(f.logs, file) })
	check(packAll(packed))
	if findings != nil {
		check(f.write("findings.json", findings))
		check(f.writeJSON("measures.json", measures))
	}
	check(f.end(how))
	return errors.Join(failures...)
}

// end says how the run ended, and seals the folder.
func (f *Folder) end(how ending.Ending) error {
	f.about.Ending = how
	about, err := json.MarshalIndent(f.about, "", "  ")
	if err != nil {
		return err
	}
	about = append(about, '\n')
	return errors.Join(f.seal(about), f.write(aboutName, about))
}

// Abandon says that the run could not be recorded to its end, and why. Where there is no
// room for a new file, the bytes of the old about.json are written over.
func (f *Folder) Abandon(how ending.Ending) error {
	const block = 4096 // what a file has at least, however little is in it
	for _, file := range f.files {
		_ = file.Close() // whatever is in it by now can be read
	}
	err := f.end(how)
	if err == nil {
		return nil
	}
	f.about.Log, f.about.Why = nil, f.about.Why[:min(len(f.about.Why), block/4)]
	text, failed := json.MarshalIndent(f.about, "", "  ")
	if failed != nil || len(text) >= block {
		return errors.Join(err, failed)
	}
	about, failed := os.OpenFile(filepath.Join(f.path, aboutName), os.O_WRONLY, 0)
	if failed != nil {
		return errors.Join(err, failed)
	}
	_, failed = about.Write(append(text, '\n'))
	return errors.Join(failed, about.Truncate(int64(len(text)+1)), about.Close())
}

// packAll packs finished files, several at a time: it takes as long as a short
// match itself.
func packAll(files []*file) error {
	failures := make([]error, len(files))
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(files)) {
		workers.Go(func() {
			for i := range next {
				_, failures[i] = trace.Pack(files[i].path)
			}
		})
	}
	for i := range files {
		next <- i
	}
	close(next)
	workers.Wait()
	return errors.Join(failures...)
}

func (f *Folder) writeJSON(name string, v any) error {
	return atomicfile.JSON(filepath.Join(f.path, name), v)
}

func (f *Folder) write(name string, text []byte) error {
	return atomicfile.Text(filepath.Join(f.path, name), text)
}

// Run is a run folder that is read.
type Run struct {
	Path  string
	About About

	seal     *seal // nil if there is none that can be read
	sealText []byte
}

// ErrDamaged is the error of a run folder of which nothing can be read any more.
var ErrDamaged = errors.New("the run folder is damaged")

// Open reads what a run folder is about, and finds out whether it is what was recorded: About.Damage says what is not.
// The run need not have ended well.
func Open(path string) (*Run, error) {
	text, err := os.ReadFile(filepath.Join(path, aboutName))
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(path); err != nil {
			return nil, fmt.Errorf("%s: there is no such folder", path)
		}
		return nil, fmt.Errorf("%s: no about.json in it, so this is not a run folder", path)
	} else if err != nil {
		return nil, err
	}
	r := &Run{Path: path}
	if err := json.Unmarshal(text, &r.About); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrDamaged, filepath.Join(path, aboutName), err)
	}
	if r.About.Layout < oldestVersion || r.About.Layout > folderVersion {
		return nil, fmt.Errorf("%s: layout %d of run folders; this program reads %d to %d. Record it again, or read it with the program that recorded it", path, r.About.Layout, oldestVersion, folderVersion)
	}
	if len(r.About.Views) == 0 {
		return nil, fmt.Errorf("%w: %s: about.json names no views", ErrDamaged, path)
	}
	for _, view := range r.About.Views {
		if !filepath.IsLocal(view) || strings.ContainsAny(view, `/\`) {
			return nil, fmt.Errorf("%w: %s: about.json names a view %q", ErrDamaged, path, view)
		}
	}
	r.About.Damage = nil // that is for this reader to say
	return r, r.checkSeal()
}

// Timing reads timing.json into v and reports whether there is one.
func (r *Run) Timing(v any) bool {
	text, err := os.ReadFile(filepath.Join(r.Path, "timing.json"))
	return err == nil && json.Unmarshal(text, v) == nil
}

// Log hands on the lines that a view logged, with their times. A run whose log is not
// there has none.
func (r *Run) Log(view string, each func(at time.Duration, text string)) error {
	file, err := os.Open(filepath.Join(r.Path, "logs", view+".log"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 8<<20)
	for lines.Scan() {
		stamp, text, _ := strings.Cut(lines.Text(), " ")
		if t, err := strconv.ParseFloat(stamp, 64); err == nil {
			each(seconds(t), text)
		}
	}
	return lines.Err()
}

// FindingsPath is where the verdict is, if there is one.
func (r *Run) FindingsPath() string { return filepath.Join(r.Path, "findings.json") }

// MeasuresPath is where what was measured is, likewise.
func (r *Run) MeasuresPath() string { return filepath.Join(r.Path, "measures.json") }

// RulesPath is where the rules are that were learned from the run, if there are any.
func (r *Run) RulesPath() string { return filepath.Join(r.Path, rulesName) }

// PlanPath is where the plan is.
func (r *Run) PlanPath() string { return filepath.Join(r.Path, "plan.yaml") }

// ViewPath is where the trace of a view is: packed, or plain if the run was cut
// off.
func (r *Run) ViewPath(view string) string { return r.packed(filepath.Join("views", view+".jsonl")) }

// PacketsPath is where the outcomes are, or "" if they are not known.
func (r *Run) PacketsPath() string {
	if r.About.Blind {
		return ""
	}
	return r.packed("packets.jsonl")
}

// InputsPath is where what bots did is, if that was recorded.
func (r *Run) InputsPath() string { return r.packed("inputs.jsonl") }

func (r *Run) packed(name string) string {
	plain := filepath.Join(r.Path, name)
	if _, err := os.Stat(plain + ".zst"); err == nil {
		return plain + ".zst"
	}
	return plain
}
