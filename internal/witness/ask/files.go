package ask

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/rowfile"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// mostFiles bounds how many files a pattern may stand for.
const mostFiles = 10_000

// atRest is how long nobody wrote to a file whose last line has no end, for that to be whole.
const atRest = 2 * time.Second

// files is a source that is the files which a platform exports. Each file is a page: what
// two files hold may be the same row, exported twice.
type files struct {
	spec    *crowd.Witness
	catalog *match.Catalog

	mu   sync.Mutex
	read map[string]os.FileInfo // as they were when they were read last
}

func newFiles(spec *crowd.Witness, c *match.Catalog) *files {
	return &files{spec: spec, catalog: c, read: map[string]os.FileInfo{}}
}

func (f *files) form() rowfile.Form { return rowfile.Form(f.spec.FileForm) }

// names lists the files to look through for a device.
func (f *files) names(d *fleet.Device) ([]string, error) {
	pattern, err := f.spec.Addresses[d.Cast].Expand(&formula.Machine{}, d.Env)
	if err != nil {
		return nil, fmt.Errorf("the witness %q: file: %w", f.spec.Name, err)
	}
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(f.catalog.Folder, pattern)
	}
	list, err := rowfile.Names(pattern, f.form())
	if err == nil && len(list) > mostFiles {
		err = fmt.Errorf("%s stands for %d files; at most %d are read: name fewer", pattern, len(list), mostFiles)
	}
	return list, err
}

// Start implements Source: heads that do not fit are told before anything is sent.
func (f *files) Start(_ hearing.Context, d *fleet.Device) error {
	list, err := f.names(d)
	if err != nil {
		return err
	}
	for _, name := range list {
		r, err := f.open(name)
		if err != nil {
			var cut *rowfile.CutError
			if errors.As(err, &cut) || errors.Is(err, os.ErrNotExist) {
				continue // it is being written
			}
			return fmt.Errorf("the witness %q: %w", f.spec.Name, err)
		}
		r.Close()
	}
	return nil
}

func (f *files) open(name string) (*rowfile.Reader, error) {
	columns := f.spec.Columns
	if f.spec.Mark == "" && f.spec.Body == "" && f.spec.Sees() && len(f.catalog.Places) == 1 {
		columns = append(slices.Clone(columns), f.catalog.Places[0].Name)
	}
	return rowfile.Open(name, rowfile.Options{Form: f.form(), MaxRow: f.spec.MaxRow, Columns: columns})
}

// Ask implements Source.
func (f *files) Ask(ctx hearing.Context, q Question) (pages int, err error) {
	var seen []os.FileInfo // a file that was renamed meanwhile is not read twice
	for range 3 {          // a name that went away while they were read: its file has another now
		list, err := f.names(q.Device)
		if err != nil {
			return pages, err
		}
		gone := false
		for _, name := range list {
			info, err := os.Stat(name)
			if errors.Is(err, os.ErrNotExist) {
				gone = true
				continue
			}
			if err != nil {
				return pages, fmt.Errorf("%s: %s", name, folder.Why(err))
			}
			if slices.ContainsFunc(seen, func(x os.FileInfo) bool { return os.SameFile(x, info) }) {
				continue
			}
			seen = append(seen, info)
			if !q.Whole && f.same(name, info) {
				continue
			}
			q.Cursor.Turn()
			err = patiently(ctx, q.Cursor, func() (bool, time.Duration, error) {
				err := f.page(ctx, name, q)
				var half *rowfile.HalfError
				var cut *rowfile.CutError
				return q.Whole && (errors.As(err, &half) || errors.As(err, &cut)), 0, err
			})
			switch {
			case errors.Is(err, os.ErrNotExist):
				seen, gone = seen[:len(seen)-1], true
			case err != nil && q.Whole:
				return pages, err
			case err == nil:
				pages++
				f.keep(name, info)
			}
		}
		if !gone {
			break
		}
	}
	return pages, ctx.Err()
}

func (f *files) same(name string, now os.FileInfo) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	was := f.read[name]
	return was != nil && os.SameFile(was, now) && was.Size() == now.Size() && was.ModTime().Equal(now.ModTime())
}

func (f *files) keep(name string, info os.FileInfo) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.read[name] = info
}

// page reads a file.
func (f *files) page(ctx hearing.Context, name string, q Question) error {
	r, err := f.open(name)
	if err != nil {
		return err
	}
	defer r.Close()
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		row, err := r.Next()
		var half *rowfile.HalfError
		switch {
		case err == io.EOF:
			return nil
		case errors.As(err, &half) && half.Row != nil && rests(name):
			q.Cursor.Row(half.Row)
			return nil
		case err != nil:
			return err
		}
		q.Cursor.Row(row)
	}
}

// rests tells whether nobody wrote to a file for a while.
func rests(name string) bool {
	info, err := os.Stat(name)
	return err == nil && time.Since(info.ModTime()) >= atRest
}

// Offset implements Source.
func (f *files) Offset() (*ledger.Offset, bool) { return nil, false }

// Stop implements Source.
func (f *files) Stop() {}
