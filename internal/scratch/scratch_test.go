package scratch_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"runcrowd/internal/scratch"
)

// What belongs to a process that lives stays; what a killed one left goes.
func TestWhatIsLeftIsSwept(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	t.Setenv("TMP", temp)
	left := filepath.Join(temp, "runcrowd-scratch-77")
	require.NoError(t, os.MkdirAll(filepath.Join(left, "it", "deep"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(left, ".lock"), nil, 0o600)) // nobody holds it
	other := filepath.Join(temp, "runcrowd-scratch-of-others")
	require.NoError(t, os.Mkdir(other, 0o700))
	outside := filepath.Join(temp, "precious")
	require.NoError(t, os.WriteFile(outside, nil, 0o600))
	trap := filepath.Join(temp, "runcrowd-scratch-trap")
	require.NoError(t, os.Mkdir(trap, 0o700))
	require.NoError(t, os.Symlink(outside, filepath.Join(trap, ".lock")))

	first, release, err := scratch.Dir()
	require.NoError(t, err)
	assert.NoDirExists(t, left)
	assert.DirExists(t, other)
	assert.DirExists(t, trap)
	require.NoError(t, os.WriteFile(filepath.Join(first, "a"), []byte("x"), 0o600))
	second, releaseSecond, err := scratch.Dir()
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(first, "a"), "it is in use")
	assert.NotEqual(t, first, second)
	release()
	assert.NoDirExists(t, filepath.Dir(first))
	assert.DirExists(t, second)
	releaseSecond()
	list, err := os.ReadDir(temp)
	require.NoError(t, err)
	assert.Len(t, list, 3)
}

// Several that begin at once leave each other's folders alone.
func TestManyBeginAtOnce(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	t.Setenv("TMP", temp)
	var many errgroup.Group
	for range 8 {
		many.Go(func() error {
			for range 50 {
				dir, release, err := scratch.Dir()
				if err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(dir, "a"), nil, 0o600); err != nil {
					return err
				}
				release()
			}
			return nil
		})
	}
	require.NoError(t, many.Wait())
	list, err := os.ReadDir(temp)
	require.NoError(t, err)
	assert.Empty(t, list)
}
