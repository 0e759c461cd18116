package ledger

import (
	"errors"
	"fmt"
	"slices"
	"time"
)

// Together are the facts of the ledgers of parts of a run, as those of one run. Each stream is what its part
// tells of it. Witnesses are those of each part, one part after the other: each sees the streams of its own.
// Parts of different crowds, or parts that play the same devices, are an error.
func Together(parts []*Facts) (*Facts, error) {
	first := parts[0]
	f := &Facts{Run: first.Run, Crowd: first.Crowd, Start: first.Start, Ended: true, parts: parts,
		Streams: make([]Stream, len(first.Streams)), Last: make([]uint64, len(first.Streams)), owner: make([]int32, len(first.Streams))}
	for k, p := range parts {
		if why := unlike(first, p); why != "" {
			return nil, fmt.Errorf("they are not parts of one run: %s", why)
		}
		for i := range p.Witnesses {
			w := p.Witnesses[i]
			w.Part = k
			f.Witnesses = append(f.Witnesses, w)
		}
	}
	if err := f.streams(); err != nil {
		return nil, err
	}
	for i := range first.Alerts {
		a := first.Alerts[i]
		a.Said, a.More = nil, 0
		for _, p := range parts {
			a.Said, a.More = append(a.Said, p.Alerts[i].Said...), a.More+p.Alerts[i].More
		}
		f.Alerts = append(f.Alerts, a)
	}
	for _, p := range parts {
		f.join(p)
	}
	slices.SortFunc(f.Rounds, func(a, b Round) int { return a.N - b.N })
	slices.SortStableFunc(f.Still, func(a, b Still) int { return a.From.Compare(b.From) })
	return f, nil
}

// unlike tells in what another part is of another run; empty: it is of the same.
func unlike(a, b *Facts) string {
	switch {
	case a.Crowd != b.Crowd:
		return fmt.Sprintf("one is of the crowd %q, another of %q", a.Crowd, b.Crowd)
	case len(a.Streams) != len(b.Streams):
		return fmt.Sprintf("one knows %d readings of devices, another %d", len(a.Streams), len(b.Streams))
	case len(a.Witnesses) != len(b.Witnesses):
		return fmt.Sprintf("one has %d witnesses, another %d", len(a.Witnesses), len(b.Witnesses))
	case len(a.Alerts) != len(b.Alerts):
		return fmt.Sprintf("one knows %d alerts, another %d", len(a.Alerts), len(b.Alerts))
	}
	for i := range a.Streams {
		if x, y := &a.Streams[i], &b.Streams[i]; x.Device != y.Device || x.Reading != y.Reading {
			return fmt.Sprintf("where one has %s of %s, another has %s of %s", x.Reading, x.Device, y.Reading, y.Device)
		}
	}
	for i := range a.Witnesses {
		if x, y := &a.Witnesses[i], &b.Witnesses[i]; x.Name != y.Name || x.Proof != y.Proof {
			return fmt.Sprintf("where one has the witness %q, another has %q", x.Name, y.Name)
		}
	}
	for i := range a.Alerts {
		if a.Alerts[i].Name != b.Alerts[i].Name {
			return fmt.Sprintf("where one has the alert %q, another has %q", a.Alerts[i].Name, b.Alerts[i].Name)
		}
	}
	return ""
}

// streams takes each stream from the part that plays it.
func (f *Facts) streams() error {
	n := len(f.parts[0].Witnesses)
	type kind struct {
		part   int
		unseen string
	}
	unseen := map[kind][]int{} // shared: there may be many streams and parts
	for i := range f.Streams {
		f.owner[i] = -1
		for k, p := range f.parts {
			if p.Streams[i].Elsewhere {
				continue
			}
			if f.owner[i] >= 0 {
				return fmt.Errorf("they are not parts of one run: two of them play %s", p.Streams[i].Device)
			}
			f.owner[i] = int32(k)
		}
		k := max(0, int(f.owner[i]))
		s := f.parts[k].Streams[i]
		key := kind{k, fmt.Sprint(s.Unseen)}
		list, known := unseen[key]
		if !known {
			for w := range f.Witnesses {
				if w/n != k || slices.Contains(s.Unseen, w%n) {
					list = append(list, w)
				}
			}
			unseen[key] = list
		}
		s.Unseen = list
		f.Streams[i], f.Last[i] = s, f.parts[k].Last[i]
	}
	return nil
}

