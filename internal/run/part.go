package run

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/wholefile"
)

// Part says which part of a run a run folder holds, and which attempt at it.
type Part struct {
	// Name is that of the whole run, the same for all of its parts.
	Name string `json:"name"`
	N    int    `json:"n"` // from 1
	Of   int    `json:"of"`
	// Attempt counts from 1: a scheduler may begin a part again while the attempt before lives on.
	Attempt int `json:"attempt"`
	// Token tells attempts apart where nothing counts them, such as the identity of a pod; it may be empty.
	Token string `json:"token,omitempty"`
}

// Share is the part as fleets know it.
func (p *Part) Share() fleet.Part { return fleet.Part{N: p.N, Of: p.Of} }

func (p *Part) String() string {
	if p.Attempt > 1 || p.Token != "" {
		return fmt.Sprintf("part %d of %d, attempt %d", p.N, p.Of, p.Attempt)
	}
	return fmt.Sprintf("part %d of %d", p.N, p.Of)
}

// ID is the identity that marks carry: the same for the first attempts at all parts of a run, and another for
// each further attempt, so that nobody takes the messages of one for those of another.
func (p *Part) ID() string {
	again := p.Token
	if p.Attempt > 1 {
		again += fmt.Sprintf("\x00%d/%d\x00%d", p.N, p.Of, p.Attempt)
	}
	sum := sha256.Sum256([]byte("runcrowd\x00" + p.Name + "\x00" + again))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:5]))
}

// folder is the name of its run folder.
func (p *Part) folder() string {
	name := fmt.Sprintf("part-%d-of-%d", p.N, p.Of)
	if p.Attempt > 1 {
		name += fmt.Sprintf("-attempt-%d", p.Attempt)
	}
	return name
}

// partFolder is a name of a run folder of a part.
var partFolder = regexp.MustCompile(`^part-([1-9][0-9]{0,4})-of-([1-9][0-9]{0,4})(?:-attempt-([1-9][0-9]{0,5}))?$`)

// partOf reads such a name.
func partOf(name string) (n, of, attempt int, is bool) {
	m := partFolder.FindStringSubmatch(name)
	if m == nil {
		return 0, 0, 0, false
	}
	n, _ = strconv.Atoi(m[1])
	of, _ = strconv.Atoi(m[2])
	if attempt = 1; m[3] != "" {
		attempt, _ = strconv.Atoi(m[3])
	}
	return n, of, attempt, n <= of && of <= fleet.MostParts
}

// WholeFolder is the folder that holds the run folders of the parts of a run, in a folder.
func WholeFolder(out, crowd, name string) string {
	plain := notPlain.ReplaceAllString(name, "_")
	return filepath.Join(out, fmt.Sprintf("%s-%s-%s", crowd, plain[:min(len(plain), 40)], (&Part{Name: name, Attempt: 1}).ID()))
}

// notPlain is what a name may have that a folder's has not.
var notPlain = regexp.MustCompile(`[^A-Za-z0-9._]+`)

// mostAttempts bounds how often a part is tried.
const mostAttempts = 100_000

// claim makes the folder of the part: that of the first attempt that nobody has begun. It is the making of
// the folder that tells attempts apart, also on a file system that several machines share.
func (s *Session) claim() error {
	part := *s.opt.Part
	s.opt.Part = &part
	whole := WholeFolder(s.opt.Out, s.crowd.Name, part.Name)
	s.Folder = whole
	if err := os.MkdirAll(s.opt.Out, 0o755); err != nil {
		return err
	}
	if err := os.Mkdir(whole, 0o700); err != nil && !os.IsExist(err) {
		return err
	}
	for part.Attempt = max(1, part.Attempt); part.Attempt <= mostAttempts; part.Attempt++ {
		s.Folder = filepath.Join(whole, part.folder())
		err := os.Mkdir(s.Folder, 0o700)
		if err == nil {
			s.made, s.ID = true, part.ID()
			return nil
		}
		if !os.IsExist(err) {
			return err
		}
	}
	return fmt.Errorf("there are %d attempts at it already", mostAttempts)
}

// newer is the name of a folder of a later attempt at the part that is played; empty: there is none.
func (s *Session) newer() string {
	p := s.opt.Part
	if p == nil {
		return ""
	}
	entries, err := os.ReadDir(filepath.Dir(s.Folder))
	if err != nil {
		return ""
	}
	for _, e := range entries {
		if n, of, attempt, is := partOf(e.Name()); is && n == p.N && of == p.Of && attempt > p.Attempt {
			return e.Name()
		}
	}
	return ""
}

