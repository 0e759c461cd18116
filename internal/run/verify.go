package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/evidence"
	"runcrowd/internal/fleet"
	files "runcrowd/internal/folder"
	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
	"runcrowd/internal/wholefile"
	"runcrowd/internal/witness"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
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
	if parts := Parts(folder); parts != nil {
		return together(parts)
	}
	text, err := files.ReadIn(folder, ManifestFile)
	if err != nil {
		return nil, fmt.Errorf("%s: is no run folder: it has no %s", folder, ManifestFile)
	}
	var m Manifest
	if err := json.Unmarshal(text, &m); err != nil || m.Run == "" {
		return nil, fmt.Errorf("%s: its %s cannot be read", folder, ManifestFile)
	}
	return &m, nil
}

// ReadLedger reads the whole ledger of a short run.
func ReadLedger(folder string) (*ledger.Book, error) {
	b, err := ledger.Read(filepath.Join(folder, LedgerFile))
	return b, ledgerError(folder, err)
}

// ReadLedgerOf reads what the ledger of a run folder has of some messages of one stream, also
// while the run plays.
func ReadLedgerOf(folder string, stream int, first, last uint64) (*ledger.Book, error) {
	b, err := ledger.ReadOf(filepath.Join(folder, LedgerFile), stream, first, last)
	return b, ledgerError(folder, err)
}

// expectations tells from the evidence what witnesses should find.
type expectations struct {
	// ends are by stream and round, from 1: the sequence number after the last of it. Each
	// round begins where the one before ends. It is four bytes for each.
	ends      [][]uint32
	excused   []ledger.Spans // by stream
	corrupted []ledger.Spans // the same
	facts     *ledger.Facts
}

// mostRounds bounds what a number of a ledger may cost in memory.
const mostRounds = 10_000_000

func expected(e *evidence.Evidence) (*expectations, error) {
	x := &expectations{facts: e.Facts, ends: make([][]uint32, len(e.Streams)), excused: make([]ledger.Spans, len(e.Streams)),
		corrupted: make([]ledger.Spans, len(e.Streams))}
	last := 0 // the last round that witnesses can be heard for; a damaged number is none
	for _, r := range e.Rounds {
		last = max(last, min(r.N, mostRounds))
	}
	err := e.Cases(func(c *evidence.Case) error {
		if c.Stream < 0 || !c.Known {
			return nil
		}
		if c.Seq < math.MaxUint32 && c.Round > 0 && c.Round <= last {
			x.ends[c.Stream] = endOf(x.ends[c.Stream], c.Round, uint32(c.Seq+1))
		}
		if c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard {
			x.corrupted[c.Stream].Add(c.Seq)
		}
		if c.Outcome == outcome.Unsent || c.Outcome == outcome.Dropped ||
			c.Outcome == outcome.Refused && c.Meant == ledger.ToKeep {
			x.excused[c.Stream].Add(c.Seq)
		}
		return nil
	})
	return x, err
}

// of is what is expected in a round.
func (x *expectations) of(round int) hearing.Expect { return roundExpect{x, round} }

// endOf notes that a round ends no earlier. Rounds without a message end where the one before
// does.
func endOf(ends []uint32, round int, end uint32) []uint32 {
	for len(ends) < round {
		last := uint32(1)
		if n := len(ends); n > 0 {
			last = ends[n-1]
		}
		ends = append(ends, last)
	}
	ends[round-1] = max(ends[round-1], end)
	return ends
}

// Corrupted tells whether nothing may be kept of a message.
func (x *expectations) Corrupted(stream int, seq uint64) bool { return x.corrupted[stream].Has(seq) }

type roundExpect struct {
	*expectations
	round int
}

func (e roundExpect) Range(stream int) (from, to uint64) {
	ends := e.ends[stream]
	if e.round < 1 || e.round > len(ends) {
		return 0, 0
	}
	from = 1
	if e.round > 1 {
		from = uint64(ends[e.round-2])
	}
	return from, uint64(ends[e.round-1])
}

// Excused implements hearing.Expect: no witness needs to find what was perhaps never sent.
func (e roundExpect) Excused(stream int, seq uint64) bool {
	return e.excused[stream].Has(seq) || e.facts.Skipped(stream, seq)
}

func (roundExpect) Calls() bool { return false } // its time is over

// JudgedParts are the run folders of the parts that are judged together in a folder; nil where it holds none.
func (m *Manifest) JudgedParts(folder string) (list []string) {
	for _, p := range m.parts {
		list = append(list, filepath.Join(folder, p.Part.folder()))
	}
	return list
}

