package listen

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/recording"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// Overheard is one message that came out of a broker, of whatever run, or of none.
type Overheard struct {
	At       time.Time
	Witness  string
	Topic    string
	QoS      byte
	Retained bool
	Device   string       // whose it is: by its mark, else by its topic; may be empty
	Reading  string       // likewise
	Mark     *ledger.Mark // nil without a mark; a sequence mark has no run
	Values   []byte       // a JSON value; nil where the body could not be read
	Body     []byte
	Kind     string // content type
}

// Unheard is when nothing could be heard: what came meanwhile is missing, or where the broker kept
// the session each time, what came with QoS 0 (MQTT 5, section 4.1).
type Unheard struct {
	Times int
	For   time.Duration // in all
	First ledger.Gap
	Kept  bool
}

func (u *Unheard) add(g *ledger.Gap) {
	if u.Times++; u.Times == 1 {
		u.First, u.Kept = *g, true
	}
	u.For += g.To.Sub(g.From)
	u.Kept = u.Kept && g.Kept
}

// To hears what comes out where a witness listens, for some time from when it does (0: for ever) or until ctx is
// done, and tells see of each message. The error is why it could not begin.
func To(ctx hearing.Context, lasts time.Duration, f *fleet.Fleet, spec *crowd.Witness, see func(Overheard)) (Unheard, error) {
	if !spec.Listens() {
		return Unheard{}, errors.New("it asks, and does not listen")
	}
	return listen(ctx, lasts, f, spec, func(e *listener) { e.tap = see })
}

// Record hears what comes out at a subscription as it comes, as long as To does. What see is given is its own.
func Record(ctx hearing.Context, lasts time.Duration, f *fleet.Fleet, spec *crowd.Witness, see func(*recording.Line)) (Unheard, error) {
	return listen(ctx, lasts, f, spec, func(e *listener) {
		e.record = func(m *message) {
			l := &recording.Line{At: m.at, Topic: m.topic, Body: bytes.Clone(m.body), QoS: m.qos, Retained: m.retained,
				ContentType: m.kind,
				Response:    m.response, Correlation: bytes.Clone(m.correlation), Expiry: m.expiry, UTF8: m.utf8}
			for _, u := range m.user {
				l.Properties = append(l.Properties, recording.Pair{u.Key, u.Value})
			}
			see(l)
		}
	})
}

func listen(ctx hearing.Context, lasts time.Duration, f *fleet.Fleet, spec *crowd.Witness, prepare func(*listener)) (Unheard, error) {
	b, err := hearing.New(spec, 0, match.NewCatalog(f, "listen"), nil)
	if err != nil {
		return Unheard{}, err
	}
	e, err := newListener(b)
	if err != nil {
		return Unheard{}, err
	}
	prepare(e)
	// A subscription beside a run of the same file must not throw its witness off.
	if s, is := e.source.(*subscription); is {
		s.connect.ClientID = fmt.Sprintf("runcrowd-listen-%x", time.Now().UnixNano())
	}
	if err := e.Start(ctx); err != nil {
		return Unheard{}, err
	}
	if lasts > 0 {
		hearing.Sleep(ctx, lasts)
	} else {
		<-ctx.Done()
	}
	ended := time.Now()
	e.Stop() // before the question: or a connection that comes back meanwhile tells of the same time
	if _, down, why := e.source.state(); !down.IsZero() && down.Before(ended) {
		e.gap(&ledger.Gap{From: down, To: ended, Why: why})
	}
	e.unheardMu.Lock()
	defer e.unheardMu.Unlock()
	return e.unheard, nil
}

// overheard makes out whose message it is.
func (e *listener) overheard(m *message, part match.Part, filed int) Overheard {
	o := Overheard{At: m.at, Witness: e.Spec.Name, Topic: m.topic, QoS: m.qos, Retained: m.retained,
		Body: bytes.Clone(m.body), Kind: m.kind}
	if filed >= 0 {
		st := e.Catalog.Fleet.Streams[filed]
		o.Device, o.Reading = st.Device.Name, st.Reading.Name
	}
	switch x := part.Mark.(type) {
	case string:
		if m, err := ledger.ParseMark(x); err == nil {
			o.Mark, o.Device, o.Reading = &m, m.Device, m.Reading
		}
	case json.Number:
		if n, err := x.Int64(); err == nil && n > 0 && filed >= 0 {
			o.Mark = &ledger.Mark{Device: o.Device, Reading: o.Reading,
				Seq: uint64(n) / uint64(len(e.Catalog.Fleet.Streams))} // the marks of a stream are that far apart
		}
	}
	if part.Values != nil {
		v := part.Values
		if e.values != nil {
			if picked, err := e.values.One(v); err == nil {
				v = picked
			}
		}
		if m, is := v.(map[string]any); is {
			for _, place := range e.Catalog.Places {
				strictjson.Take(m, place.Name)
			}
		}
		o.Values, _ = json.Marshal(v)
	}
	if e.device != nil {
		if v, err := e.device.One(part.Values); err == nil && v != nil && o.Mark == nil {
			o.Device = formula.String(v)
		}
	}
	return o
}
