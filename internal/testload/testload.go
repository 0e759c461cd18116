// Package testload says how many tests are played beside each other: many where they mostly
// wait, fewer where other work keeps the machine busy, so that each still gets its time.
package testload

import (
	"os"
	"runtime"
	"strconv"
	"strings"
)

// Parallel is how many tests to play at once, of those of which a quiet machine plays so many.
func Parallel(quiet int) string {
	text, err := os.ReadFile("/proc/loadavg") // Linux; elsewhere the machine is taken for quiet
	load := 0.0
	if first, _, found := strings.Cut(string(text), " "); err == nil && found {
		load, _ = strconv.ParseFloat(first, 64)
	}
	if load > 3*float64(runtime.NumCPU()) {
		quiet = max(2, quiet/3)
	}
	return strconv.Itoa(quiet)
}