// Busy tells whether a process plays or verifies the run of a folder.
func Busy(folder string) bool {
	return slices.ContainsFunc(Parts(folder), Busy) || ledger.Busy(filepath.Join(folder, LedgerFile))
}

// Plays is a run folder of a crowd in a folder that is played just now; empty: there is none.
func Plays(dir, crowd string) string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return ""
	}
	for _, e := range slices.Backward(entries) { // the newest first
		folder := filepath.Join(dir, e.Name())
		if !e.IsDir() || !strings.HasPrefix(e.Name(), crowd+"-") || !Busy(folder) {
			continue
		}
		if m, err := ReadManifest(folder); err == nil && m.Crowd == crowd {
			return folder
		}
	}
	return ""
}

// Unheard lists the witnesses that were not heard to the end and can still be
// asked: queries. With all, queries that were heard are listed too.
func Unheard(f *ledger.Facts, c *crowd.Crowd, all bool) []int {
	var list []int
	for i, w := range f.Witnesses {
		if i >= len(c.Witnesses) || c.Witnesses[i].Listens() {
			continue
		}
		heard := len(w.Lost) == 0
		for _, r := range f.Rounds {
			heard = heard && w.Heard[r.N].Complete
		}
		if all || !heard {
			list = append(list, i)
		}
	}
	return list
}

// Again says how witnesses of an earlier run are heard again.
type Again struct {
	All     bool                 // also those that were heard to the end
	Wait    time.Duration        // how long each looks for what is missing; 0: as the crowd file says
	Asking  func(witness string) // is told the name of each before it is asked
	Network link.Network         // how connections are opened; nil is the usual way
}

// HearAgain asks those witnesses of an earlier run that were not heard to the end and can
// be asked, and adds what they say to its ledger. C is the crowd file of the run folder.
// The error is ledger.ErrBusy where the run still plays, or is verified elsewhere.
func HearAgain(ctx context.Context, folder string, c *crowd.Crowd, how Again) error {
	f, err := fleet.Build(c, nil)
	if err != nil {
		return err
	}
	m, err := ReadManifest(folder)
	if err != nil {
		return err
	}
	if m.Part != nil {
		f.Share(m.Part.Share())
	}
	// Keys never reach a run folder: witnesses that need one find it where it was.
	f.Credentials = credential.New(c)
	f.Credentials.Open = func(name string) ([]byte, error) { return files.Read(m.File, name) }
	w, err := ledger.Reopen(filepath.Join(folder, LedgerFile))
	switch {
	case errors.Is(err, ledger.ErrBusy):
		return err
	case err != nil:
		return &StorageError{folder, err}
	}
	err = hearAgain(ctx, f, w, folder, how)
	if closed := w.Close(); closed != nil {
		return &StorageError{folder, closed}
	}
	return err
}

func hearAgain(ctx context.Context, f *fleet.Fleet, w *ledger.Writer, folder string, how Again) error {
	e, err := openEvidence(folder, 0)
	if err != nil {
		return err
	}
	defer e.Close()
	if err := e.Finish(); err != nil {
		return ledgerError(folder, err)
	}
	if err := fits(f, e.Facts, folder); err != nil {
		return err
	}
	x, err := expected(e)
	if err != nil {
		return ledgerError(folder, err)
	}
	catalog := match.NewCatalog(f, e.Run)
	catalog.Network, catalog.Corrupted = how.Network, x.Corrupted
	if m, err := ReadManifest(folder); err == nil {
		catalog.Folder = filepath.Dir(m.File)
	}
	if catalog.Index != nil {
		err := e.Cases(func(c *evidence.Case) error {
			if c.Stream >= 0 && c.Known {
				catalog.Index.Add(c.Stream, c.Seq, c.Carried())
			}
			return nil
		})
		if err != nil {
			return ledgerError(folder, err)
		}
	}
	for _, i := range Unheard(e.Facts, f.Crowd, how.All) {
		if how.Asking != nil {
			how.Asking(e.Witnesses[i].Name)
		}
		spec := *f.Crowd.Witnesses[i]
		if how.Wait > 0 {
			spec.Wait = how.Wait
		}
		if err := hearOne(ctx, e, x, &spec, f.Crowd, catalog, i, w.WitnessPage(i)); err != nil {
			return err
		}
	}
	return nil
}

