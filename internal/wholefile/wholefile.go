// Package wholefile writes files whole or not at all: what was there before stays until all
// is written.
package wholefile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"
)

// File is a file that is being written. Either Keep or Drop ends it.
type File struct {
	f    *os.File
	lock *flock.Flock // of it, while it is not whole
	path string       // where it will be; empty: it is written straight to where it belongs
	perm os.FileMode
}

// New begins a file that a user named: over a file that is there only by force, and never over
// what a run left as evidence.
func New(path string, force bool) (*File, error) {
	if err := Free(path, force); err != nil {
		return nil, err
	}
	return Create(path)
}

// Free tells whether New would write to a path.
func Free(path string, force bool) error {
	real := path
	if p, err := filepath.EvalSymlinks(path); err == nil {
		real = p
	}
	info, err := os.Stat(real)
	if err != nil || !info.Mode().IsRegular() {
		return nil // there is none, or a pipe, or Create says what is wrong
	}
	if err := NoEvidence(path); err != nil {
		return err
	}
	if !force {
		return fmt.Errorf("%s is there already, and was left as it is; name another file, or write over it with --force",
			path)
	}
	return nil
}

// NoEvidence is the error for a path, also through a link, of a file that a run left as
// evidence: its ledger, its manifest, its crowd file and the copies beside it.
func NoEvidence(path string) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return nil // Create says so
	}
	dir, name := filepath.Split(full)
	dir = filepath.Clean(dir)
	if filepath.Base(dir) == "files" && isRun(filepath.Dir(dir)) ||
		slices.Contains([]string{"ledger", "run.json", "crowd.yaml", "by-hand.yaml"}, name) && isRun(dir) {
		return fmt.Errorf("%s is evidence of a run, which nothing is written over; name another file", path)
	}
	return nil
}

// isRun tells whether a folder is a run folder.
func isRun(dir string) bool {
	_, ledger := os.Lstat(filepath.Join(dir, "ledger"))
	_, manifest := os.Lstat(filepath.Join(dir, "run.json"))
	return ledger == nil && manifest == nil
}

// Create begins a file at a path, for its owner alone, or as the file was that is there. A
// link is followed. What is no regular file, such as a pipe or a device, is written to
// straight on, and stays what it is.
func Create(path string) (*File, error) {
	x := &File{path: path, perm: 0o600}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		x.path = real
	}
	info, err := os.Stat(x.path)
	switch {
	case err == nil && info.IsDir():
		return nil, fmt.Errorf("%s cannot be written: it is a folder", path)
	case err == nil && !info.Mode().IsRegular():
		x.path = ""
		x.f, err = os.OpenFile(path, os.O_WRONLY, 0)
	default:
		if err == nil {
			x.perm = info.Mode().Perm()
		}
		x.f, x.lock, err = temporary(x.path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be written: %w", path, Cause(err))
	}
	return x, nil
}

// temporary makes the file that takes the place of one when it is whole. What a process that was
// killed left of such a file is removed: nobody holds its lock.
func temporary(path string) (*os.File, *flock.Flock, error) {
	dir, name := filepath.Split(path)
	prefix := "." + name + ".unfinished-"
	if len(prefix) > 200 { // a file's name has 255 bytes at most
		prefix = prefix[:200]
	}
	left, _ := os.ReadDir(filepath.Clean(dir + "."))
	for _, e := range left {
		if !strings.HasPrefix(e.Name(), prefix) || !e.Type().IsRegular() {
			continue
		}
		l := flock.New(filepath.Join(dir, e.Name()))
		if got, err := l.TryLock(); err == nil && got {
			os.Remove(l.Path())
			l.Close()
		}
	}
	for {
		f, err := os.CreateTemp(filepath.Clean(dir+"."), prefix+"*")
		if err != nil {
			return nil, nil, err
		}
		l := flock.New(f.Name())
		got, err := l.TryLock()
		if err != nil { // where there are no locks, nothing is swept
			return f, l, nil
		}
		made, madeErr := f.Stat()
		there, thereErr := os.Lstat(f.Name())
		if got && madeErr == nil && thereErr == nil && os.SameFile(made, there) {
			return f, l, nil
		}
		// Another process took it for one that was left, before it was locked.
		f.Close()
		if got {
			os.Remove(l.Path())
		}
		l.Close()
	}
}

// Regular tells whether it is a file, and no pipe or device.
func (x *File) Regular() bool { return x.path != "" }

// Name is where it is meanwhile.
func (x *File) Name() string { return x.f.Name() }

// Write implements io.Writer.
func (x *File) Write(b []byte) (int, error) { return x.f.Write(b) }

// Keep puts the file in its place. After an error it is dropped.
func (x *File) Keep() error {
	if !x.Regular() {
		return x.f.Close()
	}
	err := x.f.Sync() // or a crash could leave an empty one where one was whole
	if closed := x.f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Chmod(x.Name(), x.perm)
	}
	if err == nil {
		err = os.Rename(x.Name(), x.path)
	}
	if err != nil {
		os.Remove(x.Name())
	}
	x.lock.Close()
	return err
}

// Drop leaves nothing of it. After Keep it does nothing.
func (x *File) Drop() {
	if x.f.Close() == nil && x.Regular() {
		os.Remove(x.Name())
		x.lock.Close()
	}
}

// Write writes a file of some bytes.
func Write(path string, b []byte) error {
	x, err := Create(path)
	if err != nil {
		return err
	}
	if _, err = x.Write(b); err != nil {
		x.Drop()
		return fmt.Errorf("%s could not be written: %w", path, Cause(err))
	}
	if err = x.Keep(); err != nil {
		return fmt.Errorf("%s could not be written: %w", path, Cause(err))
	}
	return nil
}

// WriteOwn writes a file into a folder of the program's own: what is there by this name is
// replaced, and a link is not followed.
func WriteOwn(path string, b []byte) error {
	wrong := func(err error) error { return fmt.Errorf("%s could not be written: %w", path, Cause(err)) }
	if info, err := os.Lstat(path); err == nil && info.IsDir() {
		return wrong(errors.New("it is a folder"))
	}
	f, lock, err := temporary(path)
	if err != nil {
		return wrong(err)
	}
	x := &File{f: f, lock: lock, path: path, perm: 0o600}
	if _, err := x.Write(b); err != nil {
		x.Drop()
		return wrong(err)
	}
	if err := x.Keep(); err != nil {
		return wrong(err)
	}
	return nil
}

// Cause is what is wrong, without the path.
func Cause(err error) error {
	var p *os.PathError
	var l *os.LinkError
	switch {
	case errors.As(err, &p):
		return p.Err
	case errors.As(err, &l):
		return l.Err
	}
	return err
}
