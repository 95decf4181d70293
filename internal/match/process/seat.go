package process

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// Seat is where one match sits on this machine: a folder of its own, in which each of its programs has a home and a
// place for temporary files, and from it the environment that its programs find. That is small and the same from
// every shell; what else a program needs stands in the plan.
//
// Seats are numbered, and a seed asks for the same one each time, so that a match finds the same names when it is
// played again. A seat that another match has at the moment is passed over.
type Seat struct {
	folder string
	lock   *os.File
}

const seats = 10000

// TakeSeat takes a seat, and empties it.
func TakeSeat(seed uint64) (*Seat, error) { return takeSeat(seatsFolder(), seed) }

// seatsFolder is where the seats are. It is the same for every shell, so TMPDIR has no say in it.
func seatsFolder() string {
	if runtime.GOOS == "windows" {
		return os.TempDir()
	}
	return "/tmp"
}

func takeSeat(below string, seed uint64) (*Seat, error) {
	for i := range uint64(seats) {
		s := &Seat{folder: filepath.Join(below, fmt.Sprintf("zw-%04d", (seed+i)%seats))}
		if err := os.Mkdir(s.folder, 0o700); err != nil && !os.IsExist(err) {
			return nil, fmt.Errorf("a folder for the programs of a match: %w", err)
		}
		if !ownFolder(s.folder) {
			continue
		}
		var err error
		if s.lock, err = lockFile(filepath.Join(s.folder, "taken")); err != nil {
			continue
		}
		if err := s.empty(); err != nil {
			s.lock.Close()
			continue
		}
		return s, nil
	}
	return nil, fmt.Errorf("all %d seats in %s (zw-0000 and so on) are taken or belong to others: are so many matches played at once?", seats, below)
}

// empty removes what an earlier match has left.
func (s *Seat) empty() error {
	entries, err := os.ReadDir(s.folder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == filepath.Base(s.lock.Name()) {
			continue
		}
		if err := removeAll(filepath.Join(s.folder, e.Name())); err != nil {
			return err
		}
	}
	return nil
}

// Mark is by what the processes of this match are known from their environment.
func (s *Seat) Mark() string { return fmt.Sprintf("%s-%d", filepath.Base(s.folder), os.Getuid()) }

// homes are the folders of one program. It makes them.
func (s *Seat) homes(program string) (home, temporary string, err error) {
	name := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|.`, r) || r < ' ' {
			return '_'
		}
		return r
	}, program)
	home, temporary = filepath.Join(s.folder, name, "home"), filepath.Join(s.folder, name, "tmp")
	for _, folder := range []string{home, temporary} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return "", "", fmt.Errorf("a home for %s: %w", program, err)
		}
	}
	return home, temporary, nil
}

// environment is what a program finds there beside what the plan says; at is where the program itself was found.
func (s *Seat) environment(program, at string) ([]string, error) {
	home, temporary, err := s.homes(program)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(filepath.Base(at), "wine") { // its programs find their common server where temporary files are
		if _, temporary, err = s.homes("wine"); err != nil {
			return nil, err
		}
	}
	if runtime.GOOS == "windows" {
		list := []string{"USERPROFILE=" + home, "APPDATA=" + home, "LOCALAPPDATA=" + home, "TEMP=" + temporary, "TMP=" + temporary}
		for _, name := range []string{"PATH", "PATHEXT", "SystemRoot", "SystemDrive", "windir", "ComSpec", "ProgramData", "ProgramFiles", "ProgramFiles(x86)", "CommonProgramFiles", "PROCESSOR_ARCHITECTURE", "OS"} {
			if value, is := os.LookupEnv(name); is {
				list = append(list, name+"="+value)
			}
		}
		return list, nil
	}
	path := "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	if folder := filepath.Dir(at); filepath.IsAbs(folder) && !strings.Contains(":"+path+":", ":"+folder+":") {
		path = folder + ":" + path
	}
	return []string{"PATH=" + path, "HOME=" + home, "TMPDIR=" + temporary, "LANG=C.UTF-8", "TZ=UTC"}, nil
}

// Close gives a seat back.
func (s *Seat) Close() error {
	err := s.empty()
	if e := s.lock.Close(); err == nil {
		err = e
	}
	return err
}
