//go:build unix

package cli

import (
	"os/signal"
	"syscall"
)

// ignoreFileLimitSignal makes a write past the file size limit an error like
// that of a full disk, and not the end of the program.
func ignoreFileLimitSignal() { signal.Ignore(syscall.SIGXFSZ) }
