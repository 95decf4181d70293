package pack

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func write(t *testing.T, folder string, files map[string]string) string {
	t.Helper()
	for name, text := range files {
		at := filepath.Join(folder, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	return folder
}

func TestWhatIsPackedComesOutAgain(t *testing.T) {
	files := map[string]string{"server.mjs": "listen()", "lib/deep/a.mjs": "export", "lib/runs/walk.json": "[]", "kept/about.json": "{}", "kept/plan.yaml": "", "night/matches.jsonl": "", "night/plan.yaml": "", "runs/one/about.json": "{}", "runs/one/plan.yaml": "", "runs/one-smallest.yaml": "", ".git/HEAD": "x"}
	folder := write(t, t.TempDir(), files)
	require.NoError(t, os.Chmod(filepath.Join(folder, "server.mjs"), 0o755))
	var archive, again bytes.Buffer
	c, err := Write(&archive, folder, nil)
	require.NoError(t, err)
	assert.Equal(t, 3, c.Files, "what version control and this program keep is left out, by what is in it and not by its name")
	assert.EqualValues(t, archive.Len(), c.Bytes)
	d, err := Write(&again, write(t, t.TempDir(), files), []string{"*.mjs", "lib"})
	require.NoError(t, err)
	assert.Equal(t, 3, d.Files)
	assert.NotEqual(t, c.Sum, d.Sum, "one of them is a program there")

	out := filepath.Join(t.TempDir(), "out")
	require.NoError(t, Extract(&archive, out, Usual))
	for _, name := range []string{"server.mjs", "lib/deep/a.mjs", "lib/runs/walk.json"} {
		text, err := os.ReadFile(filepath.Join(out, name))
		require.NoError(t, err)
		assert.Equal(t, files[name], string(text))
	}
	info, err := os.Stat(filepath.Join(out, "server.mjs"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&0o100)
}

func TestWhatCannotBePackedIsSaid(t *testing.T) {
	folder := write(t, t.TempDir(), map[string]string{"a": "1"})
	_, err := Write(&bytes.Buffer{}, folder, []string{"b*"})
	assert.ErrorContains(t, err, "nothing in "+folder+" is named b*")
	_, err = Write(&bytes.Buffer{}, t.TempDir(), nil)
	assert.ErrorContains(t, err, "there are no files in it")
	if os.Symlink("/etc/hostname", filepath.Join(folder, "out")) == nil {
		_, err = Write(&bytes.Buffer{}, folder, nil)
		assert.ErrorContains(t, err, "a link that leads out")
	}
}

// archive is an archive of entries as whoever means harm would make it.
func archive(t *testing.T, entries ...tar.Header) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	packed, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	out := tar.NewWriter(packed)
	for _, h := range entries {
		require.NoError(t, out.WriteHeader(&h))
		_, err := out.Write(make([]byte, h.Size))
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	require.NoError(t, packed.Close())
	return &b
}

func TestWhatLeadsElsewhereIsRefused(t *testing.T) {
	file := func(name string, size int64) tar.Header {
		return tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644}
	}
	for _, c := range []struct {
		name    string
		entries []tar.Header
	}{
		{"a folder above", []tar.Header{file("../evil", 1)}},
		{"a folder above, later in the name", []tar.Header{file("a/../../evil", 1)}},
		{"an absolute name", []tar.Header{file("/tmp/evil", 1)}},
		{"a name with a backslash", []tar.Header{file(`..\evil`, 1)}},
		{"a link", []tar.Header{{Typeflag: tar.TypeSymlink, Name: "out", Linkname: "/tmp"}, file("out/evil", 1)}},
		{"a hard link", []tar.Header{{Typeflag: tar.TypeLink, Name: "out", Linkname: "/etc/passwd"}}},
		{"a device", []tar.Header{{Typeflag: tar.TypeChar, Name: "dev"}}},
		{"the same name twice", []tar.Header{file("a", 1), file("a", 1)}},
		{"a file below a file", []tar.Header{file("a", 1), file("a/b", 1)}},
		{"too much", []tar.Header{file("a", 600), file("b", 600)}},
		{"too many", []tar.Header{file("a", 1), file("b", 1), file("c", 1), file("d", 1), file("e", 1)}},
		{"a folder's own name", []tar.Header{file(".", 0)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			base := t.TempDir()
			err := Extract(archive(t, c.entries...), filepath.Join(base, "in"), Bounds{Bytes: 1000, Files: 4})
			assert.ErrorIs(t, err, ErrUnsafe)
			_, err = os.Lstat(filepath.Join(base, "evil"))
			assert.ErrorIs(t, err, os.ErrNotExist)
		})
	}
	assert.ErrorIs(t, Extract(bytes.NewBufferString("no archive"), filepath.Join(t.TempDir(), "in"), Usual), ErrUnsafe)
}

func TestAFolderIsKnownByItsFiles(t *testing.T) {
	files := map[string]string{"server.mjs": "listen()", "lib/a.mjs": "export"}
	sums := func(folder string) Sums {
		s, err := SumsOf(folder, nil)
		require.NoError(t, err)
		return s
	}
	folder := write(t, t.TempDir(), files)
	before := sums(folder)
	assert.Equal(t, before.Sum(), sums(write(t, t.TempDir(), files)).Sum(), "wherever it is")
	assert.Equal(t, before, ParseSums(before.Text()))
	for what, change := range map[string]func() error{
		"lib/a.mjs":  func() error { return os.WriteFile(filepath.Join(folder, "lib", "a.mjs"), []byte("exports"), 0o644) },
		"server.mjs": func() error { return os.Chmod(filepath.Join(folder, "server.mjs"), 0o755) },
		"new":        func() error { return os.WriteFile(filepath.Join(folder, "new"), nil, 0o644) },
		"link":       func() error { return os.Symlink("/nowhere", filepath.Join(folder, "link")) },
	} {
		was := sums(folder)
		require.NoError(t, change())
		now := sums(folder)
		assert.NotEqual(t, was.Sum(), now.Sum(), what)
		assert.Equal(t, []string{what}, was.Changed(now))
	}
}
