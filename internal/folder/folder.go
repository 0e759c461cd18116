// Package folder reads the files that stand beside a crowd file and are named in it.
package folder

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// MaxFile is the largest file that is read, in bytes.
const MaxFile = 64 << 20

// Read reads a file that is named in the file at path: a regular one. A name that is not
// absolute is looked for from the folder of that file.
func Read(path, name string) ([]byte, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(filepath.Dir(path), name)
	}
	return ReadRegular(name)
}

// ReadFile reads a file of at most MaxFile bytes; also one that is no regular file.
func ReadFile(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.IsDir() {
		return nil, errors.New("it is a folder")
	}
	return readAll(f)
}

func readAll(f *os.File) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(f, MaxFile+1))
	if err != nil {
		return nil, err
	}
	if len(data) > MaxFile {
		return nil, fmt.Errorf("it is longer than %d MB", MaxFile>>20)
	}
	return data, nil
}

// Open opens a file in a folder that may be somebody else's: a regular one, that is no link.
// Flag is as for [os.OpenFile].
func Open(dir, name string, flag int) (*os.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	name = filepath.FromSlash(name)
	no := func(why error) error { return &os.PathError{Op: "open", Path: filepath.Join(dir, name), Err: why} }
	before, err := root.Lstat(name)
	switch {
	case err != nil:
		return nil, err
	case before.IsDir():
		return nil, no(errors.New("it is a folder"))
	case before.Mode()&os.ModeSymlink != 0:
		return nil, no(ErrLink)
	case !before.Mode().IsRegular():
		return nil, no(ErrNotRegular)
	}
	f, err := root.OpenFile(name, flag, 0)
	if err != nil {
		return nil, err
	}
	if after, err := f.Stat(); err != nil || !os.SameFile(before, after) {
		f.Close()
		return nil, no(errors.New("it is another file by now"))
	}
	return f, nil
}

// Why Open does not open a file.
var (
	ErrLink       = errors.New("it is a link, which is not followed")
	ErrNotRegular = errors.New("it is no regular file")
)

// ReadIn reads a file of at most MaxFile bytes in a folder that may be somebody else's, as Open
// does.
func ReadIn(dir, name string) ([]byte, error) {
	f, err := Open(dir, name, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readAll(f)
}

// ReadRegular is ReadFile for regular files alone: what is none, such as a pipe that nobody
// writes to, is not opened, since that may never end.
func ReadRegular(name string) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, ErrNotRegular
	}
	return ReadFile(name)
}

// Why is why a file could not be read, without its path.
func Why(err error) string {
	var pe *os.PathError
	switch {
	case errors.Is(err, os.ErrNotExist):
		return "there is no such file"
	case errors.As(err, &pe):
		return pe.Err.Error()
	}
	return err.Error()
}
