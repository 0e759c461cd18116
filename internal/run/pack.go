package run

import (
	"archive/tar"
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	files "runcrowd/internal/folder"
	"runcrowd/internal/ledger"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
	"runcrowd/internal/wholefile"
)

// PackEnding is how the name of a packed run ends.
const PackEnding = ".run.tar.zst"

// ErrSecret is the error for a run that holds a secret.
var ErrSecret = errors.New("holds a secret")

// Pack packs a run folder into one file: a tar archive (POSIX.1-2001), compressed with zstd
// (RFC 8878). Redact takes secrets out of a text; a file in which it finds one ends packing,
// with an ErrSecret. Only what belongs to a run is packed: what the run left, and its results;
// left are the names of other files. The file is written whole or not at all.
func Pack(folder, path string, results []string, redact func(string) string) (left []string, err error) {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	add := func(in string, m *Manifest) {
		for _, name := range append([]string{LedgerFile, ManifestFile, CrowdFile, ReportJSON, ReportText}, results...) {
			own[in+name] = true
		}
		for _, f := range m.Files {
			own[in+f.Copy] = true
		}
	}
	add("", m)
	for _, part := range Parts(folder) {
		p, err := ReadManifest(part)
		if err != nil {
			return nil, err
		}
		add(filepath.Base(part)+"/", p)
	}
	to, err := wholefile.New(path, false)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			to.Drop()
		}
	}()
	z, err := zstd.NewWriter(to)
	if err != nil {
		return nil, err
	}
	t := tar.NewWriter(z)
	top := fmt.Sprintf("%s-%s", m.Crowd, m.Run)
	err = filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		rel, relErr := filepath.Rel(folder, name)
		switch {
		case err != nil || relErr != nil:
			return errors.Join(err, relErr)
		case d.IsDir() || filepath.Base(rel) == ledger.LockName:
			return nil
		case !own[filepath.ToSlash(rel)] || !info.Mode().IsRegular():
			left = append(left, rel)
			return nil
		}
		return packFile(t, name, top+"/"+filepath.ToSlash(rel), info, redact)
	})
	if err == nil {
		err = errors.Join(t.Close(), z.Close())
	}
	if err == nil {
		err = to.Keep()
	}
	if err != nil && !errors.Is(err, ErrSecret) {
		err = fmt.Errorf("%s could not be written: %w", path, wholefile.Cause(err))
	}
	return left, err
}

func packFile(t *tar.Writer, name, as string, info fs.FileInfo, redact func(string) string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := t.WriteHeader(&tar.Header{Name: as, Mode: 0o600, Size: info.Size(),
		ModTime: info.ModTime().Truncate(time.Second), Format: tar.FormatPAX}); err != nil {
		return err
	}
	w := &watch{redact: redact}
	// A run that still plays grows: what was there when its size was read is packed.
	n, err := io.Copy(io.MultiWriter(t, w), io.LimitReader(f, info.Size()))
	if err == nil && n < info.Size() {
		err = io.ErrUnexpectedEOF
	}
	if err == nil && w.found {
		err = fmt.Errorf("%s %w", filepath.Base(name), ErrSecret)
	}
	return err
}

// watch looks for secrets in what is written to it.
type watch struct {
	redact func(string) string
	held   []byte // the end of what came, in which a secret may begin
	found  bool
}

// overlap is how long a secret may be.
const overlap = 4096

// Write implements io.Writer.
func (w *watch) Write(b []byte) (int, error) {
	if w.redact == nil || w.found {
		return len(b), nil
	}
	text := string(w.held) + string(b)
	w.found = w.redact(text) != text
	w.held = append(w.held[:0], text[max(0, len(text)-overlap):]...)
	return len(b), nil
}

// Limits bound what a packed run may hold, against one that was made to fill a disk.
type Limits struct {
	Bytes int64 // in all; 0: Times as many as it is large, at least leastUnpacked, at most mostUnpacked
	Files int   // 0: mostPacked
}

// The limits where none are given.
const (
	ratio         = 100 // a ledger is compressed to a fifth or a tenth
	leastUnpacked = 64 << 20
	mostUnpacked  = 20 << 30
	mostPacked    = 1000
)

// bytes is what a pack of some size may hold.
func (l Limits) bytes(size int64) int64 {
	if l.Bytes > 0 {
		return l.Bytes
	}
	return min(mostUnpacked, max(leastUnpacked, ratio*size))
}

