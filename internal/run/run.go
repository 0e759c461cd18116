// Package run plays a crowd against its platform, hears the witnesses and
// leaves a run folder behind: the whole way from file to evidence. It prints
// nothing; a caller that wants to show progress asks for it.
package run

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/evidence"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/http"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/proof"
	"runcrowd/internal/rowfile"
	"runcrowd/internal/seal"
	"runcrowd/internal/spread"
	"runcrowd/internal/sqltext"
	"runcrowd/internal/tally"
	"runcrowd/internal/wholefile"
	"runcrowd/internal/witness"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// The files of a run folder.
const (
	LedgerFile   = "ledger"
	ManifestFile = "run.json"
	CrowdFile    = "crowd.yaml"
	ReportText   = "report.txt"
	ReportJSON   = "report.json"
	EndedFile    = "ended.txt" // of a part that was played to its end
	FilesFolder  = "files"     // copies of rosters and other files beside the crowd file
)

// Manifest says what a run folder is of.
type Manifest struct {
	Run    string `json:"run"`
	Crowd  string `json:"crowd"`
	File   string `json:"file"`
	SHA256 string `json:"sha256"` // of the crowd file as it was
	// CopySHA256 is of the copy in the run folder, which has no secrets.
	CopySHA256 string              `json:"copy_sha256"`
	Seed       uint64              `json:"seed"`
	Started    time.Time           `json:"started"`
	Version    string              `json:"version"`
	Require    []proof.Requirement `json:"require"`
	Part       *Part               `json:"part,omitempty"` // nil: it is the whole run
	Files      []ManifestFileEntry `json:"files,omitempty"`
	// SealedBy names the key of the user who played it, and Seal is made with that key of all
	// the rest: requirements, and what the crowd file and the files beside it were.
	SealedBy string `json:"sealed_by,omitempty"`
	Seal     string `json:"seal,omitempty"`

	parts    []*Manifest // of a run in parts, those that are judged
	missing  []string    // the others
	attempts []string    // and attempts that are not judged
}

// ManifestFileEntry is a file that the crowd file reads, and its copy in the run
// folder: without secrets.
type ManifestFileEntry struct {
	Name   string `json:"name"`   // as it stands in the crowd file
	Copy   string `json:"copy"`   // in the run folder
	SHA256 string `json:"sha256"` // of the file as it was
	// CopySHA256 is of the copy.
	CopySHA256 string `json:"copy_sha256"`
}

// StorageError is the error when the run folder could not be written.
type StorageError struct {
	Folder string
	Err    error
}

func (e *StorageError) Error() string {
	return fmt.Sprintf("the run folder %s could not be written: %s; make room, or choose another place with --out",
		e.Folder, wholefile.Cause(e.Err))
}

func (e *StorageError) Unwrap() error { return e.Err }

// Session is one run.
type Session struct {
	Folder string
	ID     string

	crowd              *crowd.Crowd
	fleet              *fleet.Fleet
	links              map[*crowd.Link]link.Link
	ledger             *ledger.Writer
	engine             *engine.Engine
	hand               *hand             // nil: nobody can act on it
	witnesses          []hearing.Witness // nil where a single message is none of its business
	pages              []*ledger.Page
	start              time.Time
	follower           *follower
	log                *slog.Logger // nil: there is none
	turns              func() clock.Turns
	made               bool // its folder was made by it
	opt                Options
	rest               *engine.Rest       // of a run that goes on; nil: it is a new one
	stopped            ledger.Resumed     // of such a run
	skip               []uint64           // and how many sequence numbers it leaves out, by stream
	past               *evidence.Evidence // of it, while it is opened
	cannot             map[int]string     // why a witness of it cannot be asked
	firstRound, pinned time.Time          // when its first round began; and the last, by the plan's clock, where that is another
	giveWay            context.CancelFunc // ends the playing
	gaveWay            atomic.Bool        // to another attempt at its part

	mu       sync.Mutex
	progress Progress
	notes    []string
}

// Progress is how far a session is.
type Progress struct {
	Phase    Phase         `json:"phase"`
	Paused   bool          `json:"paused"` // by a hand
	Stood    time.Duration `json:"-"`      // for how long it was paused
	Round    int           `json:"round"`
	Rounds   int           `json:"rounds"`
	Begin    time.Time     `json:"begin"` // of the round, or of the pause before the next
	End      time.Time     `json:"end,omitzero"`
	Devices  int64         `json:"devices"`
	Joined   int64         `json:"joined"`
	Up       int64         `json:"connected"`
	Due      int64         `json:"due"`
	Sent     int64         `json:"sent"`
	Accepted int64         `json:"acknowledged"`
	Refused  int64         `json:"refused"`
	NotAsked int64         `json:"not_asked"`
	NoAnswer int64         `json:"no_answer"`
	Unsent   int64         `json:"unsent"`
	Drops    int64         `json:"connections_lost"`
	LastDrop string        `json:"last_lost_why,omitempty"`
	Commands int64         `json:"commands"`
	Awaited  []Awaited     `json:"witnesses_wait_for,omitempty"`
	// Planned is how often something went wrong as the plan has it: a network that it cut, a
	// credential that it made wrong.
	Planned int64 `json:"planned_troubles,omitempty"`
	// Witnesses is what each has seen so far, Troubles what went wrong last.
	Witnesses []Seen           `json:"witnesses,omitempty"`
	Troubles  []engine.Trouble `json:"troubles,omitempty"`
}

