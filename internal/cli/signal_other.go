//go:build !unix

package cli

import "os"

func ignoreFileLimitSignal() {}

func endSignals() []os.Signal { return []os.Signal{os.Interrupt} }

func hungUp(os.Signal) bool { return false }

func maxFiles() int { return 0 }