// join adds what a part tells of what all share.
func (f *Facts) join(p *Facts) {
	if p.Start.Before(f.Start) {
		f.Start = p.Start
	}
	f.Played, f.LastWrite = later(f.Played, p.Played), later(f.LastWrite, p.LastWrite)
	f.Ended, f.Interrupted, f.Lost = f.Ended && p.Ended, f.Interrupted || p.Interrupted, f.Lost || p.Lost
	f.Good, f.Torn, f.Damage = f.Good+p.Good, f.Torn+p.Torn, append(f.Damage, p.Damage...)
	f.Still, f.Resumed = append(f.Still, p.Still...), append(f.Resumed, p.Resumed...)
	f.Turns.Looks += p.Turns.Looks
	for i, n := range p.Turns.Late {
		f.Turns.Late[i] += n
	}
	for _, r := range p.Rounds {
		i := slices.IndexFunc(f.Rounds, func(x Round) bool { return x.N == r.N })
		if i < 0 {
			f.Rounds = append(f.Rounds, r)
			continue
		}
		x := &f.Rounds[i]
		if r.Begin.Before(x.Begin) {
			x.Begin = r.Begin
		}
		if x.Over = later(x.Over, r.Over); r.Over.IsZero() { // it is not known of all
			x.Over = time.Time{}
		}
		x.End, x.Stopped, x.Open = later(x.End, r.End), later(x.Stopped, r.Stopped), x.Open+r.Open
	}
	for _, x := range p.Left {
		i := slices.IndexFunc(f.Left, func(y LeftSessions) bool { return y.Link == x.Link })
		if i < 0 {
			f.Left = append(f.Left, x)
			continue
		}
		f.Left[i].Devices, f.Left[i].Kept = f.Left[i].Devices+x.Devices, max(f.Left[i].Kept, x.Kept)
	}
	for _, x := range p.Retained {
		i := slices.IndexFunc(f.Retained, func(y Retained) bool { return y.Link == x.Link })
		if i < 0 {
			f.Retained = append(f.Retained, x)
			continue
		}
		f.Retained[i].Topics += x.Topics
	}
	f.Links.join(&p.Links)
	f.Actions.join(&p.Actions)
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func (l *Links) join(p *Links) {
	l.Drops, l.Renewed = l.Drops+p.Drops, l.Renewed+p.Renewed
	l.Why, l.NotHearing, l.Remarks = sum(l.Why, p.Why), sum(l.NotHearing, p.NotHearing), sum(l.Remarks, p.Remarks)
	l.Closings = sum(l.Closings, p.Closings)
	for stream, d := range p.Devices {
		if l.Devices == nil {
			l.Devices = map[int]*DeviceLinks{}
		}
		l.Devices[stream] = d
	}
}

func sum[K comparable](a, b map[K]int) map[K]int {
	for k, n := range b {
		if a == nil {
			a = map[K]int{}
		}
		a[k] += n
	}
	return a
}

func (l *Actions) join(p *Actions) {
	for stream, list := range p.Breaks {
		if l.Breaks == nil {
			l.Breaks = map[int][]Break{}
		}
		l.Breaks[stream] = list
	}
	for i := range p.Events {
		x := &p.Events[i]
		at := slices.IndexFunc(l.Events, func(e EventActions) bool { return e.Event == x.Event && e.Kind == x.Kind && e.Name == x.Name })
		if at < 0 {
			y := *x
			y.Stretches, y.devices, y.open, y.rest = slices.Clone(x.Stretches), nil, nil, nil
			y.tookOver(x)
			l.Events = append(l.Events, y)
			continue
		}
		y := &l.Events[at]
		y.Times, y.Devices, y.Failed = y.Times+x.Times, y.Devices+x.Devices, y.Failed+x.Failed
		if y.Why == "" {
			y.Why = x.Why
		}
		if x.First.Before(y.First) {
			y.First = x.First
		}
		y.Last = later(y.Last, x.Last)
		for _, s := range x.Stretches {
			y.lasted(s.From, s.To)
		}
		y.tookOver(x)
	}
}

// tookOver adds what lasts in a part.
func (e *EventActions) tookOver(x *EventActions) {
	for stream, o := range x.open {
		if e.open == nil {
			e.open = map[int]opened{}
		}
		e.open[stream] = o
	}
	for round, from := range x.rest {
		e.rests(opened{from, round})
	}
}

// Of is the facts of the part that plays a stream: what is known of its process.
func (f *Facts) Of(stream int) *Facts {
	if f.parts == nil || stream < 0 || stream >= len(f.owner) {
		return f
	}
	return f.parts[max(0, f.owner[stream])]
}

// Witness is the place of a witness, as the file has it, among those of the part that plays a stream.
func (f *Facts) Witness(w, stream int) int {
	if f.parts == nil || stream < 0 || stream >= len(f.owner) {
		return w
	}
	return int(max(0, f.owner[stream]))*len(f.parts[0].Witnesses) + w
}

// WitnessOf is the place of a witness of any part, among those of the part that plays a stream: what a part found
// of the messages of another was filed under a device of its own.
func (f *Facts) WitnessOf(w, stream int) int {
	if f.parts == nil || stream < 0 {
		return w
	}
	return f.Witness(w%len(f.parts[0].Witnesses), stream)
}

// Own is how many witnesses the file has: where there are several parts, each has as many.
func (f *Facts) Own() int {
	if f.parts == nil {
		return len(f.Witnesses)
	}
	return len(f.parts[0].Witnesses)
}

// PartName is what one of the parts is called.
func (f *Facts) PartName(k int) string {
	if f.parts == nil {
		return f.Name
	}
	return f.parts[k].Name
}

// Readable tells whether a ledger says what it is about, and that something was played; it reads no further than to the
// first message. Errors are those of a Scanner.
func Readable(path string) error {
	s, err := NewScanner(path)
	if err != nil {
		return err
	}
	defer s.Close()
	enough := errors.New("enough")
	if err := s.Scan(func(*Record) error { return enough }); err == enough {
		return nil
	} else if err != nil {
		return err
	}
	f, err := s.Finish()
	if err == nil && len(f.Rounds) == 0 {
		return errors.New("it ends before the first round")
	}
	return err
}
