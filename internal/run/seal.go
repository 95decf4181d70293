package run

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/pack"
	"zitherwheel/internal/trace"
)

// A run folder is sealed when its run has ended: seal.json has the size and the sum of every file that a verdict
// rests on, and recorded-by the mark of its user over that. Whoever reads the folder finds out first whether
// it is what was recorded: what is missing, cut, changed or added can be no evidence. While the run goes on only its
// plan is sealed.
const (
	sealName    = "seal.json"
	markName    = "recorded-by"
	sealVersion = 1
)

// seal is seal.json.
type seal struct {
	Version int      `json:"seal"`
	Open    bool     `json:"open,omitempty"` // the run has not ended
	Build   *Origin  `json:"build,omitempty"`
	Files   []sealed `json:"files"`
	Self    string   `json:"sha256"` // of this file, with "" here
}

// sealed is a file as it was when it was sealed.
type sealed struct {
	Path    string        `json:"path"` // with slashes
	Bytes   int64         `json:"bytes"`
	Sum     string        `json:"sha256"`
	Records int           `json:"records,omitempty"` // trace lines or packets
	Last    trace.Seconds `json:"last_s,omitempty"`  // the time of the last
}

// Origin is the build that a run was played with.
type Origin struct {
	Folder   string            `json:"folder"`   // absolute
	Programs map[string]string `json:"programs"` // the SHA-256 of each program and script that the plan names, by its path
}

// Sign makes the mark of a user over a text; "" is none.
type Sign func(text []byte) string

// SealWith says by which build a run is played, and whose mark the seal is to have. It seals the plan at once, so
// that a run which is killed can be known again. Both may be nil.
func (f *Folder) SealWith(build *Origin, sign Sign) error {
	f.origin, f.sign = build, sign
	plan, err := sealedFile(f.path, "plan.yaml")
	if err != nil {
		return err
	}
	return f.putSeal(seal{Open: true, Files: []sealed{plan}})
}

// seal seals all that is in the folder, with about.json as it is going to be.
func (f *Folder) seal(about []byte) error {
	var s seal
	names, err := evidence(f.path)
	if err != nil {
		return err
	}
	for _, name := range names {
		if name == aboutName {
			continue
		}
		one, err := sealedFile(f.path, name)
		if err != nil {
			return err
		}
		if of := f.files[strings.TrimSuffix(name, ".zst")]; of != nil {
			one.Records, one.Last = of.records, trace.Seconds(of.last)
		}
		s.Files = append(s.Files, one)
	}
	sum := sha256.Sum256(about)
	s.Files = append(s.Files, sealed{Path: aboutName, Bytes: int64(len(about)), Sum: hex.EncodeToString(sum[:])})
	return f.putSeal(s)
}

func (f *Folder) putSeal(s seal) error {
	s.Version, s.Build = sealVersion, f.origin
	slices.SortFunc(s.Files, func(a, b sealed) int { return cmp.Compare(a.Path, b.Path) })
	text, err := s.text()
	if err != nil {
		return err
	}
	if err := f.write(sealName, text); err != nil {
		return err
	}
	if f.sign == nil {
		return nil
	}
	if mark := f.sign(text); mark != "" {
		return f.write(markName, []byte(mark+"\n"))
	}
	return nil
}

// text is the file, with its own sum.
func (s seal) text() ([]byte, error) {
	s.Self = ""
	bare, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(bare)
	s.Self = hex.EncodeToString(sum[:])
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

// evidence are the files of a run folder that are read as such, with slashes, in order. What else somebody has put
// there does not matter. Links, devices and pipes are an error.
func evidence(folder string) (names []string, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		name = filepath.ToSlash(name)
		switch first, _, below := strings.Cut(name, "/"); {
		case name == ".":
			return nil
		case !d.Type().IsRegular() && !d.IsDir():
			return fmt.Errorf("%s: not a regular file but %s; a run folder must hold all of its files itself", path, typeOf(d.Type()))
		case d.IsDir() && name != "views" && name != "logs":
			return fs.SkipDir
		case d.IsDir():
		case below, slices.Contains(read, strings.TrimSuffix(first, ".zst")):
			names = append(names, name)
		}
		return nil
	})
	slices.Sort(names)
	return names, err
}

// read are the files at the top of a run folder that are read, without .zst.
var read = []string{
	aboutName, "plan.yaml", rulesName, "packets.jsonl", "inputs.jsonl", "findings.json", "measures.json", "timing.json", "packets.pcapng",
}

func typeOf(mode fs.FileMode) string {
	switch {
	case mode&fs.ModeSymlink != 0:
		return "a link"
	case mode&fs.ModeDevice != 0:
		return "a device"
	case mode&fs.ModeNamedPipe != 0:
		return "a pipe"
	}
	return "of another kind"
}