// Seen is how many messages a witness found so far.
type Seen struct {
	Witness string `json:"witness"`
	Proves  string `json:"proves"`
	N       int    `json:"messages"`
	Asks    bool   `json:"asks"` // it is asked when a round is over
}

// Awaited is how many messages of the round a witness has not found yet.
type Awaited struct {
	Witness string `json:"witness"`
	Proves  string `json:"proves"`
	N       int    `json:"messages"`
	StayOut int    `json:"must_stay_out"` // of these, those that must not be found
}

// Phase is what a session is doing.
type Phase uint8

// The phases.
const (
	Preparing Phase = iota
	Playing
	Hearing
	Pausing
	Done
)

var phases = [...]string{"preparing", "playing", "hearing", "pausing", "done"}

// MarshalText implements encoding.TextMarshaler.
func (p Phase) MarshalText() ([]byte, error) { return []byte(phases[p]), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (p *Phase) UnmarshalText(b []byte) error {
	i := slices.Index(phases[:], string(b))
	if i < 0 {
		return fmt.Errorf("there is no phase %q", b)
	}
	*p = Phase(i)
	return nil
}

// Options say where a run folder is made and by which program.
type Options struct {
	Out     string // folder in which run folders are made
	Version string
	File    string // the crowd file as the user named it
	// Only are the devices that take part; nil: all of the fleet. Witnesses that see
	// none of them are left alone.
	Only []*fleet.Device
	// Links are those to use, and to close; nil: they are made.
	Links map[*crowd.Link]link.Link
	// Network is how connections are opened; nil is the usual way.
	Network link.Network
	// Listen is how callbacks are listened for; nil is net.Listen.
	Listen func(network, address string) (net.Listener, error)
	// Log is told what happens, as it happens; nil: nobody is.
	Log *slog.Logger
	// Key seals what the run will be judged by; nil: it is not sealed.
	Key *seal.Key
	// Judging, if not nil, gathers the evidence while the run plays.
	Judging *Judging
	// Part, if not nil, says which part of a run this is. The fleet was shared accordingly.
	Part *Part
	// StartAt is when the first round begins; zero: at once.
	StartAt time.Time
	// AskLater leaves what querying witnesses are asked after each round to HearAgain.
	AskLater bool
	// Resume is the folder of a run that stopped, and goes on; empty: a new run is made. The fleet is that of
	// LoadRest.
	Resume string
}

// Open reaches the platform, makes the run folder and starts the witnesses. The
// error is a *link.ReachError where the platform could not be reached, a
// *StorageError where the folder could not be made.
func Open(ctx context.Context, f *fleet.Fleet, opt Options) (_ *Session, err error) {
	c := f.Crowd
	devices := opt.Only
	if devices == nil {
		devices = f.Devices
	}
	if err := registered(f, devices); err != nil {
		return nil, err
	}
	s := &Session{ID: newID(), crowd: c, fleet: f, links: opt.Links, start: clock.Now(), log: opt.Log, opt: opt}
	if s.links == nil {
		s.links = Links(c, opt.Network)
	}
	defer func() {
		if err != nil { // nothing stays open: a broker would publish the wills of devices
			s.close()
			s.discard()
		}
	}()
	engine.Shape(f, opt.Network)
	tried := map[*crowd.Link]bool{}
	notYet := map[*fleet.Device]bool{}
	for _, d := range f.NotRegistered() {
		notYet[d] = true
	}
	for _, d := range devices {
		l := d.Cast.Link
		if tried[l] || notYet[d] || d.Gateway != nil {
			continue
		}
		tried[l] = true
		if err := s.links[l].Try(ctx, d.Identity()); err != nil {
			return nil, err
		}
	}
	s.Folder = filepath.Join(opt.Out, fmt.Sprintf("%s-%s-%s", c.Name, s.start.UTC().Format("20060102-150405"), s.ID))
	switch {
	case opt.Resume != "":
		if err := s.reopen(); err != nil {
			return nil, err
		}
		defer func(e *evidence.Evidence) { e.Close() }(s.past)
	case opt.Part != nil:
		if err := s.claim(); err != nil {
			return nil, &StorageError{s.Folder, err}
		}
		fallthrough
	default:
		if err := s.make(opt); err != nil {
			return nil, &StorageError{s.Folder, err}
		}
	}
	s.engine = engine.New(f, s.links, s.ledger, s.ID)
	s.engine.Network, s.engine.Log = opt.Network, opt.Log
	s.engine.Tell = func(text string) { s.note("%s", text) }
	if s.engine.Outside, err = newOutside(f, opt.Network); err != nil {
		return nil, err
	}
	if s.rest != nil {
		s.engine.GoOn(s.rest)
	}
	catalog := match.NewCatalog(f, s.ID)
	catalog.Network, catalog.Listen, catalog.Tell = opt.Network, opt.Listen, s.engine.Tell
	catalog.Corrupted = s.engine.Corrupted
	catalog.Fresh = opt.Part != nil && opt.Resume == ""
	if opt.Resume != "" { // what its crowd file names is beside the file that was played
		catalog.Folder = filepath.Dir(opt.File)
	}
	if catalog.Index != nil {
		s.engine.Carried = catalog.Index.Add
	}
	// All are made before any listens: what they share is complete before it is read.
	for i, spec := range c.Witnesses {
		page := s.ledger.WitnessPage(i)
		s.ledger.Witness(i, &ledger.Witness{Name: spec.Name, Proof: spec.Proof(), Within: within(c, spec),
			WatchCopies: spec.WatchCopies, Wait: spec.Wait, Listens: spec.Listens(), Latest: spec.Latest, Types: types(spec),
			TimeOf: timeOf(spec), Fields: rules(c, spec)})
		if !spec.OnlyHears() && !slices.ContainsFunc(devices, func(d *fleet.Device) bool { return f.Sees(i, d) }) {
			s.witnesses, s.pages = append(s.witnesses, nil), append(s.pages, page)
			continue
		}
		w, err := witness.New(spec, i, catalog, page)
		if err != nil {
			return nil, err
		}
		s.witnesses = append(s.witnesses, w)
		s.pages = append(s.pages, page)
	}
	for i, n := range c.Alerts {
		var fields []string
		for _, call := range n.Calls {
			fields = append(fields, call.Fields...)
		}
		slices.Sort(fields)
		s.ledger.Alert(i, &ledger.Alert{Name: n.Name, Witness: slices.Index(c.Witnesses, n.HeardBy), Within: n.Within,
			Fields: slices.Compact(fields)})
	}
	s.ledger.Flush()
	if opt.Judging != nil {
		if s.follower, err = follow(s.Folder, *opt.Judging); err != nil {
			return nil, &StorageError{s.Folder, err}
		}
	}
	for i, w := range s.witnesses {
		if w == nil {
			continue
		}
		if why := s.knowCounts(i); why != "" {
			s.cannot[i], s.witnesses[i] = why, nil
			w.Stop()
			continue
		}
		if err := w.Start(ctx); err != nil {
			return nil, err
		}
		if s.past != nil {
			if err := tellKnown(s.past, w, i); err != nil {
				return nil, ledgerError(s.Folder, err)
			}
		}
	}
	s.goesOn()
	return s, nil
}

// registered tells of devices that lack what the platform gives them when they are
// registered, and that no event of the plan registers: they would be refused one by one.
func registered(f *fleet.Fleet, devices []*fleet.Device) error {
	lacking := f.NotRegistered()
	if len(lacking) == 0 {
		return nil
	}
	plays, later := make([]bool, len(f.Devices)), registeredLater(f)
	for _, d := range devices {
		plays[d.Index] = true
	}
	lacking = slices.DeleteFunc(lacking, func(d *fleet.Device) bool { return !plays[d.Index] || later[d.Index] })
	if len(lacking) == 0 {
		return nil
	}
	return fmt.Errorf("%d of %d devices are not registered (the first is %s), and have no %s; register them with: "+
		"runcrowd register %s", len(lacking), len(f.Devices), lacking[0].Name, f.Lacks(lacking[0]), f.Crowd.Path)
}

// registeredLater tells which devices an event of the plan registers.
func registeredLater(f *fleet.Fleet) []bool {
	later := make([]bool, len(f.Devices))
	for _, e := range f.Crowd.Plan.Events {
		if !e.Does(crowd.ActionRegister) {
			continue
		}
		of := func(i int) {
			if slices.ContainsFunc(e.Do[f.Devices[i].Cast],
				func(x crowd.Action) bool { return x.Kind == crowd.ActionRegister }) {
				later[i] = true
			}
		}
		if e.Who == nil {
			for i := range f.Devices {
				of(i)
			}
			continue
		}
		if pool, err := e.Who.Pool(f.Candidates()); err == nil {
			for _, i := range pool.All() {
				of(i)
			}
		}
	}
	return later
}

// newID is eight letters and digits, 40 random bits.
func newID() string {
	var b [5]byte
	rand.Read(b[:])
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// Links makes the links of a crowd; nothing is connected.
func Links(c *crowd.Crowd, network link.Network) map[*crowd.Link]link.Link {
	links := map[*crowd.Link]link.Link{}
	for _, l := range c.AllLinks() {
		switch l.Protocol {
		case crowd.MQTT:
			links[l] = mqtt.New(mqtt.Config{Name: l.Name, Scheme: l.Scheme, Address: l.Address, Path: l.Path,
				TLS: credential.TLS(l), Version: l.Version, KeepAlive: l.KeepAlive, Timeout: l.Timeout, EndSession: l.EndSession,
				CleanStart: l.CleanStart, SessionExpiry: l.SessionExpiry, InFlight: l.InFlight, Backlog: l.Backlog,
				ConnectTimeout: l.ConnectTimeout, BackOff: l.BackOff, TopicAliases: l.TopicAliases, Redirects: l.Redirects,
				Network: network})
		case crowd.HTTP:
			links[l] = http.New(http.Config{Name: l.Name, Base: l.Address, Timeout: l.Timeout, ConnectTimeout: l.ConnectTimeout,
				BackOff: l.BackOff, Backlog: l.Backlog, Connections: l.Connections,
				TLS: credential.TLS(l), PerDevice: l.PerDevice, Version: l.HTTPVersion, Retries: l.Retries, RetryKey: l.RetryKey,
				Answer: acceptIf(l.Answer), Redirects: l.Redirects, Network: network})
		}
	}
	return links
}

// acceptIf compiles what is true of an answer that acknowledges, which was checked before; nil for none.
func acceptIf(s string) *jq.Query {
	if s == "" {
		return nil
	}
	q, _ := jq.Parse(s, crowd.AnswerVariables...)
	return q
}

// within is the time that the requirements allow a witness's proof.
func within(c *crowd.Crowd, w *crowd.Witness) time.Duration {
	for _, q := range c.Require {
		if q.Measure == proof.Share && !q.Proven && w.Sees() && q.Proof == w.Proves && q.Within > 0 {
			return q.Within
		}
	}
	return 0
}

// rules are what the file says that a witness's platform does to fields.
func rules(c *crowd.Crowd, w *crowd.Witness) map[string]ledger.FieldRule {
	m := map[string]ledger.FieldRule{}
	if w.Shift != 0 || w.Cut != 0 { // by its time a message was found: it was compared then
		for _, k := range c.Kinds {
			if k.Mark.Place == crowd.MarkTime {
				m[k.Mark.Name] = ledger.FieldRule{Ignored: true}
			}
		}
	}
	for _, r := range w.Fields {
		m[r.Field] = ledger.FieldRule{Ignored: r.Ignored, As: r.As, Tolerance: r.Tolerance, Factor: r.Factor,
			Offset: r.Offset}
	}
	return m
}

// types is what a witness's platform keeps of the types of values.
func types(w *crowd.Witness) ledger.Types {
	switch {
	case w.SQL != nil:
		if kind, err := sqltext.KindOf(w.SQL.Address); err == nil && !kind.Booleans() {
			return ledger.NoBooleans
		}
	case w.FileForm == string(rowfile.CSV):
		return ledger.TextAlone
	}
	return ledger.AllTypes
}

// timeOf is whose time the time of a row is.
func timeOf(w *crowd.Witness) ledger.TimeOf {
	return map[string]ledger.TimeOf{"platform": ledger.TimeOfPlatform, "device": ledger.TimeOfDevice}[w.TimeOf]
}

// make makes the run folder.
func (s *Session) make(opt Options) (err error) {
	if err := os.MkdirAll(filepath.Dir(s.Folder), 0o755); err != nil {
		return err
	}
	// What a run leaves is its owner's alone.
	if err := os.Mkdir(s.Folder, 0o700); err != nil && !s.made { // that of a part was made when it was claimed
		return err
	}
	s.made = true
	if err := s.fill(opt); err != nil {
		return err
	}
	s.ledger, err = ledger.Create(filepath.Join(s.Folder, LedgerFile), s.ID, s.crowd.Name, s.start)
	return err
}

// fill writes into the run folder what the run is of.
func (s *Session) fill(opt Options) (err error) {
	m := Manifest{Run: s.ID, Crowd: s.crowd.Name, File: opt.File, SHA256: s.crowd.Digest(),
		CopySHA256: digest(s.crowd.Copy()), Seed: s.crowd.Seed, Started: s.start.UTC(),
		Version: opt.Version, Require: s.crowd.Require, Part: s.opt.Part}
	if len(s.crowd.Files) > 0 {
		if err := os.Mkdir(filepath.Join(s.Folder, FilesFolder), 0o700); err != nil {
			return err
		}
	}
	for i, f := range s.crowd.Files {
		e := ManifestFileEntry{Name: f.Name, Copy: fmt.Sprintf("%s/%d-%s", FilesFolder, i+1, filepath.Base(f.Name)),
			SHA256: f.SHA256, CopySHA256: digest(f.Copy)}
		if err := os.WriteFile(filepath.Join(s.Folder, e.Copy), f.Copy, 0o600); err != nil {
			return err
		}
		m.Files = append(m.Files, e)
	}
	m.SealedBy = opt.Key.Name()
	if m.Seal, err = m.seal(opt.Key); err != nil {
		return err
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(s.Folder, ManifestFile), append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.Folder, CrowdFile), s.crowd.Copy(), 0o600)
}

// removed tells whether somebody removed the run folder, or the ledger in it.
func (s *Session) removed() bool {
	_, err := os.Lstat(filepath.Join(s.Folder, LedgerFile))
	return errors.Is(err, os.ErrNotExist)
}

// watchFolder tells when the run folder is removed while the run plays: what is recorded goes on
// in a file without a name.
func (s *Session) watchFolder(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if s.removed() {
			s.note("the run folder %s was removed while the run plays; what is recorded is kept, and is written to a new one "+
				"at the end", s.Folder)
			return
		}
		if newer := s.newer(); newer != "" {
			s.note("another attempt at this part began later (%s): this one gives way", newer)
			s.gaveWay.Store(true)
			s.giveWay()
			return
		}
	}
}

