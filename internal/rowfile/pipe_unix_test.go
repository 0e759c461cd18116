//go:build unix

package rowfile_test

import (
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/rowfile"
)

// A pipe is told at once: to open one waits for somebody who writes to it.
func TestPipesAreNoFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "rows.csv")
	require.NoError(t, syscall.Mkfifo(path, 0o600))
	assert.Equal(t, []string{path + " is no regular file"}, rowsOf(t, path, rowfile.Options{}))
}
