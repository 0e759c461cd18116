//go:build !unix

package cli

func ignoreFileLimitSignal() {}

func maxFiles() int { return 0 }