// restore makes a new run folder where the old one was removed.
func (s *Session) restore() error {
	if !s.removed() {
		return nil
	}
	old := s.Folder
	for n := 1; ; n++ {
		s.Folder = fmt.Sprintf("%s-%d", old, n)
		err := os.MkdirAll(filepath.Dir(s.Folder), 0o755)
		if err == nil {
			err = os.Mkdir(s.Folder, 0o700)
		}
		if errors.Is(err, os.ErrExist) && n < 100 {
			continue
		}
		if err == nil {
			err = s.fill(s.opt)
		}
		if err == nil {
			s.ledger.SaveTo(filepath.Join(s.Folder, LedgerFile))
			s.note("the run folder is %s, because the one before was removed", s.Folder)
		}
		return err
	}
}

// discard removes a run folder in which nothing was recorded.
func (s *Session) discard() {
	if s.opt.Resume != "" && s.ledger != nil { // what was recorded stays
		s.abandon()
		s.ledger.Close()
	}
	if !s.made {
		return
	}
	s.abandon()
	if s.ledger != nil {
		s.ledger.Close() // what it says of an empty ledger is no news
	}
	for _, name := range []string{LedgerFile, ledger.LockName, ManifestFile, CrowdFile} {
		os.Remove(filepath.Join(s.Folder, name))
	}
	os.RemoveAll(filepath.Join(s.Folder, FilesFolder))
	os.Remove(s.Folder)
	if s.opt.Part != nil {
		os.Remove(filepath.Dir(s.Folder)) // where no other part is in it
	}
}

