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

// Read reads a file that is named in the file at path. A name that is not absolute is
// looked for from the folder of that file.
func Read(path, name string) ([]byte, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(filepath.Dir(path), name)
	}
	return ReadFile(name)
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
	data, err := io.ReadAll(io.LimitReader(f, MaxFile+1))
	if err != nil {
		return nil, err
	}
	if len(data) > MaxFile {
		return nil, fmt.Errorf("it is longer than %d MB", MaxFile>>20)
	}
	return data, nil
}

// ReadRegular is ReadFile for what the program itself has written: what is no regular file
// is not opened, since that may never end.
func ReadRegular(name string) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no regular file")
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
