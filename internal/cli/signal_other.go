//go:build !unix

package cli

func ignoreFileLimitSignal() {}
