// Package scratch makes folders for a while. They are gone with the process that made them: what
// one left that was killed is removed by the next.
package scratch

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// prefix begins the names of all of them.
const prefix = "runcrowd-scratch-"

// lockName is the file that the process holds a lock on to which a folder belongs.
const lockName = ".lock"

// Dir makes a folder, for its owner alone, in the system's folder for such. Release removes it.
func Dir() (dir string, release func(), err error) {
	sweep()
	for {
		outer, err := os.MkdirTemp("", prefix)
		if err != nil {
			return "", nil, err
		}
		l := flock.New(filepath.Join(outer, lockName))
		got, lockErr := l.TryLock() // where there are no locks, nothing is swept
		dir, release = filepath.Join(outer, "it"), func() { os.RemoveAll(outer); l.Close() }
		err = os.Mkdir(dir, 0o700)
		_, gone := os.Lstat(l.Path())
		switch {
		case lockErr == nil && !got, errors.Is(err, fs.ErrNotExist), err == nil && lockErr == nil && gone != nil:
			release() // another process took it for one that was left, before it was locked
			continue
		case err != nil:
			release()
			return "", nil, err
		}
		return dir, release, nil
	}
}

// sweep removes folders whose process is gone. One without a lock is just being made, or is not
// ours.
func sweep() {
	list, _ := filepath.Glob(filepath.Join(os.TempDir(), prefix+"*"))
	for _, dir := range list {
		name := filepath.Join(dir, lockName)
		if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() {
			continue
		}
		l := flock.New(name)
		if got, err := l.TryLock(); err == nil && got {
			os.RemoveAll(dir)
			l.Close()
		}
	}
}
