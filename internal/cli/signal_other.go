//go:build !unix

package cli

import "os"

func ignoreFileLimitSignal() {}

func endSignals() []os.Signal { return []os.Signal{os.Interrupt} }

func hungUp(os.Signal) bool { return false }

func maxFiles() int { return 0 }

// handsHere tells whether somebody may type at the terminal that the view is on.
func handsHere() bool { return false }