// fits tells whether the streams of a fleet are those of a ledger.
func fits(f *fleet.Fleet, x *ledger.Facts, folder string) error {
	if len(f.Streams) != len(x.Streams) {
		return fmt.Errorf("the crowd file in %s does not fit its ledger: it describes %d streams, the ledger has %d", folder,
			len(f.Streams), len(x.Streams))
	}
	for i, s := range f.Streams {
		if d := engine.Describe(f, s); d.Device != x.Streams[i].Device || d.Reading != x.Streams[i].Reading {
			return fmt.Errorf("the crowd file in %s does not fit its ledger: it describes %s where the ledger has %s", folder,
				d.Device, x.Streams[i].Device)
		}
	}
	return nil
}

func hearOne(ctx context.Context, e *evidence.Evidence, x *expectations, spec *crowd.Witness, c *crowd.Crowd,
	catalog *match.Catalog, i int, page *ledger.Page) error {
	wit, err := witness.New(spec, i, catalog, page)
	if err != nil {
		return err
	}
	defer wit.Stop()
	_, said := wit.(hearing.AlertKnower)
	if k, ok := wit.(hearing.CountKnower); ok && (said || e.Witnesses[i].Before != nil) {
		if err := k.KnowCounts(e.Witnesses[i].From, e.Witnesses[i].Before); err != nil {
			for _, r := range e.Rounds { // what it said then counts
				if !e.Witnesses[i].Heard[r.N].Complete {
					page.Heard(i, r.N, false, foreign.Line(c.Redact(err.Error()), 0))
				}
			}
			return nil
		}
	}
	if err := wit.Start(ctx); err != nil {
		return err
	}
	if err := tellKnown(e, wit, i); err != nil {
		return err
	}
	for n, r := range e.Rounds {
		if spec.Latest && n < len(e.Rounds)-1 {
			continue // what was the newest then is shown no more
		}
		heard := hearing.Round{N: r.N, Expect: x.of(r.N)}
		heard.Begin, heard.End = r.Window(e.LastWrite)
		complete, why := wit.Hear(ctx, heard)
		if spec.Latest && complete && wit.Awaited() > 0 {
			if e.Witnesses[i].Heard[r.N].Complete {
				continue // what it showed then counts
			}
			complete, why = false, "it shows the latest alone, and was asked again later: something newer may have taken the "+
				"place of what is missing"
		}
		page.Heard(i, r.N, complete, foreign.Line(c.Redact(why), 0))
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// tellKnown tells a witness what it is known to have found and said before.
func tellKnown(e *evidence.Evidence, wit hearing.Witness, i int) error {
	if k, ok := wit.(hearing.AlertKnower); ok {
		for n := range e.Alerts {
			if e.Alerts[n].Witness == i {
				for s := range e.Alerts[n].Said {
					k.KnowSaid(&e.Alerts[n].Said[s])
				}
			}
		}
	}
	k, ok := wit.(hearing.Knower)
	if !ok {
		return nil
	}
	return e.Cases(func(c *evidence.Case) error {
		for n := range c.Sightings {
			if s := &c.Sightings[n]; s.Witness == i {
				known := s.Ledger(c)
				k.Know(&known)
			}
		}
		return nil
	})
}

// openEvidence opens the ledger of a run folder to gather from it, within some memory; 0
// is the usual.
func openEvidence(folder string, memory int64) (*evidence.Evidence, error) {
	opt := evidence.Options{Memory: memory, Compare: verdict.Same, Temp: []string{folder}}
	parts := []evidence.Part{{Path: filepath.Join(folder, LedgerFile)}}
	if Parts(folder) != nil {
		m, err := ReadManifest(folder)
		if err != nil {
			return nil, err
		}
		parts = nil
		for _, p := range m.parts {
			parts = append(parts, evidence.Part{Path: filepath.Join(folder, p.Part.folder(), LedgerFile), Name: p.Part.String(), Run: p.Run})
		}
	}
	e, err := evidence.OpenParts(parts, opt)
	if err != nil {
		return nil, ledgerError(folder, err)
	}
	return e, nil
}

// ledgerError says what is wrong with the ledger of a run folder.
func ledgerError(folder string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("%s: its ledger is missing", folder)
	}
	return fmt.Errorf("%s: its ledger cannot be read: %w", folder, err)
}

// LookLedger reads what the ledger of a run folder tells beside its messages.
func LookLedger(folder string) (*ledger.Facts, error) {
	if Parts(folder) != nil {
		m, err := ReadManifest(folder)
		if err != nil {
			return nil, err
		}
		var all []*ledger.Facts
		for i, part := range m.JudgedParts(folder) {
			f, err := LookLedger(part)
			if err != nil {
				return nil, err
			}
			f.Name = m.parts[i].Part.String()
			all = append(all, f)
		}
		return ledger.Together(all)
	}
	f, err := ledger.Look(filepath.Join(folder, LedgerFile))
	return f, ledgerError(folder, err)
}

// LoadCopy loads the crowd file of a run folder, to ask its witnesses: with the values of the
// environment.
func LoadCopy(folder string) (*crowd.Crowd, error) {
	return loadCopy(folder, file.Sources{WithoutValues: true})
}

// ReadCopy reads the crowd file of a run folder to tell who its devices are and what it would
// use: it needs nothing outside the folder. What is not in the environment is in Unset.
func ReadCopy(folder string) (*crowd.Crowd, error) {
	return loadCopy(folder, file.Sources{OnlyRead: true})
}

func loadCopy(folder string, from file.Sources) (*crowd.Crowd, error) {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil, err
	}
	if m.parts != nil { // they have the same
		return loadCopy(filepath.Join(folder, m.parts[0].Part.folder()), from)
	}
	if list := Changed(folder); len(list) > 0 {
		return nil, fmt.Errorf("%s: %s is not as the run left it: it was changed, or is missing; put it back", folder,
			strings.Join(list, ", "))
	}
	path := filepath.Join(folder, CrowdFile)
	source, err := files.ReadIn(folder, CrowdFile)
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be read: %w", path, wholefile.Cause(err))
	}
	from.Getenv, from.Open = os.LookupEnv, func(name string) ([]byte, error) {
		for _, f := range m.Files {
			if f.Name == name {
				return files.ReadIn(folder, f.Copy)
			}
		}
		return nil, os.ErrNotExist
	}
	return file.Parse(path, source, from)
}

