//go:build unix

package cli

import (
	"os/signal"
	"syscall"
)

// ignoreFileLimitSignal makes a write past the file size limit an error like
// that of a full disk, and not the end of the program.
func ignoreFileLimitSignal() { signal.Ignore(syscall.SIGXFSZ) }

// maxFiles is how many files a process may have open here.
func maxFiles() int {
	var l syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l) != nil || l.Max > 1<<30 {
		return 0
	}
	return int(l.Max)
}
