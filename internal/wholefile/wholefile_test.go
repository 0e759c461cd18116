//go:build unix

package wholefile_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"runcrowd/internal/wholefile"
)

func TestFiles(t *testing.T) {
	dir := t.TempDir()
	path, link := filepath.Join(dir, "report.txt"), filepath.Join(dir, "latest")
	require.NoError(t, os.Symlink(path, link))
	require.NoError(t, wholefile.Write(path, []byte("first")))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode())
	require.NoError(t, os.Chmod(path, 0o644)) // whoever opened it to others wants it so

	dropped, err := wholefile.Create(link)
	require.NoError(t, err)
	dropped.Write([]byte("half"))
	dropped.Drop()
	text, _ := os.ReadFile(path)
	assert.Equal(t, "first", string(text))

	require.NoError(t, wholefile.Write(link, []byte("second")))
	text, _ = os.ReadFile(path)
	assert.Equal(t, "second", string(text), "a link is followed")
	info, err = os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeSymlink, "and stays one")
	info, err = os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o644), info.Mode())

	assert.EqualError(t, wholefile.Write(dir, nil), dir+" cannot be written: it is a folder")
	assert.EqualError(t, wholefile.Write(filepath.Join(dir, "no", "x"), nil), filepath.Join(dir, "no", "x")+" cannot be "+
		"written: no such file or directory")
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, list, 2, "nothing half is left")
}

// What a run left as evidence is never written over, by no name that it has; what else is
// there, only by force.
func TestWhatIsThereStays(t *testing.T) {
	dir := t.TempDir()
	run := filepath.Join(dir, "run")
	require.NoError(t, os.MkdirAll(filepath.Join(run, "files"), 0o700))
	link, through := filepath.Join(dir, "report.html"), filepath.Join(dir, "through")
	for _, name := range []string{"ledger", "run.json", "crowd.yaml", "by-hand.yaml", "files/1-gauges.csv", "page.html"} {
		require.NoError(t, os.WriteFile(filepath.Join(run, name), []byte(name), 0o600))
	}
	require.NoError(t, os.Symlink(filepath.Join(run, "ledger"), link))
	require.NoError(t, os.Symlink(run, through))
	t.Chdir(run)
	for _, path := range []string{"ledger", "./run.json", "crowd.yaml", "by-hand.yaml", "files/1-gauges.csv", link,
		filepath.Join(through, "ledger"), filepath.Join(run, "..", "run", "ledger")} {
		_, err := wholefile.New(path, true)
		assert.ErrorContains(t, err, "is evidence of a run, which nothing is written over", path)
	}
	_, err := wholefile.New("page.html", false)
	assert.ErrorContains(t, err, "page.html is there already, and was left as it is; name another file, or write over "+
		"it with --force")
	f, err := wholefile.New("page.html", true)
	require.NoError(t, err)
	require.NoError(t, f.Keep())
	f, err = wholefile.New("files/new.csv", false)
	require.NoError(t, err)
	f.Drop()
	text, err := os.ReadFile("ledger")
	require.NoError(t, err)
	assert.Equal(t, "ledger", string(text))
	assert.NoError(t, wholefile.NoEvidence(filepath.Join(dir, "ledger")), "of no run")
}

// A pipe or a device is written to, and never replaced: root could lose its /dev/null.
func TestWhatIsNoFileStays(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	heard := make(chan string)
	go func() {
		b, _ := os.ReadFile(pipe)
		heard <- string(b)
	}()
	f, err := wholefile.Create(pipe)
	require.NoError(t, err)
	assert.False(t, f.Regular())
	f.Write([]byte("as it comes"))
	require.NoError(t, f.Keep())
	assert.Equal(t, "as it comes", <-heard)
	info, err := os.Stat(pipe)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeNamedPipe)
	go os.ReadFile(pipe)
	f, err = wholefile.Create(pipe)
	require.NoError(t, err)
	f.Drop()
	_, err = os.Stat(pipe)
	assert.NoError(t, err)
}

// Several that write one file at once do not take each other's beginnings for what was left.
func TestManyWriteOneFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "report.txt")
	var many errgroup.Group
	for range 8 {
		many.Go(func() error {
			for range 100 {
				if err := wholefile.Write(path, []byte("whole")); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, many.Wait())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "whole", string(text))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing half is left")
}
