package run

import (
	"context"
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/evidence"
	"runcrowd/internal/fleet"
	files "runcrowd/internal/folder"
	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/witness/hearing"
)

// LoadRest loads what a run that stopped is of, to go on with it: from its own folder, with the values that the
// environment has now. Keys are where they were.
func LoadRest(path string) (*fleet.Fleet, *Manifest, error) {
	m, err := ReadManifest(path)
	if err != nil {
		return nil, nil, err
	}
	if m.parts != nil {
		return nil, nil, fmt.Errorf("%s holds the parts of a run; name one of them, such as %s", path, filepath.Join(path, m.parts[0].Part.folder()))
	}
	c, err := LoadCopy(path)
	if err != nil {
		return nil, nil, err
	}
	if strings.Contains(string(c.Source), crowd.Redacted) {
		return nil, nil, fmt.Errorf("%s cannot go on: secrets stood in the crowd file in plain text, and are not in the run folder; "+
			"write ${env.NAME} in their place", path)
	}
	keys := credential.New(c)
	keys.Open = func(name string) ([]byte, error) { return files.Read(m.File, name) }
	f, err := fleet.Build(c, keys)
	if err != nil {
		return nil, nil, err
	}
	if len(f.NotRegistered()) > 0 {
		return nil, nil, fmt.Errorf("%s cannot go on: what the platform gave its devices when they were registered is not in the run folder", path)
	}
	if m.Part != nil {
		f.Share(m.Part.Share())
	}
	return f, m, nil
}

// whyNotOn tells why a run of a crowd cannot go on, whatever happened to it; empty: it can.
func whyNotOn(c *crowd.Crowd) string {
	plan := &c.Plan
	switch {
	case plan.Speed.Max:
		return "its plan is played as fast as messages are acknowledged (speed: max), and nobody knows how far it came"
	case plan.Begin.Past > 0:
		return "its plan begins in the past"
	}
	for _, k := range c.Kinds {
		if k.Mark.Place >= crowd.MarkTime {
			return fmt.Sprintf("messages of %s carry no mark of their own: what was sent last could be taken for what would be sent next", k.Name)
		}
	}
	if slices.ContainsFunc(c.Casts, func(x *crowd.Cast) bool { return x.Recording != nil }) {
		return "it plays a recording"
	}
	if slices.ContainsFunc(plan.Events, func(e *crowd.Event) bool { return e.Does(crowd.ActionRegister, crowd.ActionUnregister) }) {
		return "its plan registers devices"
	}
	return ""
}

// reopen opens the ledger of a run that goes on, and finds out what is left of its plan.
func (s *Session) reopen() (err error) {
	path := s.opt.Resume
	cannot := func(why string) error { return fmt.Errorf("%s cannot go on: %s", path, why) }
	if why := whyNotOn(s.crowd); why != "" {
		return cannot(why)
	}
	m, err := ReadManifest(path)
	if err != nil {
		return err
	}
	w, err := ledger.Reopen(filepath.Join(path, LedgerFile))
	switch {
	case errors.Is(err, ledger.ErrBusy):
		return cannot("another process plays or verifies it")
	case err != nil:
		return &StorageError{path, err}
	}
	s.ledger, s.Folder, s.ID, s.cannot = w, path, m.Run, map[int]string{}
	defer func() {
		if err == nil {
			return
		}
		w.Close()
		if s.ledger = nil; s.past != nil {
			s.past.Close()
		}
	}()
	if s.past, err = openEvidence(path, 0); err != nil {
		return err
	}
	if err := s.past.Finish(); err != nil {
		return ledgerError(path, err)
	}
	if err := fits(s.fleet, s.past.Facts, path); err != nil {
		return err
	}
	switch {
	case s.past.Lost:
		return cannot("its ledger is damaged")
	case s.past.Ended && !s.past.Interrupted:
		return cannot("it was played to its end")
	}
	if s.rest, err = s.left(s.past); err != nil {
		return ledgerError(path, err)
	}
	if n := s.crowd.Plan.Rounds; n > 0 && s.rest.Plan > n {
		return cannot("all its rounds were played; verify judges it")
	}
	return nil
}

