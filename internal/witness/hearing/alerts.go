package hearing

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

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
func (b *Base) hears() error {
	for i, n := range b.Catalog.Fleet.Crowd.Alerts {
		if n.HeardBy.Name != b.Spec.Name { // it may be a copy, for asking again
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
		for _, d := range b.Catalog.Fleet.Devices {
			name := d.Name
			if text := n.DeviceName[d.Cast]; text != nil {
				if name, err = text.Expand(m, d.Env); err != nil {
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

// Decoded is what was heard: a JSON value, else a text.
func Decoded(body []byte) any {
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

// IsAlert tells whether what was heard is one of the alerts. It is no message then, whatever
// mark stands in it: an alert may quote the message that called for it.
func (b *Base) IsAlert(v any, topic string) bool {
	return slices.ContainsFunc(b.alerts, func(n hearable) bool { return n.is(v, topic) })
}

// Said notes what the platform said by itself, for each alert that it is.
func (b *Base) Said(v any, topic string, x *ledger.Said) {
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
		if b.Elsewhere(y.Stream) {
			continue
		}
		if b.Page != nil {
			y.Device, y.Text = b.Catalog.Fleet.Crowd.Redact(y.Device), b.Catalog.Fleet.Crowd.Redact(y.Text)
			b.Page.Said(b.Index, &y)
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

// Unnamed tells of what was heard and named no device, where nothing else was heard.
func (b *Base) Unnamed() string {
	for i := range b.alerts {
		n := &b.alerts[i]
		n.mu.Lock()
		nameless, heard, sample := n.nameless, n.heard, n.sample
		n.mu.Unlock()
		if nameless > 0 && heard == 0 {
			x := b.Catalog.Fleet.Crowd.Alerts[n.index]
			return fmt.Sprintf("%d came for the alert %q, but in none of them about: %s gives the name of a device; the first "+
				"was %s", nameless, x.Name, x.About, b.Catalog.Fleet.Crowd.Redact(sample))
		}
	}
	return ""
}