// Play plays all rounds. When ctx is done, devices stop; what is in flight is
// settled and the witnesses are heard all the same. The error is a
// *StorageError when the ledger could not be written.
func (s *Session) Play(ctx context.Context) error {
	play, stop := context.WithCancel(ctx)
	defer stop()
	s.giveWay = stop
	go func() {
		select {
		case <-s.ledger.Failed():
			stop()
		case <-play.Done():
		}
	}()
	watched := make(chan struct{})
	looking, enough := context.WithCancel(context.WithoutCancel(ctx))
	var turns clock.Turns
	s.turns = func() clock.Turns { enough(); <-watched; return turns }
	defer s.turns()
	go func() {
		defer close(watched)
		turns = clock.Watch(looking, s.ledger.Still)
	}()
	go s.watchFolder(looking)
	plan := &s.crowd.Plan
	first, start, shift := s.begins(play)
	good := start + shift - 1 // the last round that is known to meet what is required
	for n := start; (plan.Rounds == 0 || n <= plan.Rounds) && play.Err() == nil; n++ {
		if n > start || s.rest != nil && s.rest.From == 0 && n > 1 {
			planned := first.Add(s.step(n))
			if plan.Every == 0 || plan.Speed.Max {
				planned = clock.Now()
			}
			s.pause(play, n, planned)
			if play.Err() != nil {
				break
			}
		}
		begin, from, nth := s.planBegin(first, n), time.Duration(0), n+shift
		if s.rest != nil && n == start && s.rest.From > 0 {
			begin, from = s.restBegin(begin), s.rest.From
		}
		s.round(play, nth, n, begin, from, func() { s.engine.Play(play, nth, begin) })
		if s.engine.Ended() {
			break
		}
		// Judging reads the whole ledger, so it is done only when it can end the run.
		if plan.GiveUp == 0 || nth-good < plan.GiveUp || n == plan.Rounds || play.Err() != nil {
			continue
		}
		switch met, err := s.lastMet(good, nth); {
		case err != nil:
			s.note("round %d could not be judged: %s", nth, err)
		case nth-met >= plan.GiveUp:
			s.note("the run ends: %d rounds in a row did not meet the requirements", nth-met)
			stop()
			return s.finish(ctx)
		default:
			good = met
		}
	}
	return s.finish(ctx)
}