// left is what is left of the plan of a run that stopped.
func (s *Session) left(e *evidence.Evidence) (*engine.Rest, error) {
	plan := &s.crowd.Plan
	now := clock.Now()
	s.stopped = ledger.Resumed{At: now, Stopped: s.ledger.Stopped(), Killed: !e.Ended}
	rest := &engine.Rest{Round: 1, Plan: 1, Ticks: make([]uint64, len(e.Streams)), Last: slices.Clone(e.Last)}
	if n := len(e.Rounds); n > 0 {
		r := &e.Rounds[n-1]
		s.firstRound = e.Rounds[0].Begin
		if !r.Clock.IsZero() {
			s.pinned = r.Clock.Add(-r.From)
		}
		over := r.Over
		if over.IsZero() {
			over = s.stopped.Stopped // its process was killed
		}
		rest.Round, rest.Plan = r.N+1, r.Plan
		rest.From = r.From + max(0, time.Duration(float64(over.Sub(r.Begin))*plan.Speed.Times()))
		whole := !r.Over.IsZero() && (!r.End.IsZero() && !over.Before(r.End) || r.End.IsZero() && !e.Interrupted)
		if whole || rest.From >= plan.Lasts(r.Begin) {
			rest.Plan, rest.From = rest.Plan+1, 0
		}
	}
	x, err := expected(e)
	if err != nil {
		return nil, err
	}
	rest.Corrupted = x.corrupted
	of := map[int]bool{} // rounds that are of the plan's round in which it goes on
	for _, r := range e.Rounds {
		of[r.N] = r.Plan == rest.Plan
	}
	if err := e.Cases(func(c *evidence.Case) error {
		if c.Stream >= 0 && c.Known && of[c.Round] {
			rest.Ticks[c.Stream]++
		}
		return nil
	}); err != nil {
		return nil, err
	}
	s.skip = make([]uint64, len(e.Streams))
	for i, st := range s.fleet.Streams {
		rest.Ticks[i] /= uint64(max(1, st.Reading.Batch))
		if s.stopped.Killed && !st.Device.Elsewhere {
			s.skip[i] = s.mayHaveSent(st, now.Sub(s.stopped.Stopped))
			rest.Last[i] += s.skip[i]
		}
	}
	return rest, nil
}

// mostSkipped bounds how many sequence numbers of a stream are left out.
const mostSkipped = 10_000_000

// mayHaveSent is at least how many messages of a stream its process may have sent in a time after the last of which
// anything was written: it may have lived on.
func (s *Session) mayHaveSent(st *fleet.Stream, in time.Duration) uint64 {
	often := 2.0
	quickens := func(list []crowd.Action) bool {
		return slices.ContainsFunc(list, func(x crowd.Action) bool {
			return x.Kind == crowd.ActionInterval || x.Kind == crowd.ActionSend
		})
	}
	if slices.ContainsFunc(s.crowd.Plan.Events, func(e *crowd.Event) bool { return quickens(e.Do[st.Device.Cast]) }) ||
		slices.ContainsFunc(st.Device.Commands, func(k *fleet.Command) bool { return quickens(k.Do) }) {
		often = 50
	}
	every := st.Reading.Every
	if every <= 0 { // at each connection
		every = 100 * time.Millisecond
	}
	n := 20 + often*s.crowd.Plan.Speed.Times()*float64(max(0, in))/float64(every)
	return uint64(math.Ceil(min(n*float64(max(1, st.Reading.Batch)), mostSkipped)))
}

// knowCounts tells a witness of a run that goes on what was there before the run; it says why it cannot be asked.
func (s *Session) knowCounts(i int) string {
	if s.past == nil {
		return ""
	}
	_, said := s.witnesses[i].(hearing.AlertKnower)
	if k, ok := s.witnesses[i].(hearing.CountKnower); ok && (said || s.past.Witnesses[i].Before != nil) {
		if err := k.KnowCounts(s.past.Witnesses[i].From, s.past.Witnesses[i].Before); err != nil {
			return foreign.Line(s.crowd.Redact(err.Error()), 0)
		}
	}
	return ""
}

// goesOn notes that the run goes on.
func (s *Session) goesOn() {
	if s.past == nil {
		return
	}
	s.past = nil
	s.ledger.Resumed(s.stopped)
	for i, n := range s.skip {
		if n > 0 {
			s.ledger.Skipped(i, s.rest.Last[i]-n+1, s.rest.Last[i])
		}
	}
	s.ledger.Flush()
	how := "was interrupted"
	if s.stopped.Killed {
		how = "was killed"
	}
	s.note("the run %s at %s, and goes on in round %d, %s into it", how, s.stopped.Stopped.UTC().Format("2006-01-02 15:04:05 UTC"), s.rest.Plan,
		quantity.FormatDuration(s.rest.From.Round(time.Millisecond)))
}

// begins is when the first round of the plan began, or would have, in which of its rounds the run begins now, and by
// how much the number of a round is above that.
func (s *Session) begins(ctx context.Context) (first time.Time, start, shift int) {
	r := s.rest
	switch {
	case r == nil:
		return s.wait(ctx), 1, 0
	case r.From == 0 && r.Plan == 1:
		return s.wait(ctx), 1, r.Round - 1
	case r.From == 0: // between two rounds
		return s.firstRound, r.Plan, r.Round - r.Plan
	}
	into := time.Duration(float64(r.From) / s.crowd.Plan.Speed.Times())
	return clock.Now().Add(-into - s.step(r.Plan)), r.Plan, r.Round - r.Plan
}

// restBegin is when the plan's round began that goes on, by the plan's clock.
func (s *Session) restBegin(planned time.Time) time.Time {
	switch {
	case !s.pinned.IsZero():
		return s.pinned
	case !s.crowd.Plan.Begin.At.IsZero():
		return planned
	}
	return clock.Now().Add(-s.rest.From)
}
