// Package testload says how many tests are played beside each other: many where they mostly
// wait, fewer where other work keeps the machine busy, so that each still gets its time.
package testload

import (
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"
)

// Parallel is how many tests to play at once, of those of which a quiet machine plays so many.
// It looks for a third of a second: what begins or ends just then is no load.
func Parallel(quiet int) string {
	for range 12 {
		if runnable() <= 3*runtime.NumCPU() {
			return strconv.Itoa(quiet)
		}
		time.Sleep(30 * time.Millisecond)
	}
	return strconv.Itoa(max(2, quiet/3))
}

// runnable is how many threads want a processor now; 0 where the system does not tell.
func runnable() int {
	text, err := os.ReadFile("/proc/loadavg") // proc_loadavg(5): "0.20 0.18 0.12 1/80 11206"
	fields := strings.Fields(string(text))
	if err != nil || len(fields) < 4 {
		return 0
	}
	first, _, _ := strings.Cut(fields[3], "/")
	n, _ := strconv.Atoi(first)
	return n
}