// wait waits for the time of day at which the run begins, and says when the first round
// does.
func (s *Session) wait(ctx context.Context) time.Time {
	day, at := s.crowd.Plan.Begin.Day, s.opt.StartAt
	switch {
	case day.Is:
		at = day.Next(clock.Now())
	case at.IsZero():
		return clock.Now()
	}
	s.pause(ctx, 1, at)
	return at
}

// step is how long after the first round the n-th begins, by our clock.
func (s *Session) step(n int) time.Duration {
	plan := &s.crowd.Plan
	return time.Duration(float64(n-1) * float64(plan.Every) / plan.Speed.Times())
}

// pause waits for the beginning of a round.
func (s *Session) pause(ctx context.Context, n int, until time.Time) {
	s.set(func(p *Progress) {
		p.Phase, p.Round, p.Rounds, p.Begin, p.End = Pausing, n, s.crowd.Plan.Rounds, clock.Now(), until
	})
	if late := clock.Now().Sub(until); late > 100*time.Millisecond {
		s.note("round %d begins %s late: the round before it and its witnesses took longer than the interval", n,
			late.Round(100*time.Millisecond))
	}
	// The wall clock may be set meanwhile, or the machine sleep: look now and then.
	for ctx.Err() == nil {
		left := until.Sub(clock.Now())
		if left <= 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(left, time.Minute)):
		}
	}
}

