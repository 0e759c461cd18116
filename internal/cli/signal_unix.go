//go:build unix

package cli

import (
	"os"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// ignoreFileLimitSignal makes a write past the file size limit an error like
// that of a full disk, and not the end of the program.
func ignoreFileLimitSignal() { signal.Ignore(syscall.SIGXFSZ) }

// endSignals are those that end a command in good order: also a terminal that is gone,
// unless whoever started us wants us to outlive it.
func endSignals() []os.Signal {
	list := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) {
		list = append(list, syscall.SIGHUP)
	}
	return list
}

// hungUp tells of a signal whether the terminal is gone: nobody pressed a key.
func hungUp(s os.Signal) bool { return s == syscall.SIGHUP }

// maxFiles is how many files a process may have open here.
func maxFiles() int {
	var l syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l) != nil || l.Max > 1<<30 {
		return 0
	}
	return int(l.Max)
}

// handsHere tells whether somebody may type at the terminal that the view is on: whoever reads
// from it in the background is stopped.
func handsHere() bool {
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		return false
	}
	group, err := unix.IoctlGetInt(fd, unix.TIOCGPGRP)
	return err == nil && group == unix.Getpgrp()
}
