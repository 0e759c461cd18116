package seal_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/seal"
)

func TestAKeyIsMadeOnce(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(t.TempDir(), "config"))
	k, err := seal.User(false)
	require.NoError(t, err)
	assert.Nil(t, k)
	assert.Empty(t, k.Seal([]byte("a")))
	assert.False(t, k.Sealed([]byte("a"), ""), "without a key nothing is sealed")

	seals := make([]string, 20)
	var wg sync.WaitGroup
	for i := range seals { // as many runs at once
		wg.Go(func() {
			k, err := seal.User(true)
			assert.NoError(t, err)
			seals[i] = k.Seal([]byte("a"))
		})
	}
	wg.Wait()
	k, err = seal.User(false)
	require.NoError(t, err)
	for _, s := range seals {
		assert.True(t, k.Sealed([]byte("a"), s))
		assert.False(t, k.Sealed([]byte("b"), s))
	}
	path, err := seal.Path()
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	list, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, list, 1, "what was made in vain is gone")

	name := k.Name()
	require.NoError(t, os.WriteFile(path, []byte("abc\n"), 0o600))
	_, err = seal.User(true)
	assert.ErrorContains(t, err, "is no key; remove it")
	require.NoError(t, os.Remove(path))
	other, err := seal.User(true)
	require.NoError(t, err)
	assert.NotEqual(t, name, other.Name())
	assert.False(t, other.Sealed([]byte("a"), seals[0]))
}