// planBegin is what the plan's clock shows when the n-th round begins.
func (s *Session) planBegin(first time.Time, n int) time.Time {
	plan := &s.crowd.Plan
	step := plan.Every
	if step == 0 && n > 1 {
		step = plan.Lasts(first)
	}
	switch {
	case !plan.Begin.At.IsZero():
		return plan.Begin.At.Add(time.Duration(n-1) * step)
	case plan.Begin.Past > 0:
		return clock.Now().Add(-plan.Begin.Past)
	case plan.Speed != crowd.Speed{}, !s.opt.StartAt.IsZero():
		return first.Add(time.Duration(n-1) * step)
	}
	return clock.Now()
}

// Send sends one message in place of the plan, and hears the witnesses. The error is as
// that of Play.
func (s *Session) Send(ctx context.Context, one *engine.Single) error {
	s.round(ctx, 1, 1, time.Time{}, 0, func() { s.engine.Send(ctx, 1, one) })
	return s.finish(ctx)
}

// finish closes the session's ledger.
func (s *Session) finish(ctx context.Context) error {
	s.set(func(p *Progress) { p.Phase = Done })
	interrupted := ctx.Err() != nil || s.gaveWay.Load()
	s.close()
	if s.ledger.Err() == nil {
		if s.turns != nil {
			s.ledger.Turns(s.turns())
		}
		topics := s.engine.Retained()
		for _, l := range s.crowd.Links {
			if n := topics[l]; n > 0 {
				s.ledger.Retained(l.Name, n)
			}
		}
		s.ledger.End(interrupted)
	}
	if err := s.restore(); err != nil {
		s.ledger.Close()
		s.abandon()
		return &StorageError{s.Folder, err}
	}
	if err := s.ledger.Close(); err != nil {
		s.abandon()
		return &StorageError{s.Folder, err}
	}
	if s.opt.Part != nil && !interrupted { // whoever waits for the parts of a run looks for it
		p := s.Progress()
		text := fmt.Sprintf("%s was played to its end: %d messages were due, %d were acknowledged.\n", s.opt.Part, p.Due, p.Accepted)
		if err := wholefile.WriteOwn(filepath.Join(s.Folder, EndedFile), []byte(text)); err != nil {
			return &StorageError{s.Folder, err}
		}
	}
	return nil
}

// GaveWay tells whether another attempt at its part began while it played.
func (s *Session) GaveWay() bool { return s.gaveWay.Load() }

