package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runcrowd/internal/credential"
	files "runcrowd/internal/folder"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"

	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
	"runcrowd/internal/witness"
)

// ReadManifest reads what a run folder is of.
func ReadManifest(folder string) (*Manifest, error) {
	info, err := os.Stat(folder)
	if err != nil {
		return nil, fmt.Errorf("%s: there is no such run folder", folder)
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("%s: is a file; name the run folder that a run left", folder)
	}
	text, err := os.ReadFile(filepath.Join(folder, ManifestFile))
	if err != nil {
		return nil, fmt.Errorf("%s: is no run folder: it has no %s", folder, ManifestFile)
	}
	var m Manifest
	if err := json.Unmarshal(text, &m); err != nil || m.Run == "" {
		return nil, fmt.Errorf("%s: its %s cannot be read", folder, ManifestFile)
	}
	return &m, nil
}

// ReadLedger reads the ledger of a run folder.
func ReadLedger(folder string) (*ledger.Book, error) {
	b, err := ledger.Read(filepath.Join(folder, LedgerFile))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("%s: its ledger is missing", folder)
	case err != nil:
		return nil, fmt.Errorf("%s: its ledger cannot be read: %w", folder, err)
	}
	return b, nil
}

// bookExpect tells from a ledger what witnesses should find.
type bookExpect struct {
	book  *ledger.Book
	round int
}

func (e bookExpect) Range(stream int) (from, to uint64) {
	for i := range e.book.Messages[stream] {
		m := &e.book.Messages[stream][i]
		if m.Round != e.round {
			continue
		}
		if from == 0 {
			from = m.Seq
		}
		to = m.Seq + 1
	}
	return from, to
}

func (e bookExpect) Excused(stream int, seq uint64) bool {
	o := e.book.Messages[stream][seq-1].Outcome
	return o == outcome.Refused || o == outcome.Unsent
}

// Busy tells whether a process plays or verifies the run of a folder.
func Busy(folder string) bool { return ledger.Busy(filepath.Join(folder, LedgerFile)) }

// Unheard lists the witnesses that were not heard to the end and can still be
// asked: queries. With all, queries that were heard are listed too.
func Unheard(b *ledger.Book, c *crowd.Crowd, all bool) []int {
	var list []int
	for i, w := range b.Witnesses {
		if i >= len(c.Witnesses) || c.Witnesses[i].Get == "" {
			continue
		}
		heard := true
		for _, r := range b.Rounds {
			heard = heard && w.Heard[r.N].Complete
		}
		if all || !heard {
			list = append(list, i)
		}
	}
	return list
}

// HearAgain asks those witnesses of an earlier run that were not heard to the end, or
// with all every one that can be asked, and adds what they say to its ledger. C is the
// crowd file of the run folder. Before a witness is asked, asking is told its name. The
// error is ledger.ErrBusy where the run still plays, or is verified elsewhere.
func HearAgain(ctx context.Context, folder string, c *crowd.Crowd, all bool, asking func(witness string)) error {
	f, err := fleet.Build(c, nil)
	if err != nil {
		return err
	}
	m, err := ReadManifest(folder)
	if err != nil {
		return err
	}
	// Keys never reach a run folder: witnesses that need one find it where it was.
	f.Credentials = credential.New(c)
	f.Credentials.Open = func(name string) ([]byte, error) { return files.Read(m.File, name) }
	w, b, err := ledger.Reopen(filepath.Join(folder, LedgerFile))
	switch {
	case errors.Is(err, ledger.ErrBusy):
		return err
	case err != nil:
		return &StorageError{folder, err}
	}
	err = hearAgain(ctx, f, w, b, folder, Unheard(b, c, all), asking)
	if closed := w.Close(); closed != nil {
		return &StorageError{folder, closed}
	}
	return err
}

func hearAgain(ctx context.Context, f *fleet.Fleet, w *ledger.Writer, b *ledger.Book, folder string, which []int, asking func(witness string)) error {
	c := f.Crowd
	if len(f.Streams) != len(b.Streams) {
		return fmt.Errorf("the crowd file in %s does not fit its ledger: it describes %d streams, the ledger has %d", folder, len(f.Streams), len(b.Streams))
	}
	for i, s := range f.Streams {
		if d := engine.Describe(f, s); d.Device != b.Streams[i].Device || d.Reading != b.Streams[i].Reading {
			return fmt.Errorf("the crowd file in %s does not fit its ledger: it describes %s where the ledger has %s", folder, d.Device, b.Streams[i].Device)
		}
	}
	catalog := witness.NewCatalog(f, b.Run, b.Start)
	for _, i := range which {
		asking(b.Witnesses[i].Name)
		if err := hearOne(ctx, b, c, catalog, i, w.Page()); err != nil {
			return err
		}
	}
	return nil
}

func hearOne(ctx context.Context, b *ledger.Book, c *crowd.Crowd, catalog *witness.Catalog, i int, page *ledger.Page) error {
	wit, err := witness.New(c.Witnesses[i], i, catalog, page)
	if err != nil {
		return err
	}
	defer wit.Stop()
	if err := wit.Start(ctx); err != nil {
		return err
	}
	if k, ok := wit.(witness.Knower); ok {
		for j := range b.Sightings {
			if b.Sightings[j].Witness == i {
				k.Know(&b.Sightings[j])
			}
		}
	}
	for _, r := range b.Rounds {
		round := witness.Round{N: r.N, Begin: r.Begin, End: r.End, Expect: bookExpect{b, r.N}}
		complete, why := wit.Hear(ctx, round)
		page.Heard(i, r.N, complete, c.Redact(why))
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// LoadCopy loads the crowd file of a run folder.
func LoadCopy(folder string) (*crowd.Crowd, error) {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, CrowdFile)
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be read: %w", path, cause(err))
	}
	return file.Parse(path, source, file.Sources{Getenv: os.LookupEnv, WithoutValues: true, Open: func(name string) ([]byte, error) {
		for _, f := range m.Files {
			if f.Name == name {
				return os.ReadFile(filepath.Join(folder, filepath.FromSlash(f.Copy)))
			}
		}
		return nil, os.ErrNotExist
	}})
}

// Judge judges a run folder.
func Judge(folder string, keep int) (*Manifest, *verdict.Result, []proof.Check, error) {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil, nil, nil, err
	}
	b, err := ReadLedger(folder)
	if err != nil {
		return nil, nil, nil, err
	}
	if b.Run != m.Run {
		return nil, nil, nil, fmt.Errorf("%s: its ledger is of the run %s, its %s of the run %s", folder, b.Run, ManifestFile, m.Run)
	}
	res := verdict.Judge(b, verdict.Options{PerVerdict: keep})
	res.Playing = !b.Ended && Busy(folder)
	return m, res, res.Check(m.Require), nil
}
