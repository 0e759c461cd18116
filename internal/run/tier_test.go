package run_test

import (
	"hash/fnv"
	"testing"
)

// fewer skips four of five tests of a matrix in the short tier (go test -short), always the
// same ones. All of them are played without it.
func fewer(t *testing.T) {
	t.Helper()
	h := fnv.New32a()
	h.Write([]byte(t.Name()))
	if testing.Short() && h.Sum32()%5 != 0 {
		t.Skip("not in the short tier")
	}
}