// longer is by how much a round may outlast its plan before that is told.
const longer = time.Second

// round plays one round, the n-th, which is one of the plan's and begins at a time of the plan's clock, or the rest of it,
// and hears the witnesses for it. Without that time, it is over at once.
func (s *Session) round(ctx context.Context, n, of int, planned time.Time, from time.Duration, play func()) {
	plan := &s.crowd.Plan
	r := ledger.Round{N: n, Plan: of, From: from, Begin: clock.Now()}
	if s.log != nil {
		s.log.Info("round begins", "round", n)
	}
	if planned.IsZero() {
		r.End = r.Begin
	} else {
		s.length(&r, planned)
	}
	s.set(func(p *Progress) {
		p.Phase, p.Round, p.Rounds, p.Begin, p.End = Playing, of, plan.Rounds, r.Begin, r.End
	})
	s.ledger.Round(r)
	s.ledger.Flush() // what defines the round is on its way to the disk before its first message
	play()
	r.Over, r.Open = clock.Now(), s.engine.WasOpen
	if !r.Clock.IsZero() {
		r.Stopped = s.engine.Stopped
	}
	s.ledger.Over(n, r.Over, r.Stopped, r.Open)
	if over := r.Over.Sub(r.End); !r.End.IsZero() && over > longer && r.Open > 0 && ctx.Err() == nil {
		s.note("round %d took %s longer than the plan: %d messages were still under way when its time was over", n,
			over.Round(100*time.Millisecond), r.Open)
	}
	if over := s.engine.Counts.Overheard.Swap(0); over > 0 {
		s.note("%d commands came in round %d while %d others waited to be obeyed: they were dropped, and are not in the "+
			"ledger", over, n, engine.MostWaiting)
	}
	heard := hearing.Round{N: n, Expect: s.engine}
	heard.Begin, heard.End = r.Window(r.Over)
	s.set(func(p *Progress) { p.Phase = Hearing })
	// A run that was interrupted while it played hears its witnesses all the same. One
	// that is interrupted while they are heard does not wait for them; nor does a full disk.
	hear, cut := context.WithCancel(context.Background())
	defer cut()
	if ctx.Err() == nil {
		defer context.AfterFunc(ctx, cut)()
	} else if s.ledger.Err() != nil {
		cut()
	}
	var g errgroup.Group
	for i, w := range s.witnesses {
		if w == nil { // it has nothing to find, or cannot go on
			s.pages[i].Heard(i, n, s.cannot[i] == "", s.cannot[i])
			continue
		}
		if s.opt.AskLater && !s.crowd.Witnesses[i].Listens() {
			s.pages[i].Heard(i, n, false, "it was not asked yet (--ask-later): verify asks it")
			continue
		}
		g.Go(func() error {
			complete, why := w.Hear(hear, heard)
			s.pages[i].Heard(i, n, complete, foreign.Line(s.crowd.Redact(why), 0))
			if s.log != nil {
				s.log.Info("witness heard", "witness", s.crowd.Witnesses[i].Name, "round", n, "to the end", complete, "why",
					foreign.Line(s.crowd.Redact(why), 0))
			}
			return nil
		})
	}
	g.Wait()
}

// length says how long a round is to last, and by which clock.
func (s *Session) length(r *ledger.Round, begin time.Time) {
	plan := &s.crowd.Plan
	lasts := max(0, plan.Lasts(begin)-r.From)
	pinned := plan.Begin.Past > 0 || !plan.Begin.At.IsZero() || plan.Speed != crowd.Speed{}
	if pinned {
		r.Clock = begin.Add(r.From)
	}
	switch {
	case plan.Speed.Max:
		r.Speed = "max"
		return
	case plan.Speed.Times() != 1:
		r.Speed = strconv.FormatFloat(plan.Speed.Times(), 'f', -1, 64)
	}
	if lasts >= crowd.Forever/2 || plan.Messages > 0 {
		return // nobody knows
	}
	if plan.Begin.Past > 0 {
		lasts = max(0, lasts-plan.Begin.Past)
	}
	r.End = r.Begin.Add(time.Duration(float64(lasts) / plan.Speed.Times()))
}

// follower gathers the evidence of a run while it plays.
type follower struct {
	evidence *evidence.Evidence
	watcher  *tally.Watcher
	stop     chan struct{}
	done     chan error
}

// followEvery is how often what was recorded is looked at.
const followEvery = time.Second

func follow(folder string, how Judging) (*follower, error) {
	e, err := openEvidence(folder, how.Memory)
	if err != nil {
		return nil, err
	}
	f := &follower{e, tally.Watch(e, how.options()), make(chan struct{}), make(chan error, 1)}
	go func() {
		t := time.NewTicker(followEvery)
		defer t.Stop()
		for {
			select {
			case <-f.stop:
				f.done <- nil
				return
			case <-t.C:
				if err := f.watcher.Gather(); err != nil {
					f.done <- err
					return
				}
			}
		}
	}()
	return f, nil
}

