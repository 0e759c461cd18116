//go:build unix

package ask

import (
	"os/exec"
	"syscall"
)

// alone gives a program a group of its own, so that all it started ends with it, and no key
// pressed for us reaches it.
func alone(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
