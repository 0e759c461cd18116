package testload

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParallel(t *testing.T) {
	for _, quiet := range []int{3, 16, 100} {
		n, err := strconv.Atoi(Parallel(quiet))
		require.NoError(t, err)
		assert.Contains(t, []int{quiet, max(2, quiet/3)}, n)
	}
}