// end stops gathering. The error is why it ended earlier.
func (f *follower) end() error {
	close(f.stop)
	return <-f.done
}

// abandon ends the gathering of evidence that nobody will judge.
func (s *Session) abandon() {
	if s.follower != nil {
		s.follower.end()
		s.follower.evidence.Close()
		s.follower = nil
	}
}

// Judge judges the run when it is over. Most of its evidence was gathered while it played.
// How may ask for more than Options.Judging did: what is made of the evidence is made now.
func (s *Session) Judge(how Judging) (*Judgement, error) {
	m, err := ReadManifest(s.Folder)
	if err == nil {
		err = s.follower.end()
	}
	defer s.follower.evidence.Close()
	if err != nil {
		return nil, ledgerError(s.Folder, err)
	}
	m.Require = s.crowd.Require // what was played, whatever is written there by now
	s.follower.watcher.Want(how.options())
	return judge(s.Folder, m, s.follower.watcher, false)
}

func (s *Session) close() {
	for _, w := range s.witnesses {
		if w != nil {
			w.Stop()
		}
	}
	for l, open := range s.links {
		if left, kept := open.Close(); left > 0 && s.ledger != nil {
			s.ledger.Left(l.Name, left, kept)
		}
	}
}

// Flush writes what is recorded so far: before leaving at once.
func (s *Session) Flush() { s.ledger.Flush() }

func (s *Session) set(f func(*Progress)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f(&s.progress)
}

func (s *Session) note(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := fmt.Sprintf(format, args...)
	s.notes = append(s.notes, text)
	if s.log != nil {
		s.log.Info(text)
	}
}

// Notes are what happened that the user should know; each is told once.
func (s *Session) Notes() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := s.notes
	s.notes = nil
	return n
}

// Progress is how far the session is now.
func (s *Session) Progress() Progress {
	s.mu.Lock()
	p := s.progress
	s.mu.Unlock()
	c := &s.engine.Counts
	p.Devices, p.Joined, p.Up = c.Devices, c.Joined.Load(), c.Connected.Load()
	p.Due, p.Sent, p.Accepted, p.Refused = c.Due.Load(), c.Sent.Load(), c.Accepted.Load(), c.Refused.Load()
	p.NotAsked, p.NoAnswer, p.Unsent, p.Drops = c.NotAsked.Load(), c.NoAnswer.Load(), c.Unsent.Load(), c.Drops.Load()
	p.LastDrop, p.Commands = s.engine.LastDrop(), c.Commands.Load()
	p.Paused, p.Stood = s.engine.Paused(), s.engine.Stood()
	p.Troubles, p.Planned = s.engine.Troubles(), c.Planned.Load()
	for i, w := range s.witnesses {
		if w != nil {
			spec := s.crowd.Witnesses[i]
			p.Witnesses = append(p.Witnesses, Seen{spec.Name, spec.Proof(), w.Seen(), spec.Asks()})
		}
	}
	if p.Phase == Hearing {
		for i, w := range s.witnesses {
			if w == nil {
				continue
			}
			spec := s.crowd.Witnesses[i]
			p.Awaited = append(p.Awaited, Awaited{spec.Name, spec.Proof(), w.Awaited(), w.StayOut()})
		}
	}
	return p
}

// Watch keeps the last messages of some streams, by index, for whoever looks while the run plays.
func (s *Session) Watch(streams []int) map[int]*engine.Recent { return s.engine.Watch(streams) }

// Delays are the times from sending to acknowledgement so far, and from due to sent.
func (s *Session) Delays() (acknowledged, lag *spread.Live) {
	return &s.engine.Counts.Acks, &s.engine.Counts.Lags
}

// ValuesFailed is how many values could not be made, and why the first was not.
func (s *Session) ValuesFailed() (int64, error) { return s.engine.Failure() }

// lastMet is the last round, of those after one and up to another, that meets what is
// required; without one, the former. Up to now everything is judged.
func (s *Session) lastMet(after, to int) (int, error) {
	s.ledger.Flush()
	e, err := openEvidence(s.Folder, 0)
	if err != nil {
		return 0, err
	}
	defer e.Close()
	res, err := tally.Watch(e, tally.Options{PerVerdict: 1}).Judge()
	if err != nil {
		return 0, ledgerError(s.Folder, err)
	}
	for n := to; n > after; n-- {
		if res.RoundMeets(n, s.crowd.Require) {
			return n, nil
		}
	}
	return after, nil
}
