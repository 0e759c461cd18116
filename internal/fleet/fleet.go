// Package fleet makes devices out of a crowd: names, properties, credentials,
// and for each reading a stream of messages with everything worked out that
// does not change from one message to the next.
package fleet

import (
	"crypto/tls"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Fleet is all devices of a crowd.
type Fleet struct {
	Crowd       *crowd.Crowd
	Credentials *credential.Store // nil: the devices cannot connect
	Devices     []*Device
	Streams     []*Stream
	sees        [][]bool // by witness and device; nil for a witness that sees all
	Part        Part     // which of the devices are played here

	keys sync.Mutex // of what a device is, where another one looks at it
}

// Device is one virtual device.
type Device struct {
	Index    int
	Name     string
	N        int
	Cast     *crowd.Cast
	Tags     []string
	Env      formula.Env // its properties and what formulas know of it
	ClientID string
	Username string
	Password string
	Cert     *tls.Certificate // its own; nil: none
	Path     string           // of a WebSocket; empty: that of the address
	Tokens   link.TokenSource // gives its access token; nil: it has none
	Will     *link.Will
	Asks     []link.Ask   // where its commands come from
	Gateway  *Device      // that it is behind; nil: none
	Behind   []*Device    // those that are behind it
	Shaper   *link.Shaper // what Network goes through; nil: nothing
	Network  link.Network // its own; nil: that of its link
	Commands []*Command
	Streams  []*Stream
	// Elsewhere: another part of the crowd plays it.
	Elsewhere bool
}

// Command is a command of one device.
type Command struct {
	*crowd.Command
	Filter string // topic filter, or path
	Key    uint64 // of seed, device and command
}

// Identity is who the device is to its platform.
func (d *Device) Identity() link.Identity {
	exactly := func(d *Device) bool {
		return slices.ContainsFunc(d.Streams, func(s *Stream) bool { return s.Reading.QoS == 2 }) ||
			slices.ContainsFunc(d.Cast.Commands, func(k *crowd.Command) bool { return k.Answer != nil && k.Answer.QoS == 2 })
	}
	return link.Identity{Device: d.Index, Name: d.Name, ClientID: d.ClientID, Username: d.Username, Password: d.Password,
		Path: d.Path,
		Cert: d.Cert, Tokens: d.Tokens, Will: d.Will, Asks: d.Asks, Network: d.Network,
		Exactly: exactly(d) || slices.ContainsFunc(d.Behind, exactly)}
}

// Stream is one reading of one device.
type Stream struct {
	Index   int
	Device  *Device
	Reading *crowd.Reading
	Target  string // topic or path
	Headers []crowd.Header
	Values  []string      // of Headers
	Signer  link.Signer   // computes others for each request; nil: there are none
	User    []link.Header // user properties
	Names   []string      // of the fields
	Form    payload.Form  // nil: a flat JSON object
	Phase   float64       // share of the interval by which this device's schedule is shifted
	Key     uint64        // of seed, device and reading
	Body    uint64        // of seed and device
	Rank    uint64        // its place among the devices with the same reading of the same kind
	Peers   uint64        // how many these are
	Turn    uint64        // key of the order in which they speak
	Calls   []Call        // for alerts
	makers  []maker
	env     bool // some field is a formula
	shadows bool // some field has the name of a property
	recalls bool // some formula uses the message before
}

// Call is how a stream's values call for an alert.
type Call struct {
	Alert int // its place in the file
	*crowd.Call
}

// maker makes one field.
type maker struct {
	key     uint64
	name    string // as formulas know it
	signal  signal.Signal
	follows signal.Follower
	source  int // of follows
	field   *crowd.Field
}

// Build makes the fleet. A store gives its devices their keys, certificates and tokens;
// without one they cannot connect, which is enough for judging a run. The error is a
// *crowd.Problems.
func Build(c *crowd.Crowd, store *credential.Store) (*Fleet, error) {
	f := &Fleet{Crowd: c, Credentials: store}
	p := c.Problems()
	m := &formula.Machine{}
	f.devices(m, p)
	if len(p.List) == 0 {
		f.gateways(m, p)
		f.witnesses(p)
		f.strays(m, p)
		f.unarmed(p)
	}
	if len(p.List) > 0 {
		p.Hide(c.Secrets())
		return nil, p.Err()
	}
	peers := map[[2]string][]*Stream{}
	for _, d := range f.Devices {
		for _, s := range d.Streams {
			s.Index = len(f.Streams)
			f.Streams = append(f.Streams, s)
			for i, n := range c.Alerts {
				if call := n.Calls[s.Reading]; call != nil {
					s.Calls = append(s.Calls, Call{i, call})
				}
			}
			key := [2]string{d.Cast.Kind.Name, s.Reading.Name}
			peers[key] = append(peers[key], s)
		}
	}
	for key, list := range peers {
		for i, s := range list {
			s.Rank, s.Peers, s.Turn = uint64(i), uint64(len(list)), signal.Key(c.Seed, "turn", key[0],
				s.Reading.InFile())
		}
	}
	return f, nil
}

// Select lists the devices that any of some selections names, in the fleet's
// order. Without a selection it is all of them.
func (f *Fleet) Select(who ...*crowd.Selection) ([]*Device, error) {
	if len(who) == 0 {
		return f.Devices, nil
	}
	list := f.Candidates()
	picked := make([]bool, len(list))
	for _, w := range who {
		some, err := w.Pick(f.Crowd.Seed, list)
		if err != nil {
			return nil, err
		}
		for i := range some {
			picked[i] = picked[i] || some[i]
		}
	}
	var devices []*Device
	for i, d := range f.Devices {
		if picked[i] {
			devices = append(devices, d)
		}
	}
	return devices, nil
}

// Place is where the value of a field stands in what a message carries, its parts joined by
// dots; empty: in a text beside others.
func (s *Stream) Place(field string) string {
	if t, is := s.Form.(interface{ Path(field string) string }); is {
		return t.Path(field)
	}
	return field
}

// Candidates are all devices, for selections.
func (f *Fleet) Candidates() []crowd.Candidate {
	f.keys.Lock()
	defer f.keys.Unlock()
	list := make([]crowd.Candidate, len(f.Devices))
	for i, d := range f.Devices {
		list[i] = crowd.Candidate{Name: d.Name, Kind: d.Cast.Kind.Name, Tags: d.Tags, Env: d.Env, Group: d.Cast}
	}
	return list
}

// witnesses finds out which devices each witness should see.
func (f *Fleet) witnesses(p *crowd.Problems) {
	f.sees = make([][]bool, len(f.Crowd.Witnesses))
	for i, w := range f.Crowd.Witnesses {
		if len(w.Who) == 0 && !w.OnlyHears() {
			continue
		}
		f.sees[i] = make([]bool, len(f.Devices)) // of messages, what hears alerts sees none
		for _, who := range w.Who {
			devices, err := f.Select(who)
			if err != nil {
				p.Add(who.Pos, "the witness %q: who: %s", w.Name, err)
			}
			for _, d := range devices {
				f.sees[i][d.Index] = true
			}
		}
	}
}

// strays notes messages that are to go to a topic where no witness listens: nothing could show
// that the platform took them.
func (f *Fleet) strays(m *formula.Machine, p *crowd.Problems) {
	for _, e := range f.Crowd.Plan.Events {
		for _, d := range f.Devices {
			if d.Cast.Link.Protocol != crowd.MQTT {
				continue
			}
			for _, x := range e.Do[d.Cast] {
				if x.Kind != crowd.ActionCorrupt || x.Corrupt != crowd.CorruptTopic {
					continue
				}
				topic, err := x.Value.Expand(m, d.Env)
				if err != nil {
					continue // told when it is done
				}
				seen := slices.ContainsFunc(f.Crowd.Witnesses, func(w *crowd.Witness) bool {
					return w.Sees() && w.Subscribes(topic)
				})
				if !seen && len(f.Crowd.Witnesses) > 0 {
					p.Add(x.Pos, "the event %q: corrupt: no witness listens at %s, so nothing could show that the platform took it; "+
						"let one subscribe there", e.Title(), topic)
				}
			}
		}
	}
}

// NotRegistered are the devices that are not registered: they lack what the platform
// gives them for it.
func (f *Fleet) NotRegistered() []*Device {
	en := f.Crowd.Register
	if en == nil || len(en.Save) == 0 {
		return nil
	}
	var list []*Device
	for _, d := range f.Devices {
		if e := f.Crowd.Registered[d.Name]; e.Made == nil && e.Steps > 0 || !f.Keyed(d) {
			list = append(list, d)
		}
	}
	return list
}

// SetProperty gives a device another value of a property. Whoever still reads the old values
// goes on with these.
func (f *Fleet) SetProperty(d *Device, name string, v any) {
	env := maps.Clone(d.Env)
	env[name] = v
	f.keys.Lock()
	d.Env = env
	f.keys.Unlock()
}

// SetNetwork gives a device a network of its own.
func (f *Fleet) SetNetwork(d *Device, s *link.Shaper) {
	f.keys.Lock()
	defer f.keys.Unlock()
	d.Shaper, d.Network = s, s.Dial
}

// Keyed tells whether a device has all that the platform gives it when it is registered.
func (f *Fleet) Keyed(d *Device) bool {
	en := f.Crowd.Register
	return en == nil || !slices.ContainsFunc(en.Save, func(k crowd.Save) bool { return d.Env[k.Name] == "" })
}

// Lacks is what a device that is not registered has not, of what the platform gives.
func (f *Fleet) Lacks(d *Device) string {
	for _, k := range f.Crowd.Register.Save {
		if d.Env[k.Name] == "" {
			return k.Name
		}
	}
	return f.Crowd.Register.Save[0].Name
}

// Sees tells whether a witness, by its place in the file, should see the messages
// of a device.
func (f *Fleet) Sees(witness int, d *Device) bool {
	return f.sees[witness] == nil || f.sees[witness][d.Index]
}

// devices makes the devices, or notes why they cannot be made.
func (f *Fleet) devices(m *formula.Machine, p *crowd.Problems) {
	clients := map[string]string{}
	forms := map[formKey]payload.Form{}
	failed, tried := map[*crowd.Cast]bool{}, map[*crowd.Cast]bool{}
	for _, mb := range f.Crowd.Members {
		if failed[mb.Cast] {
			continue // the others of the group have the same mistake
		}
		d := f.device(mb, m, p, forms, tried)
		if d == nil {
			failed[mb.Cast] = true
			continue
		}
		// A token is another for each, and not made yet.
		if l := d.Cast.Link; l.Protocol == crowd.MQTT && d.Cast.Kind.Presence.Through == nil &&
			!strings.Contains(d.ClientID, link.TokenPlace) {
			id := l.Address + "\x00" + d.ClientID
			if other, twice := clients[id]; twice {
				p.Add(l.Pos, "the devices %s and %s have the same client id %q: the broker would throw each off when the other "+
					"connects", other, d.Name, d.ClientID)
				failed[mb.Cast] = true
				continue
			}
			clients[id] = d.Name
		}
		d.Index = len(f.Devices)
		f.Devices = append(f.Devices, d)
	}
}

// device makes one device, or notes why it cannot be made.
func (f *Fleet) device(mb *crowd.Member, m *formula.Machine, p *crowd.Problems, forms map[formKey]payload.Form,
	tried map[*crowd.Cast]bool) *Device {
	c, cast := f.Crowd, mb.Cast
	d := &Device{N: cast.First + mb.Index, Name: mb.Name, Cast: cast, Tags: cast.Tags, Env: maps.Clone(mb.Env)}
	before := len(p.List)
	if cast.Token != nil {
		if f.Credentials != nil {
			token, err := f.Credentials.Token(cast.Link, cast.Token, d.Env, !tried[cast])
			if err != nil {
				p.Add(cast.Token.Pos, "the access token of %s: %s", d.Name, err)
			}
			tried[cast] = true
			d.Tokens = token
		}
		c.Secret(link.TokenPlace)
		d.Env[crowd.TokenName] = link.TokenPlace
		defer delete(d.Env, crowd.TokenName)
	}
	expand := func(at crowd.Pos, what string, t *formula.Text) string {
		if t == nil {
			return ""
		}
		s, err := t.Expand(m, d.Env)
		if err != nil {
			p.Add(at, "%s: %s", what, err)
		}
		c.Computed(t, m, d.Env, d.Cast.Secrets)
		return s
	}
	l := cast.Link
	d.ClientID = expand(l.Pos, "client_id", cast.ClientID)
	d.Username = expand(l.Pos, "username", cast.Username)
	d.Password = expand(l.Pos, "password", cast.Password)
	if l.Protocol == crowd.MQTT && (d.ClientID == "" || len(d.ClientID) > 65535) {
		p.Add(l.Pos, "the client id of %s has %d bytes; it must have 1 to 65535", d.Name, len(d.ClientID))
	}
	d.Path = expand(l.Pos, "path", cast.Path)
	if d.Password != link.TokenPlace {
		c.Secret(d.Password)
	}
	cert, key := expand(l.Pos, "tls: cert", cast.Cert), expand(l.Pos, "tls: key", cast.Key)
	if f.Credentials != nil {
		pair, err := f.Credentials.Pair(cert, key)
		if err != nil {
			p.Add(l.Pos, "the certificate of %s: %s", d.Name, err)
		}
		d.Cert = pair
	}
	for _, r := range cast.Readings {
		s := &Stream{Device: d, Reading: r, Key: signal.Key(c.Seed, d.Name, r.InFile()), Body: signal.Key(c.Seed, d.Name)}
		d.Env["reading"] = r.Name
		if r.Only != "" {
			d.Env["field"] = r.Only
		}
		s.Target = expand(r.Pos, fmt.Sprintf("the reading %q", r.Name), r.Target)
		if r.Target == nil {
			continue // told already
		} else if l.Protocol == crowd.MQTT {
			if err := crowd.CheckTopic(s.Target); err != nil && len(p.List) == before {
				p.Add(r.Pos, "the reading %q of %s: %s", r.Name, d.Name, err)
			}
		} else if err := crowd.CheckPath(s.Target); err != nil {
			p.Add(r.Pos, "the reading %q of %s: %s", r.Name, d.Name, err)
		}
		s.Headers = r.Headers
		for _, h := range r.Headers {
			value := expand(r.Pos, "the header "+h.Name, h.Value)
			if strings.ContainsAny(value, "\r\n\x00") {
				p.Add(r.Pos, "the header %s of %s holds a line break", h.Name, d.Name)
			}
			s.Values = append(s.Values, value)
		}
		s.Signer = f.signer(d, r.Signed, f.streamEnv(s))
		for _, u := range r.User {
			value := expand(r.Pos, "the user property "+u.Name, u.Value)
			if err := crowd.CheckText(u.Name + value); err != nil {
				p.Add(r.Pos, "the user property %s of %s: %s", u.Name, d.Name, err)
			}
			s.User = append(s.User, link.Header{Name: u.Name, Value: value})
		}
		s.Phase = signal.Uniform(s.Key, 0, 7)
		f.makers(s, m, p)
		if form, err := f.form(s, m, forms); err != nil {
			p.Add(r.Payload.Pos, "the reading %q of %s: payload: %s", r.Name, d.Name, err)
		} else {
			s.Form = form
		}
		d.Streams = append(d.Streams, s)
		delete(d.Env, "field")
	}
	delete(d.Env, "reading")
	f.commands(d, p, expand)
	if len(p.List) > before {
		return nil
	}
	return d
}

// commands makes the commands and the will of a device.
func (f *Fleet) commands(d *Device, p *crowd.Problems, expand func(crowd.Pos, string, *formula.Text) string) {
	if w := d.Cast.Will; w != nil {
		d.Will = &link.Will{Topic: expand(w.Pos, "will: topic", w.Topic), Body: []byte(expand(w.Pos, "will: body", w.Body)),
			QoS: w.QoS, Retain: w.Retain,
			Delay: uint32(w.Delay / time.Second), ContentType: w.ContentType}
		if err := crowd.CheckTopic(d.Will.Topic); err != nil {
			p.Add(w.Pos, "the will of %s: %s", d.Name, err)
		}
	}
	for _, k := range d.Cast.Commands {
		what := fmt.Sprintf("the command %q", k.Name)
		c := &Command{Command: k, Key: signal.Key(f.Crowd.Seed, d.Name, "command", k.Name)}
		var ask link.Ask
		if d.Cast.Link.Protocol == crowd.MQTT {
			c.Filter = expand(k.Pos, what+": topic", k.Topic)
			if err := crowd.CheckFilter(c.Filter); err != nil {
				p.Add(k.Pos, "%s of %s: topic: %s", what, d.Name, err)
			}
			ask = link.Ask{Filter: c.Filter, QoS: k.QoS}
		} else {
			c.Filter = expand(k.Pos, what+": path", k.Path)
			if err := crowd.CheckPath(c.Filter); err != nil {
				p.Add(k.Pos, "%s of %s: %s", what, d.Name, err)
			}
			ask = link.Ask{Path: c.Filter, Every: k.Every, Signer: f.signer(d, nil, nil)}
			for _, h := range d.Cast.Headers {
				ask.Headers = append(ask.Headers, link.Header{Name: h.Name, Value: expand(k.Pos, "the header "+h.Name, h.Value)})
			}
		}
		d.Commands = append(d.Commands, c)
		if !slices.ContainsFunc(d.Asks, func(a link.Ask) bool { return a.Filter+a.Path == c.Filter }) {
			d.Asks = append(d.Asks, ask)
		}
	}
}

// makers makes the makers of a stream's fields.
func (f *Fleet) makers(s *Stream, m *formula.Machine, p *crowd.Problems) {
	d, r := s.Device, s.Reading
	for i := range r.Fields {
		field := &r.Fields[i]
		mk := maker{key: signal.Key(f.Crowd.Seed, d.Name, r.InFile(), field.Name),
			name: strings.ReplaceAll(field.Name, ".", "_"), field: field}
		s.Names = append(s.Names, field.Name)
		if _, is := d.Env[mk.name]; is {
			s.shadows = true
		}
		if field.Formula != nil {
			s.env = true
			s.recalls = s.recalls || field.Previous
		} else {
			sig, err := d.signal(field, m)
			if err != nil {
				p.Add(field.Pos, "the field %q of %s: %s", field.Name, d.Name, err)
			}
			mk.signal = sig
			mk.follows, _ = sig.(signal.Follower)
			for k := range r.Fields[:i] {
				if r.Fields[k].Name == field.Follows {
					mk.source = k
				}
			}
		}
		s.makers = append(s.makers, mk)
	}
}

// formKey says which streams can share a form.
type formKey struct {
	reading *crowd.Reading
	device  *Device // where the form depends on it
}

// form makes the form of a stream's bodies; nil for a flat JSON object.
func (f *Fleet) form(s *Stream, m *formula.Machine, forms map[formKey]payload.Form) (payload.Form, error) {
	p := &s.Reading.Payload
	if s.Reading.Raw {
		return payload.Raw{}, nil
	}
	if p.Form == "json" && !p.Nested && s.Reading.Batch == 1 {
		return nil, nil
	}
	key := formKey{reading: s.Reading}
	if p.BaseName != nil || p.Series != nil || p.Template != nil {
		key.device = s.Device
	}
	if known, is := forms[key]; is {
		return known, nil
	}
	var filler *filler
	if p.Template != nil {
		filler = newFiller(s)
	}
	form, err := crowd.NewForm(s.Reading, s.Device.Cast.Kind.Mark, func(t *formula.Text) (string, error) {
		if t == nil {
			return "", nil
		}
		return t.Expand(m, s.Device.Env)
	}, func(fo *formula.Formula, sample *payload.Sample) (any, error) { return filler.run(fo, sample) })
	if err == nil {
		forms[key] = form
	}
	return form, err
}

// signal makes the signal of a field for this device.
func (d *Device) signal(f *crowd.Field, m *formula.Machine) (signal.Signal, error) {
	args := signal.Args{}
	for name, a := range f.Args {
		if a.Formula == nil {
			args[name] = a.Value
			continue
		}
		v, err := a.Formula.Any(m, d.Env)
		if err != nil {
			return nil, err
		}
		var number float64
		switch x := v.(type) {
		case int:
			number = float64(x)
		case int64:
			number = float64(x)
		case float64:
			number = x
		case quantity.Position:
			args[name] = x
			continue
		default:
			return nil, fmt.Errorf("%s gives %v, not a number or a position", name, x)
		}
		args[name] = number
		if p, _ := f.Spec.Param(name); p.Type == signal.Duration {
			args[name] = time.Duration(number * float64(time.Second))
		}
	}
	return f.Spec.Make(args)
}