// Parts are the run folders of the parts of a run, in their order, the attempts at each from the first; nil
// where a folder holds none.
func Parts(folder string) (list []string) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	type found struct {
		n, attempt int
		path       string
	}
	var all []found
	for _, e := range entries {
		if n, _, attempt, is := partOf(e.Name()); is && e.IsDir() {
			all = append(all, found{n, attempt, filepath.Join(folder, e.Name())})
		}
	}
	slices.SortFunc(all, func(a, b found) int { return cmp.Or(cmp.Compare(a.n, b.n), cmp.Compare(a.attempt, b.attempt)) })
	for _, f := range all {
		list = append(list, f.path)
	}
	return list
}

// together is what the run is of whose parts are in some folders. Of several attempts at a part one counts: the
// last that came to its end, or else the last.
func together(folders []string) (*Manifest, error) {
	by := map[int][]*Manifest{}
	var first *Manifest
	for _, folder := range folders {
		m, err := ReadManifest(folder)
		if err != nil {
			return nil, err
		}
		n, of, attempt, _ := partOf(filepath.Base(folder))
		if m.Part == nil || m.Part.N != n || m.Part.Of != of || m.Part.Attempt != attempt {
			return nil, fmt.Errorf("%s: its %s is not of this part", folder, ManifestFile)
		}
		if first == nil {
			first = m
		}
		switch {
		case m.Part.Name != first.Part.Name || m.Part.Of != first.Part.Of:
			return nil, fmt.Errorf("%s: it is part %d of %d of the run %q, and others beside it are of %d, of the run %q", folder, n, of,
				m.Part.Name, first.Part.Of, first.Part.Name)
		case m.CopySHA256 != first.CopySHA256 || m.Seed != first.Seed || !slices.Equal(m.Files, first.Files):
			return nil, fmt.Errorf("%s: it was played from another crowd file than the parts beside it, or with other values", folder)
		}
		by[n] = append(by[n], m)
	}
	all := *first
	all.Part, all.parts = nil, nil
	for n := 1; n <= first.Part.Of; n++ {
		list := by[n]
		if len(list) == 0 {
			all.missing = append(all.missing, fmt.Sprintf("part %d of %d is missing: nothing is known of its devices, nor of what was filed under them", n, first.Part.Of))
			continue
		}
		at := func(m *Manifest) string { return filepath.Join(filepath.Dir(folders[0]), m.Part.folder(), LedgerFile) }
		counts := len(list) - 1
		for i := 0; len(list) > 1 && i < len(list); i++ {
			if f, err := ledger.Look(at(list[i])); err == nil && f.Ended && !f.Interrupted {
				counts = i
			}
		}
		for i, m := range list {
			if i != counts {
				all.attempts = append(all.attempts, fmt.Sprintf("attempt %d at part %d of %d is not counted, attempt %d is; what it sent carries "+
					"other marks", m.Part.Attempt, n, m.Part.Of, list[counts].Part.Attempt))
			}
		}
		if err := ledger.Readable(at(list[counts])); err != nil { // one that was killed at once says nothing
			all.missing = append(all.missing, fmt.Sprintf("%s cannot be read (%s): nothing is known of its devices, nor of what was filed under them", list[counts].Part, wholefile.Cause(err)))
			continue
		}
		all.parts = append(all.parts, list[counts])
	}
	if len(all.parts) == 0 {
		return nil, fmt.Errorf("%s: no part of the run can be read: %s", filepath.Dir(folders[0]), strings.Join(all.missing, "; "))
	}
	all.Run = all.parts[0].Run
	return &all, nil
}

// AwaitParts waits until every part of a run has ended: until the last attempt at each says so in its folder. It ends
// sooner where ctx does, and tells which parts have not ended. The folder may be one that is still to come.
func AwaitParts(ctx context.Context, folder string, most time.Duration) (open []string) {
	over, stop := context.WithTimeout(ctx, most)
	defer stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if open = openParts(folder); len(open) == 0 {
			return nil
		}
		select {
		case <-over.Done():
			return open
		case <-tick.C:
		}
	}
}

// openParts are the parts of a run that have not ended.
func openParts(folder string) (open []string) {
	last, of := map[int]string{}, 0
	for _, path := range Parts(folder) { // the attempts at each from the first
		n, all, _, _ := partOf(filepath.Base(path))
		last[n], of = path, all
	}
	if of == 0 {
		return []string{"every part: none has begun"}
	}
	for n := 1; n <= of; n++ {
		if last[n] == "" {
			open = append(open, fmt.Sprintf("part %d of %d: it has not begun", n, of))
		} else if _, err := os.Stat(filepath.Join(last[n], EndedFile)); err != nil {
			open = append(open, fmt.Sprintf("part %d of %d: %s has not ended", n, of, filepath.Base(last[n])))
		}
	}
	return open
}