func sealedFile(folder, name string) (sealed, error) {
	sum, n, err := pack.FileSum(filepath.Join(folder, filepath.FromSlash(name)))
	return sealed{Path: name, Bytes: n, Sum: sum}, err
}

// checkSeal finds what in a run folder is not as it was sealed, and whose seal it is.
func (r *Run) checkSeal() error {
	names, err := evidence(r.Path)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(r.Path, sealName))
	ended := !r.About.CutOff()
	switch {
	case errors.Is(err, fs.ErrNotExist) && r.About.Layout < sealedSince:
		return nil
	case errors.Is(err, fs.ErrNotExist) && !ended: // killed before it was begun
		return nil
	case errors.Is(err, fs.ErrNotExist):
		r.damaged("%s is missing, so nobody knows whether the others are what was recorded", sealName)
		return nil
	case err != nil:
		r.damaged("%s cannot be read: %v", sealName, err)
		return nil
	}
	var s seal
	if err := json.Unmarshal(text, &s); err != nil || s.Version != sealVersion {
		r.damaged("%s was changed: it cannot be decoded", sealName)
		return nil
	}
	if as, err := s.text(); err != nil || string(as) != string(text) {
		r.damaged("%s was changed: its own sum is wrong", sealName)
		return nil
	}
	r.seal, r.sealText = &s, text
	if s.Open && ended {
		r.damaged("%s is that of a run which goes on, and about.json says that it %s", sealName, r.About.How)
		return nil
	}
	for _, of := range s.Files {
		now, err := sealedFile(r.Path, of.Path)
		what := of.Path
		if of.Records > 0 {
			what += fmt.Sprintf(" (%d records until %s)", of.Records, of.Last)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			r.damaged("%s is missing", what)
		case err != nil:
			r.damaged("%s cannot be read: %v", what, err)
		case now.Bytes < of.Bytes:
			r.damaged("%s was cut: %d of %d bytes are left", what, now.Bytes, of.Bytes)
		case now != (sealed{Path: of.Path, Bytes: of.Bytes, Sum: of.Sum}):
			r.damaged("%s was changed after it had been recorded", what)
		}
	}
	for _, name := range names {
		if !s.Open && !slices.ContainsFunc(s.Files, func(of sealed) bool { return of.Path == name }) {
			r.damaged("%s was added after the run", name)
		}
	}
	return nil
}

func (r *Run) damaged(format string, args ...any) {
	r.About.Damage = append(r.About.Damage, fmt.Sprintf(format, args...))
}

// Sealed reports whether the folder has a seal; without one nobody knows whether it is what was recorded.
func (r *Run) Sealed() bool { return r.seal != nil }

// Origin is the build that the run was played with, if that is known.
func (r *Run) Origin() *Origin {
	if r.seal == nil {
		return nil
	}
	return r.seal.Build
}

// SignedBy reports whether a user made the seal, as known says of the sealed text and its mark.
func (r *Run) SignedBy(known func(text []byte, mark string) bool) bool {
	mark, err := os.ReadFile(filepath.Join(r.Path, markName))
	return err == nil && r.seal != nil && known(r.sealText, strings.TrimSpace(string(mark)))
}

// Keep puts a verdict, as JSON, and measures into the folder of a run that has ended, and seals it anew. Of one that is
// damaged that is an error.
func (r *Run) Keep(findings []byte, measures any, sign Sign) error {
	if len(r.About.Damage) > 0 {
		return fmt.Errorf("%s is not what was recorded, so no verdict is kept in it: %s", r.Path, r.About.Damage[0])
	}
	f := r.folder(r.Origin(), sign)
	return errors.Join(f.write("findings.json", findings), f.writeJSON("measures.json", measures), f.sealAnew())
}

// folder is the run's folder, to be written to and sealed anew.
func (r *Run) folder(build *Origin, sign Sign) *Folder {
	f := &Folder{path: r.Path, about: r.About, origin: build, sign: sign, files: map[string]*file{}}
	if r.seal != nil {
		for _, of := range r.seal.Files {
			f.files[strings.TrimSuffix(of.Path, ".zst")] = &file{records: of.Records, last: time.Duration(of.Last)}
		}
	}
	return f
}

// sealAnew seals the folder of a run that has ended, about.json as it is.
func (f *Folder) sealAnew() error {
	about, err := os.ReadFile(filepath.Join(f.path, aboutName))
	if err != nil {
		return err
	}
	return f.seal(about)
}

// Adopt gives a folder that was recorded on another machine the plan as it reads here, the build that is here, and the
// mark of this user. It is an error if the folder is not what was recorded there.
func Adopt(path string, planYAML []byte, build *Origin, sign Sign) error {
	r, err := Open(path)
	if err != nil {
		return err
	}
	if len(r.About.Damage) > 0 {
		return fmt.Errorf("%s: %s", path, r.About.Damage[0])
	}
	f := r.folder(build, sign)
	if err := f.write("plan.yaml", planYAML); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(path, markName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return f.sealAnew()
}
