package witness

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
	"runcrowd/internal/mqttwire"
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
}

// Listen hears what comes out at a subscribing witness, until ctx is done, and
// tells see of each message. The error is why it could not begin.
func Listen(ctx Context, f *fleet.Fleet, spec *crowd.Witness, see func(Overheard)) error {
	if spec.Filter == "" {
		return errors.New("it does not subscribe")
	}
	w, err := New(spec, 0, NewCatalog(f, "listen"), nil)
	if err != nil {
		return err
	}
	s, ok := w.(*subscription)
	if !ok {
		return errors.New("it does not subscribe")
	}
	s.tap = see
	// A listener beside a run of the same file must not throw its witness off.
	s.connect.ClientID = fmt.Sprintf("runcrowd-listen-%x", time.Now().UnixNano())
	if err := s.Start(ctx); err != nil {
		return err
	}
	<-ctx.Done()
	s.Stop()
	return nil
}

// overheard makes out whose message it is.
func (s *subscription) overheard(p *mqttwire.Packet, part part, filed int, now time.Time) Overheard {
	o := Overheard{At: now, Witness: s.spec.Name, Topic: p.Publish.Topic, QoS: p.Publish.QoS, Retained: p.Publish.Retain, Body: bytes.Clone(p.Publish.Payload)}
	if filed >= 0 {
		st := s.catalog.Fleet.Streams[filed]
		o.Device, o.Reading = st.Device.Name, st.Reading.Name
	}
	switch x := part.mark.(type) {
	case string:
		if m, err := ledger.ParseMark(x); err == nil {
			o.Mark, o.Device, o.Reading = &m, m.Device, m.Reading
		}
	case json.Number:
		if n, err := x.Int64(); err == nil && n > 0 && filed >= 0 {
			o.Mark = &ledger.Mark{Device: o.Device, Reading: o.Reading, Seq: uint64(n) / uint64(len(s.catalog.Fleet.Streams))} // the marks of a stream are that far apart
		}
	}
	if part.values != nil {
		v := part.values
		if s.values != nil {
			if picked, err := s.values.One(v); err == nil {
				v = picked
			}
		}
		if m, is := v.(map[string]any); is {
			for _, place := range s.catalog.places {
				delete(m, place.Name)
			}
		}
		o.Values, _ = json.Marshal(v)
	}
	if s.device != nil {
		if v, err := s.device.One(part.values); err == nil && v != nil && o.Mark == nil {
			o.Device = formula.String(v)
		}
	}
	return o
}