// Unpack unpacks a packed run into a folder that is made in dir, and gives its path.
func Unpack(path, dir string, limits Limits) (folder string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", path, wholefile.Cause(err))
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is no regular file")
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w", path, wholefile.Cause(err))
	}
	z, err := zstd.NewReader(bufio.NewReader(f), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return "", err
	}
	defer z.Close()
	wrong := func(err error) error {
		return fmt.Errorf("%s is no packed run, or is not whole: %w", path, wholefile.Cause(err))
	}
	most, mostFiles := limits.bytes(info.Size()), cmp.Or(limits.Files, mostPacked)
	left := &bounded{r: z, left: most + 1<<20 + int64(mostFiles)<<12} // with the archive's own headers
	t, total := tar.NewReader(left), int64(0)
	much := fmt.Errorf("%s was not unpacked: it holds more than %s, which is much for a file of %s; if it comes from where "+
		"you trust it, raise --unpack-limit", path, quantity.FormatSize(most), quantity.FormatSize(info.Size()))
	for files := 0; ; files++ {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if left.over {
			return "", much
		}
		if err != nil {
			return "", wrong(err)
		}
		if files == mostFiles {
			return "", wrong(fmt.Errorf("it holds more than %d files", mostFiles))
		}
		name := filepath.FromSlash(h.Name)
		if h.Typeflag != tar.TypeReg || !filepath.IsLocal(name) || strings.Count(filepath.ToSlash(name), "/") < 1 ||
			len(name) > 512 {
			return "", wrong(fmt.Errorf("%q does not belong into one", h.Name[:min(100, len(h.Name))]))
		}
		if total += h.Size; total > most {
			return "", much
		}
		top, _, _ := strings.Cut(filepath.ToSlash(name), "/")
		if folder == "" {
			folder = filepath.Join(dir, top)
		} else if folder != filepath.Join(dir, top) {
			return "", wrong(errors.New("it holds more than one run"))
		}
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return "", err
		}
		out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return "", wrong(err)
		}
		_, err = io.Copy(out, t)
		if closed := out.Close(); err == nil {
			err = closed
		}
		if left.over {
			return "", much
		}
		if err != nil {
			return "", wrong(err)
		}
	}
	if folder == "" {
		return "", wrong(errors.New("it is empty"))
	}
	return folder, nil
}

// bounded ends where more is read than it may hold.
type bounded struct {
	r    io.Reader
	left int64
	over bool
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		b.over = true
		return 0, io.ErrUnexpectedEOF
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// Kept is a run folder among others.
type Kept struct {
	Folder  string    `json:"folder"`
	Run     string    `json:"run"`
	Crowd   string    `json:"crowd"`
	Started time.Time `json:"started"`
	Bytes   int64     `json:"bytes"`
	Playing bool      `json:"playing"`
	Judged  bool      `json:"judged"` // it has a report, and what follows is of that
	Due     int       `json:"due"`
	Proven  int       `json:"proven"`
	Met     bool      `json:"requirements_met"`
	// Undecided: a requirement is undecided, and none is not met.
	Undecided bool `json:"undecided"`
	Ended     bool `json:"ended"` // it was played to its end
}

// Find is the run folder, or pack, that a name means: what is there of that name; or of the run
// folders in dir, the newest for "last", and else the one whose id or name it is, or whose alone it
// begins. A name that means none is given back as it is.
func Find(dir, name string) (string, error) {
	if _, err := os.Stat(name); err == nil || strings.ContainsAny(name, `/\`) || name == "" {
		return name, nil
	}
	entries, _ := os.ReadDir(dir) // without the folder there is none
	var begin []string
	newest, at := "", time.Time{}
	for _, e := range entries {
		folder := filepath.Join(dir, e.Name())
		m, err := ReadManifest(folder)
		if err != nil {
			continue // something else
		}
		if m.Run == name || e.Name() == name {
			return folder, nil
		}
		if strings.HasPrefix(m.Run, name) || strings.HasPrefix(e.Name(), name) {
			begin = append(begin, folder)
		}
		if m.Started.After(at) {
			newest, at = folder, m.Started
		}
	}
	switch {
	case name == "last" && newest != "":
		return newest, nil
	case name == "last":
		return "", fmt.Errorf("there is no run in %s", dir)
	case len(begin) == 1:
		return begin[0], nil
	case len(begin) > 1:
		return "", fmt.Errorf("%q begins the names of %d runs in %s: %s and others; write more of it", name, len(begin), dir,
			filepath.Base(begin[0]))
	}
	return name, nil
}

// List lists the run folders in a folder, the newest first.
func List(dir string) ([]Kept, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", dir, wholefile.Cause(err))
	}
	var list []Kept
	for _, e := range entries {
		folder := filepath.Join(dir, e.Name())
		if !e.IsDir() {
			continue
		}
		m, err := ReadManifest(folder)
		if err != nil {
			continue // something else
		}
		k := Kept{Folder: folder, Run: m.Run, Crowd: m.Crowd, Started: m.Started, Playing: Busy(folder)}
		filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				if info, err := d.Info(); err == nil {
					k.Bytes += info.Size()
				}
			}
			return nil
		})
		if text, err := files.ReadIn(folder, ReportJSON); err == nil {
			var r struct {
				Run         string         `json:"run"`
				Due         int            `json:"due"`
				Verdicts    map[string]int `json:"verdicts"`
				Met         bool           `json:"requirements_met"`
				Checks      []proof.Check  `json:"requirements"`
				Ended       bool           `json:"ended"`
				Interrupted bool           `json:"interrupted"`
				Missing     []string       `json:"parts_missing"`
			}
			if json.Unmarshal(text, &r) == nil && r.Run == m.Run {
				k.Undecided = !r.Met && !slices.ContainsFunc(r.Checks, func(c proof.Check) bool { return c.State == proof.NotMet })
				k.Judged, k.Due, k.Proven, k.Met, k.Ended = true, r.Due, r.Verdicts["proven"], r.Met, r.Ended && !r.Interrupted && len(r.Missing) == 0
			}
		}
		list = append(list, k)
	}
	slices.SortStableFunc(list, func(a, b Kept) int { return b.Started.Compare(a.Started) })
	return list, nil
}

// Remove removes a run folder that nobody plays or verifies.
func Remove(folder string) error {
	if _, err := ReadManifest(folder); err != nil {
		return err
	}
	if Busy(folder) {
		return fmt.Errorf("%s: a process plays or verifies this run", folder)
	}
	return os.RemoveAll(folder)
}
