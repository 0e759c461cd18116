package witness

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

// hearable is an alert that a witness is there for.
type hearable struct {
	index        int // its place in the file
	about, match *jq.Query
	names        map[string]*fleet.Device // by what the platform calls them
	mu           *sync.Mutex              // guards what follows
	heard        int
	nameless     int    // that named no device
	sample       string // the first of them
	strange      int    // about devices that are none of the run
}

// mostStrange bounds how many of those are noted one by one.
const mostStrange = 100

// hears makes what the witness needs to hear alerts.
func (b *base) hears() error {
	for i, n := range b.catalog.Fleet.Crowd.Alerts {
		if n.HeardBy != b.spec {
			continue
		}
		x := hearable{index: i, names: map[string]*fleet.Device{}, mu: new(sync.Mutex)}
		var err, none error
		x.about, err = jq.Parse(n.About, "$topic")
		if n.Match != "" {
			x.match, none = jq.Parse(n.Match, "$topic")
		}
		if err = errors.Join(err, none); err != nil {
			return err
		}
		m := &formula.Machine{}
		for _, d := range b.catalog.Fleet.Devices {
			name := d.Name
			if n.DeviceName != nil && n.DeviceName[d.Cast] != nil {
				if name, err = n.DeviceName[d.Cast].Expand(m, d.Env); err != nil {
					return fmt.Errorf("the alert %q: device_name: %w", n.Name, err)
				}
			}
			if other := x.names[name]; other != nil {
				return fmt.Errorf("the alert %q: %s and %s are both called %q: whom it is about could not be told", n.Name,
					other.Name, d.Name, name)
			}
			x.names[name] = d
		}
		b.alerts = append(b.alerts, x)
	}
	return nil
}

// decoded is what was heard: a JSON value, else a text.
func decoded(body []byte) any {
	if v, err := strictjson.Decode(body); err == nil {
		return v
	}
	return strings.ToValidUTF8(string(body), "?")
}

// is tells whether what was heard is this alert.
func (n *hearable) is(v any, topic string) bool {
	if n.match == nil {
		return true
	}
	is, err := n.match.One(v, topic)
	return err == nil && is == true
}

// isAlert tells whether what was heard is one of the alerts. It is no message then, whatever
// mark stands in it: an alert may quote the message that called for it.
func (b *base) isAlert(v any, topic string) bool {
	return slices.ContainsFunc(b.alerts, func(n hearable) bool { return n.is(v, topic) })
}

// said notes what the platform said by itself, for each alert that it is.
func (b *base) said(v any, topic string, x *ledger.Said) {
	x.Text = heardText(v)
	for i := range b.alerts {
		n := &b.alerts[i]
		if !n.is(v, topic) {
			continue
		}
		name := ""
		if about, err := n.about.One(v, topic); err == nil && about != nil {
			if number, is := about.(json.Number); is {
				about = number.String()
			}
			name = formula.String(about)
		}
		d := n.names[name]
		n.mu.Lock()
		switch {
		case name == "":
			if n.nameless++; n.sample == "" {
				n.sample = x.Text
			}
		case d == nil:
			n.strange++
		default:
			n.heard++
		}
		silent := name == "" || d == nil && n.strange > mostStrange
		n.mu.Unlock()
		if silent {
			continue
		}
		y := *x
		y.Alert, y.Stream, y.Device = n.index, -1, name
		if d != nil && len(d.Streams) > 0 {
			y.Stream, y.Device = d.Streams[0].Index, d.Name
		}
		if b.page != nil {
			y.Device, y.Text = b.catalog.Fleet.Crowd.Redact(y.Device), b.catalog.Fleet.Crowd.Redact(y.Text)
			b.page.Said(b.index, &y)
			b.mu.Lock()
			b.seen++
			b.mu.Unlock()
		}
	}
}

// heardText is what was heard, for people.
func heardText(v any) string {
	s, is := v.(string)
	if !is {
		b, _ := json.Marshal(v)
		s = string(b)
	}
	return foreign.Line(s, 160)
}

// unnamed tells of what was heard and named no device, where nothing else was heard.
func (b *base) unnamed() string {
	for i := range b.alerts {
		n := &b.alerts[i]
		n.mu.Lock()
		nameless, heard, sample := n.nameless, n.heard, n.sample
		n.mu.Unlock()
		if nameless > 0 && heard == 0 {
			x := b.catalog.Fleet.Crowd.Alerts[n.index]
			return fmt.Sprintf("%d came for the alert %q, but in none of them about: %s gives the name of a device; the first "+
				"was %s", nameless, x.Name, x.About, b.catalog.Fleet.Crowd.Redact(sample))
		}
	}
	return ""
}

// saidRow notes a row that an asking witness had not met yet.
func (q *poller) saidRow(row any, on *cursor) {
	x := &ledger.Said{Seen: clock.Now(), Row: q.identity(row)}
	on.ours++
	q.mu.Lock()
	if q.rowsSaid == nil {
		q.rowsSaid = map[uint64]bool{}
	}
	known := q.rowsSaid[x.Row]
	q.rowsSaid[x.Row] = true
	q.mu.Unlock()
	if known {
		return
	}
	on.fresh++
	if on.old {
		return
	}
	if q.time != nil {
		if v, err := q.time.One(row); err == nil {
			x.Stored, _ = timeOf(v)
		}
	}
	q.base.said(row, "", x)
}

// identity is a digest of what tells a row from others.
func (q *poller) identity(row any) uint64 {
	v := row
	if q.rowID != nil {
		if id, err := q.rowID.One(row); err == nil && id != nil {
			v = id
		}
	}
	h := fnv.New64a()
	h.Write([]byte(text(v)))
	return max(1, h.Sum64())
}

// askOld asks for what is there before the run: it is no alert of this one.
func (q *poller) askOld(ctx Context, devices []*fleet.Device) error {
	asking, cancel := context.WithTimeout(ctx, max(q.spec.Wait, 10*time.Second))
	defer cancel()
	_, err := q.askAll(asking, devices, Round{Begin: clock.Now()}, true)
	switch {
	case errors.Is(err, errUnknownDevice):
		return nil
	case err != nil && ctx.Err() == nil:
		return fmt.Errorf("the witness %q could not be asked what is there before the run: %w", q.spec.Name, err)
	}
	return err
}

// KnowSaid tells what an earlier hearing noted.
func (q *poller) KnowSaid(x *ledger.Said) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.rowsSaid == nil {
		q.rowsSaid = map[uint64]bool{}
	}
	q.rowsSaid[x.Row] = true
}

// AlertKnower is a witness of alerts that can be told what an earlier hearing noted.
type AlertKnower interface{ KnowSaid(x *ledger.Said) }

var _ AlertKnower = (*poller)(nil)