// Judgement is a run that was judged.
type Judgement struct {
	*tally.Result
	Checks []proof.Check
}

// Judging says how a run is judged.
type Judging struct {
	Keep          int   // findings of each verdict; 0: all
	tally.Options       // but PerVerdict
	Memory        int64 // about how many bytes may be used; 0: evidence.DefaultMemory
}

func (j Judging) options() tally.Options {
	o := j.Options
	o.PerVerdict = j.Keep
	return o
}

// Judge judges a run folder.
func Judge(folder string, how Judging) (*Judgement, error) {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil, err
	}
	playing := Busy(folder) // if so now, the end may come while the ledger is read
	e, err := openEvidence(folder, how.Memory)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	return judge(folder, m, tally.Watch(e, how.options()), playing)
}

func judge(folder string, m *Manifest, w *tally.Watcher, playing bool) (*Judgement, error) {
	res, err := w.Judge()
	if err != nil {
		return nil, ledgerError(folder, err)
	}
	if res.Run != m.Run {
		return nil, fmt.Errorf("%s: its ledger is of the run %s, its %s of the run %s", folder, res.Run, ManifestFile, m.Run)
	}
	res.Playing, res.Missing, res.Attempts = !res.Ended && playing, m.missing, m.attempts
	j := &Judgement{res, res.Check(m.Require)}
	if len(m.attempts) > 0 || m.Part != nil && m.Part.Attempt > 1 {
		j.besideAttempts(m.Require)
	}
	return j, nil
}

// besideAttempts lets what a platform counts, and gives alerts for, decide nothing where another attempt may have sent
// beside the one that is judged: no mark tells these apart.
func (j *Judgement) besideAttempts(list []proof.Requirement) {
	for i := range j.Checks {
		if c := &j.Checks[i]; c.State == proof.NotMet && (list[i].Measure == proof.Alerts || list[i].Measure == proof.Counted) {
			c.State, c.Got = proof.Undecided, c.Got+"; another attempt at a part may have sent, too"
		}
	}
}

// digest identifies a file's text (SHA-256, hexadecimal).
func digest(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Changed names the files of a run folder that are not as the run left them.
func Changed(folder string) []string {
	m, err := ReadManifest(folder)
	if err != nil {
		return nil
	}
	var list []string
	for _, part := range m.JudgedParts(folder) {
		for _, name := range Changed(part) {
			list = append(list, filepath.Base(part)+"/"+name)
		}
	}
	if m.parts != nil {
		return list
	}
	look := func(name, want string) {
		if text, err := files.ReadIn(folder, name); err != nil ||
			digest(text) != want {
			list = append(list, name)
		}
	}
	look(CrowdFile, m.CopySHA256)
	for _, f := range m.Files {
		look(f.Copy, f.CopySHA256)
	}
	return list
}
