// Package check tells everything about a crowd that can be known without a
// network: what is probably not meant, though it is no mistake, and the load to
// expect. Mistakes are found before, by packages crowd and fleet.
package check

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/quantity"
	"runcrowd/internal/sqltext"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/unit"
)

// Warning is something in a crowd file that is allowed and probably not meant.
type Warning struct {
	Pos  crowd.Pos
	Text string
}

// Load is what the platform has to expect.
type Load struct {
	Devices  int
	Kinds    []Share
	Readings int // streams: readings of all devices
	Links    []LinkLoad
	// Messages of one round and of all rounds, about.
	PerRound, Messages float64
	// PerSecond and BytesPerSecond are those of the steady state, all links
	// together, on the wire without TCP and below.
	PerSecond, BytesPerSecond float64
	Largest                   int // body in bytes
	LargestOf                 string
	Length                    time.Duration // of the whole plan; 0: nobody knows
	// Story is what happens in the first round, or in the first Span of it.
	Story []Happens
	// Recordings are what groups play again.
	Recordings []Played
	// Alerts are how often each is called for in the first round, as far as it was looked at.
	Alerts []CalledFor
	Span   time.Duration
	Needs  Needs
}

// Share is a kind and how many devices it has.
type Share struct {
	Name string
	N    int
}

// LinkLoad is the load over one link.
type LinkLoad struct {
	Name, Address  string
	Connections    int
	PerSecond      float64
	BytesPerSecond float64
	once           int     // messages that are sent at each connection
	JoinsPerSecond float64 // the most connections opened in a second while devices join
	AsksPerSecond  float64 // HTTP: questions for commands
}

// Options are what depends on the machine.
type Options struct {
	MaxFiles int // most open files of a process; 0: not known
	Parts    int // in which the crowd is played; 0: in one
}

// sampled is how many devices of a group are looked at whole; the others are
// taken to be like them.
const sampled = 100

// brokerUsual and intakeUsual are sizes that platforms often refuse to exceed.
const (
	brokerUsual = 256 << 10
	intakeUsual = 1 << 20
)

type checker struct {
	*fleet.Fleet
	list []Warning
	seen map[likeness]int // the warning's place in the list, and one
	more []int            // how many more there are like it
	load Load
}

// Check looks at a fleet. Warnings come in the file's order.
func Check(f *fleet.Fleet, opt Options) ([]Warning, Load) {
	c := &checker{Fleet: f, seen: map[likeness]int{}}
	c.names()
	c.registered()
	c.secrets()
	c.tokens()
	c.addresses()
	c.targets()
	c.schedule()
	c.events()
	c.alerts()
	c.witnesses()
	c.bodies()
	c.sums()
	c.load.Needs = c.needs(max(1, opt.Parts), opt.MaxFiles)
	if n := &c.load.Needs; n.MaxFiles > 0 && n.Files > n.MaxFiles {
		c.add(crowd.Pos{}, "%s", n.TooMany())
	}
	for i, n := range c.more {
		if n > 0 {
			c.list[i].Text += fmt.Sprintf(" (and %d more like this)", n)
		}
	}
	sort.SliceStable(c.list, func(i, j int) bool {
		a, b := c.list[i].Pos, c.list[j].Pos
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return c.list, c.load
}

func (c *checker) add(at crowd.Pos, format string, args ...any) {
	key := likeness{at, format}
	text := c.Crowd.Redact(fmt.Sprintf(format, args...))
	if i := c.seen[key]; i > 0 {
		if c.list[i-1].Text != text {
			c.more[i-1]++
		}
		return
	}
	c.list = append(c.list, Warning{at, text})
	c.more = append(c.more, 0)
	c.seen[key] = len(c.list)
}

// likeness is what warnings have in common that differ by the device alone: one
// of them is told.
type likeness struct {
	at     crowd.Pos
	format string
}

var padded = regexp.MustCompile(`pad\(\s*n\s*,\s*(\d+)\s*\)`)

// names finds numbers that outgrow the digits they are padded to: then buoy-99 is
// followed by buoy-100, and neither sorts nor matches as the others do.
func (c *checker) names() {
	for _, g := range c.Crowd.Casts {
		last := g.First + g.Count - 1
		look := func(at crowd.Pos, what, text string) {
			for _, m := range padded.FindAllStringSubmatch(text, -1) {
				if digits, _ := strconv.Atoi(m[1]); len(strconv.Itoa(last)) > digits {
					c.add(at, "%s: %s is too short for the number of the last device, %d: names will not sort, and not match as the "+
						"others do; write pad(n, %d)", what, m[0], last, len(strconv.Itoa(last)))
				}
			}
		}
		if g.Name != nil {
			look(g.NamePos, "name", g.Name.Source())
		}
		for _, p := range g.Properties {
			if p.Text != nil {
				look(p.Pos, fmt.Sprintf("the property %q", p.Name), p.Text.Source())
			}
		}
		for _, r := range g.Readings {
			if r.Target != nil {
				look(r.Pos, fmt.Sprintf("the reading %q", r.Name), r.Target.Source())
			}
		}
	}
}

func (c *checker) registered() {
	if list := c.NotRegistered(); len(list) > 0 {
		c.add(c.Crowd.Register.Pos, "%d of %d devices are not registered yet, and have no %s: run register before they send",
			len(list), len(c.Devices), c.Lacks(list[0]))
	}
}

// tokens looks for access tokens that are made and never shown, on the first device of
// each group: they are the same with the others.
func (c *checker) tokens() {
	looked := map[*crowd.Cast]bool{}
	for _, d := range c.Devices {
		if d.Tokens == nil || looked[d.Cast] {
			continue
		}
		looked[d.Cast] = true
		texts := []string{d.ClientID, d.Username, d.Password, d.Path}
		for _, s := range d.Streams {
			texts = append(append(texts, s.Target), s.Values...)
		}
		if !strings.Contains(strings.Join(texts, " "), link.TokenPlace) {
			c.add(d.Cast.Token.Pos, "access tokens of %s are made and never shown; write, for example, password: "+
				"${access_token} or headers: {Authorization: \"Bearer ${access_token}\"} in the link %q", d.Cast.Kind.Name,
				d.Cast.Link.Name)
		}
	}
}

func (c *checker) secrets() {
	for _, name := range c.Crowd.ShortSecrets {
		c.add(crowd.Pos{Line: 1, Column: 1}, "the value of ${env.%s} has fewer than %d characters: it is not masked where "+
			"it is shown", name, crowd.LeastSecret)
	}
	for _, at := range c.Crowd.PlainSecrets() {
		c.add(at, "a secret stands here in plain text; it is kept out of all output, but whoever has the file has it: "+
			"write ${env.NAME} and export NAME=…")
	}
}

// local tells whether an address is on this machine.
func local(hostPort string) bool {
	host, _, err := net.SplitHostPort(hostPort)
	if err != nil {
		host = hostPort
	}
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return host == "localhost" || err == nil && a.IsLoopback()
}

func (c *checker) addresses() {
	for _, l := range c.Crowd.AllLinks() {
		if l.TLS != nil && l.TLS.NoVerify {
			c.add(l.Pos, "the link %q does not check who it talks to (verify: false): anybody on the way can answer in the "+
				"platform's place; name the authority instead: tls: {ca: FILE}", l.Name)
		}
		switch l.Protocol {
		case crowd.MQTT:
			if l.TLS == nil && !local(l.Address) {
				c.add(l.Pos, "the link %q goes to another machine (%s) without TLS: whoever is on the way reads names, secrets "+
					"and values", l.Name, l.Address)
			}
		case crowd.HTTP:
			c.insecure(l.Pos, fmt.Sprintf("the link %q", l.Name), l.Address)
		}
	}
	for _, w := range c.Crowd.Witnesses {
		if w.Get != "" && !strings.HasPrefix(w.Get, "${") {
			c.insecure(w.Pos, fmt.Sprintf("the witness %q", w.Name), w.Get)
		}
	}
}

func (c *checker) insecure(at crowd.Pos, what, address string) {
	rest, plain := strings.CutPrefix(address, "http://")
	host, _, _ := strings.Cut(rest, "/")
	if plain && host != "" && !strings.Contains(host, "${") && !local(host) {
		c.add(at, "%s goes to another machine (%s) without TLS: whoever is on the way reads secrets and values; write "+
			"https://", what, host)
	}
}

// targets looks at topics and paths: those that two streams share, and those that
// are allowed and cause trouble.
func (c *checker) targets() {
	first := map[string]*fleet.Stream{}
	for _, s := range c.Streams {
		l := s.Device.Cast.Link
		key := l.Address + "\x00" + s.Target
		if other, twice := first[key]; !twice {
			first[key] = s
		} else if l.Protocol == crowd.MQTT {
			who := fmt.Sprintf("%s and %s", other.Device.Name, s.Device.Name)
			if other.Device == s.Device {
				who = fmt.Sprintf("the readings %q and %q of %s", other.Reading.Name, s.Reading.Name, s.Device.Name)
			}
			text := "a message filed under the wrong one cannot be seen"
			if s.Device.Cast.Kind.Mark.Place == crowd.MarkSequence {
				text = "a mark that is a sequence cannot tell whose a message is: put ${device} or ${reading} into the topic, or " +
					"use mark: {field: NAME}"
			}
			c.add(s.Reading.Pos, "%s send to the same topic %q; %s", who, s.Target, text)
		} else if other.Device == s.Device {
			c.add(s.Reading.Pos, "the readings %q and %q of %s send to the same path %q; a message filed under the wrong one "+
				"cannot be seen", other.Reading.Name, s.Reading.Name, s.Device.Name, s.Target)
		}
		if l.Protocol == crowd.MQTT {
			c.topic(s)
		}
	}
}

// topic looks at one topic (MQTT 5, section 4.7).
func (c *checker) topic(s *fleet.Stream) {
	t := s.Target
	at, what := s.Reading.Pos, fmt.Sprintf("the reading %q: the topic %q", s.Reading.Name, t)
	switch {
	case strings.HasPrefix(t, "$"):
		c.add(at, "%s begins with $: such topics belong to the broker, and # does not match them (section 4.7.2)", what)
	case strings.HasPrefix(t, "/"):
		c.add(at, "%s begins with /, which makes an empty first level; leave it out", what)
	case strings.Contains(t, "//") || strings.HasSuffix(t, "/"):
		c.add(at, "%s has an empty level; is a property empty?", what)
	case strings.ContainsAny(t, " \t"):
		c.add(at, "%s holds a blank; many platforms refuse it", what)
	}
}

func (c *checker) schedule() {
	plan := c.Crowd.Plan // a copy: what is said of its length follows from all that ends it
	plan.For = plan.Lasts(time.Now())
	for _, s := range c.Streams {
		if s.Device.Cast.Recording != nil {
			continue
		}
		r := s.Reading
		if r.OnConnect {
			continue
		}
		every := r.Every * time.Duration(r.Batch)
		if every > plan.For {
			c.add(r.Pos, "the reading %q is due every %s, and the plan lasts %s: most devices will not send it at all", r.Name,
				quantity.FormatDuration(every), quantity.FormatDuration(plan.For))
		} else if r.Turns.How == crowd.InOrder && every*time.Duration(s.Peers) > plan.For {
			c.add(r.Pos, "the reading %q is sent in turn by %d devices, one every %s: the plan of %s is over before all have "+
				"had their turn", r.Name, s.Peers, quantity.FormatDuration(every), quantity.FormatDuration(plan.For))
		}
	}
	if NothingDue(c.Fleet) {
		c.add(crowd.Pos{}, "%s", NothingDueText(c.Fleet))
	}
	if plan.Join.Rate > 0 {
		if last := plan.Join.At(len(c.Devices)-1, len(c.Devices)); last > plan.For {
			c.add(crowd.Pos{}, "plan: at %s devices join so slowly that the last would come after %s; the plan lasts %s",
				plan.Join.Rate, last.Round(time.Second), quantity.FormatDuration(plan.For))
		}
	}
}

// NothingDue tells whether no message of a fleet falls due in a round.
func NothingDue(f *fleet.Fleet) bool {
	plan := f.Crowd.Plan
	plan.For = plan.Lasts(time.Now())
	for _, s := range f.Streams {
		if s.Device.Cast.Recording != nil {
			return false
		}
		join := int64(plan.Join.At(s.Device.Index, len(f.Devices)))
		if s.Reading.OnConnect && join < int64(plan.For) {
			return false
		}
		if due, _ := engine.Due(s, 0, join, 1, 0); join < int64(plan.For) && due < int64(plan.For) {
			return false
		}
	}
	return true
}

// NothingDueText says so, and what to do.
func NothingDueText(f *fleet.Fleet) string {
	least := time.Duration(0)
	for _, s := range f.Streams {
		if every := s.Reading.Every * time.Duration(s.Reading.Batch); every > 0 && (least == 0 || every < least) {
			least = every
		}
	}
	if least == 0 {
		return "plan: nothing falls due: no device has a reading"
	}
	return fmt.Sprintf("plan: nothing falls due: it lasts %s, and no reading is due in that time (the shortest interval "+
		"is %s); make it longer, or the intervals shorter", quantity.FormatDuration(
		f.Crowd.Plan.Lasts(time.Now()).Round(time.Millisecond)), quantity.FormatDuration(least))
}

// stampUnit is in what a field tells a time, by an example of its value.
func stampUnit(sample any) time.Duration {
	switch x := sample.(type) {
	case int:
		for _, unit := range []time.Duration{time.Second, time.Millisecond, time.Microsecond} {
			if float64(x) < 1e10*float64(time.Second/unit) {
				return unit
			}
		}
	case string:
		if _, fraction, has := strings.Cut(x, "."); has && len(fraction) > 3 {
			return time.Millisecond
		}
		return time.Second
	}
	return 0
}

// stamps finds messages that are told apart by a time that two of them may share.
func (c *checker) stamps(k *crowd.Kind, r *crowd.Reading) {
	if k.Mark.Place != crowd.MarkTime || r.Every == 0 {
		return
	}
	for i := range r.Fields {
		if f := &r.Fields[i]; f.Name == k.Mark.Name {
			if unit := stampUnit(f.Sample); r.Every < unit {
				c.add(r.Pos, "the reading %q is due every %s, and its mark is the field %q, which tells times to %s: messages of "+
					"a device share one, and only their values tell them apart; let the field tell more, for example as: us", r.Name,
					quantity.FormatDuration(r.Every), f.Name, quantity.FormatDuration(unit))
			}
		}
	}
	for _, w := range c.Crowd.Witnesses {
		if w.Cut > 0 && r.Every < w.Cut {
			c.add(w.Pos, "the witness %q cuts times to %s, and the reading %q is due every %s: messages of a device share "+
				"one, and only their values tell them apart", w.Name, quantity.FormatDuration(w.Cut), r.Name,
				quantity.FormatDuration(r.Every))
		}
	}
}

// precision finds time stamps that two messages of a device may share.
func (c *checker) precision(r *crowd.Reading) {
	unit := map[string]time.Duration{"s": time.Second, "ms": time.Millisecond, "us": time.Microsecond}[r.Payload.Precision]
	if r.Payload.Form == "line-protocol" && r.Every < unit && !r.OnConnect {
		c.add(r.Payload.Pos, "the reading %q is due every %s, and its time stamps have a precision of %s: two messages of "+
			"a device may share one, and a store then keeps one of them; write precision: ns", r.Name,
			quantity.FormatDuration(r.Every), r.Payload.Precision)
	}
}

// witnesses looks for witnesses that cannot find what they should.
func (c *checker) witnesses() {
	cr := c.Crowd
	if len(cr.Witnesses) == 0 {
		c.add(crowd.Pos{}, "there is no witness: what is acknowledged may still be lost, and nobody would see it")
	}
	for i, w := range cr.Witnesses {
		if w.Hears && len(cr.AlertsOf(w)) == 0 {
			c.add(w.Pos, "the witness %q hears alerts, and no alert is heard by it; name it under alerts: heard_by: %s", w.Name,
				w.Name)
		}
		if b := w.Callback; b != nil && len(b.RequireHeaders) == 0 && !local(b.Address) {
			c.add(w.Pos, "the witness %q listens at %s, where others reach it, and takes every call for the platform's; say what "+
				"calls must show with require_headers, or listen at 127.0.0.1", w.Name, b.Address)
		}
		c.places(w)
		c.rowTimes(i, w)
		if len(w.Filters) == 0 {
			continue
		}
		for _, f := range w.Filters {
			if rest, shared := strings.CutPrefix(f, "$share/"); shared {
				group, filter, _ := strings.Cut(rest, "/")
				c.add(w.Pos, "the witness %q subscribes to %q: the broker splits its messages between all members of the group "+
					"%q, and what another member gets is missing here; write subscribe: %q", w.Name, f, group, filter)
			}
		}
		if w.Shared() {
			continue
		}
		for _, s := range c.Streams {
			if !w.Sees() || !c.Sees(i, s.Device) || w.Topic(s.Device.Cast) != nil {
				continue
			}
			if s.Device.Cast.Link.Protocol == crowd.MQTT && !w.Subscribes(s.Target) {
				c.add(w.Pos, "the witness %q subscribes to %q, which does not match the topic %q of %s: it would never hear it; "+
					"widen subscribe:, name the kinds it is for with who:, or say with topic: where messages come out", w.Name,
					strings.Join(w.Filters, ", "), s.Target, s.Device.Name)
				break
			}
		}
	}
}

// rowTimes looks whether the time of a row is one that the device sends.
func (c *checker) rowTimes(i int, w *crowd.Witness) {
	if !w.Asks() || w.Time == "" || w.TimeOf != "" {
		return
	}
	for _, s := range c.Streams {
		if !c.Sees(i, s.Device) {
			continue
		}
		for k := range s.Reading.Fields {
			f := &s.Reading.Fields[k]
			at := s.Place(f.Name)
			if f.Spec == nil || f.Spec.Name != "clock" || at == "" {
				continue
			}
			if w.Time == at || strings.TrimPrefix(w.Time, ".") == strings.Trim(w.Values+"."+at, ".") {
				c.add(w.Pos, "the witness %q takes the time of a row from %s, which is the field %q that the device sends: it "+
					"says nothing about when a message was stored; name the platform's own time, or say that it is the "+
					"device's: time: {at: %s, of: device}", w.Name, w.Time, f.Name, w.Time)
				return
			}
		}
	}
}

// places looks whether what a witness asks is there, as far as that can be seen without a
// network, and whether it asks for too much.
func (c *checker) places(w *crowd.Witness) {
	here := func(name string) string {
		if filepath.IsAbs(name) {
			return name
		}
		return filepath.Join(filepath.Dir(c.Crowd.Path), name)
	}
	switch {
	case w.SQL != nil:
		kind, err := sqltext.KindOf(w.SQL.Address)
		if err != nil {
			return // told already
		}
		q, err := sqltext.Parse(w.SQL.Query, kind.Dialect(), sqltext.Parameters)
		if err == nil && !slices.ContainsFunc(q.Names(), func(n string) bool { return n != "device" && n != "devices" }) &&
			w.Sees() {
			c.add(w.Pos, "the witness %q asks for rows of all times: in a table that has many, that takes long; narrow it "+
				"with @from and @to", w.Name)
		}
		if path, is := strings.CutPrefix(w.SQL.Address, "sqlite:"); is {
			if _, err := os.Stat(here(path)); err != nil {
				c.add(w.Pos, "the witness %q: there is no database %s", w.Name, here(path))
			}
		}
	case w.File != "" && !strings.Contains(w.File, "${"):
		folder := filepath.Dir(here(w.File))
		if _, err := os.Stat(folder); err != nil {
			c.add(w.Pos, "the witness %q looks for files in %s, and there is no such folder", w.Name, folder)
		}
	case len(w.Program) > 0 && !strings.Contains(w.Program[0], "${"):
		name := w.Program[0]
		if strings.ContainsRune(name, '/') {
			if abs, err := filepath.Abs(here(name)); err == nil { // else a name without a slash is looked for elsewhere
				name = abs
			}
		}
		if _, err := exec.LookPath(name); err != nil && !errors.Is(err, exec.ErrDot) {
			c.add(w.Pos, "the witness %q runs %s, which is not there, or may not be run", w.Name, w.Program[0])
		}
	}
}

// bodies writes the first messages of some devices of each group and looks at
// what comes out.
func (c *checker) bodies() {
	byCast := map[*crowd.Cast][]*fleet.Device{}
	for _, d := range c.Devices {
		byCast[d.Cast] = append(byCast[d.Cast], d)
	}
	bodies := engine.BodyWriter{Run: engine.PreviewRun, Numbers: ledger.NumbersOf(engine.PreviewRun, len(c.Streams))}
	begin := time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)
	links := map[string]*LinkLoad{}
	for _, l := range c.Crowd.Links {
		links[l.Name] = &LinkLoad{Name: l.Name, Address: l.Address}
	}
	for _, d := range c.Devices {
		all := byCast[d.Cast]
		if all[0] != d {
			continue // once for each group
		}
		load := links[d.Cast.Link.Name]
		for _, d := range all {
			if d.Gateway == nil {
				load.Connections++
			}
		}
		for _, a := range d.Asks {
			if d.Gateway != nil {
				break
			}
			if a.Path != "" {
				load.AsksPerSecond += float64(len(all)) / a.Every.Seconds()
			}
		}
		if r := d.Cast.Recording; r != nil {
			c.recording(r, load)
			continue
		}
		for ri := range d.Cast.Readings {
			total, n := 0, min(len(all), sampled)
			r := d.Cast.Readings[ri]
			c.units(r)
			c.precision(r)
			c.stamps(d.Cast.Kind, r)
			c.frozen(&bodies, all[0].Streams[ri], begin)
			for _, x := range all[:n] {
				s := x.Streams[ri]
				w, err := bodies.Write(s, 1, 0, begin.Add(r.Every), begin, nil)
				if err != nil {
					c.add(r.Pos, "a value cannot be made; null is sent in its place, or the nearest that fits: %s", err)
				}
				if field, was, is, rounds := bodies.Rounds(s); rounds && err == nil && tolerance(r, field) == 0 {
					c.add(r.Pos, "the field %q of the reading %q has values such as %s, and its slot holds %s: that is what is sent, "+
						"and compared; round the field with round:, or say with tolerance: that it may differ", field, r.Name, was, is)
				}
				total += WireSize(s, w)
				c.large(r, w.Carried[0])
				if len(w.Body) > c.load.Largest {
					c.load.Largest, c.load.LargestOf = len(w.Body), x.Name+" "+r.Name
				}
				usual, whose := brokerUsual, "many brokers take 256 KiB at most"
				if d.Cast.Link.Protocol == crowd.HTTP {
					usual, whose = intakeUsual, "many platforms take 1 MiB at most"
				}
				if len(w.Body) > usual {
					c.add(r.Pos, "the reading %q makes messages of %d bytes; %s", r.Name, len(w.Body), whose)
				}
			}
			if r.OnConnect { // at least once
				load.once += len(all)
				continue
			}
			// Each of the group speaks once an interval; in order, one of all.
			rate := 1 / (r.Every.Seconds() * float64(r.Batch))
			share := 1.0
			switch sp := r.Turns; sp.How {
			case crowd.InOrder:
				share = 1 / float64(d.Streams[ri].Peers)
			case crowd.AtRandom:
				if share = sp.Share; sp.Some > 0 {
					share = min(1, float64(sp.Some)/float64(d.Streams[ri].Peers))
				}
			}
			rate *= share * float64(len(all))
			load.PerSecond += rate * float64(r.Batch)
			load.BytesPerSecond += rate * float64(total) / float64(n)
		}
	}
	for _, l := range c.Crowd.Links {
		c.load.Links = append(c.load.Links, *links[l.Name])
	}
}

// frozen looks for fields that are always the same because min or max holds them there.
func (c *checker) frozen(bodies *engine.BodyWriter, s *fleet.Stream, begin time.Time) {
	const looks = 40 // over two days: what is held for a night is not frozen
	for i := range s.Reading.Fields {
		f := &s.Reading.Fields[i]
		if f.Finish.Min == nil && f.Finish.Max == nil || f.Spec != nil && f.Spec.Name == "constant" {
			continue
		}
		first, same := "", true
		for n := 0; n < looks && same; n++ {
			w, err := bodies.Write(s, uint64(n+1), 0, begin.Add(time.Duration(n)*73*time.Minute), begin, nil)
			if err != nil || len(w.Carried) == 0 {
				return
			}
			v, _ := strictjson.Decode(w.Carried[0])
			x, _ := strictjson.At(v, f.Name)
			if number, is := x.(json.Number); !is {
				same = false
			} else if first == "" {
				first = number.String()
			} else {
				same = number.String() == first
			}
		}
		if same {
			c.add(f.Pos, "the field %q is always %s: min and max hold it there; give the signal that range", f.Name, first)
		}
	}
}

// large looks for whole numbers that readers of JSON change.
func (c *checker) large(r *crowd.Reading, carried []byte) {
	if f := r.Payload.Form; f != "json" && f != "template" && f != "senml" {
		return
	}
	list, _ := strictjson.Members(carried)
	for _, m := range list {
		n, is := m.Value.(json.Number)
		if !is {
			continue
		}
		if i, err := n.Int64(); err == nil && (i > 1<<53 || i < -(1<<53)) {
			c.add(r.Pos, "the field %q of the reading %q is %s: JSON readers that keep numbers as 64-bit floating point "+
				"change whole numbers beyond 2^53 (9007199254740992); send it as a text, or smaller", m.Name, r.Name, n)
		}
	}
}

func (c *checker) units(r *crowd.Reading) {
	for i := range r.Fields {
		f := &r.Fields[i]
		if u, known := unit.Find(f.Unit); f.Unit != "" && strings.HasPrefix(r.Payload.Form, "senml") &&
			(!known || !u.SenML || u.Name != f.Unit) {
			hint := "leave it out, or convert to one that has"
			if known && u.SenML {
				hint = "write " + u.Name
			}
			c.add(f.Pos, "the unit %q of the field %q has no entry in SenML's registry (RFC 8428, section 12.1); %s", f.Unit,
				f.Name, hint)
		}
	}
}

// WireSize is about how many bytes a message and its answer take on the wire,
// without what TCP and the layers below add.
func WireSize(s *fleet.Stream, w engine.Written) int {
	r := s.Reading
	l := s.Device.Cast.Link
	if l.Protocol == crowd.MQTT {
		p := mqttwire.Publish{Topic: s.Target, QoS: r.QoS, Retain: r.Retain, ID: 1, Payload: w.Body,
			ContentType: engine.ContentType(s), UserKey: w.Mark.Name, UserVal: w.Mark.Value,
			Expiry: uint32(r.Expires / time.Second)}
		for _, u := range s.User {
			p.User = append(p.User, mqttwire.UserProperty{Key: u.Name, Value: u.Value})
		}
		if l.Version != mqttwire.V5 {
			p.ContentType, p.UserKey, p.Expiry, p.User = "", "", 0, nil
		}
		b, _ := mqttwire.AppendPublish(nil, byte(l.Version), &p)
		return len(b) + map[byte]int{1: 4, 2: 12}[r.QoS]
	}
	n := len(w.Body)
	for _, line := range RequestHead(s, w) {
		n += len(line) + 2
	}
	return n + 2 + 100 // an answer with a few headers
}

// RequestHead is the request line and the headers of a message over HTTP.
func RequestHead(s *fleet.Stream, w engine.Written) []string {
	r := s.Reading
	u, err := url.Parse(s.Device.Cast.Link.Address)
	if err != nil {
		u = &url.URL{}
	}
	host := u.Host
	var lines []string
	for i, h := range s.Headers {
		if strings.EqualFold(h.Name, "Host") {
			host = s.Values[i]
			continue
		}
		lines = append(lines, h.Name+": "+s.Values[i])
	}
	how, target := &s.Device.Cast.Signing, cmp.Or(w.Target, s.Target)
	for _, h := range slices.Concat(how.Headers, r.Signed) { // computed when it is sent
		lines = append(lines, h.Name+": "+h.Value.Source())
	}
	for _, q := range how.Query {
		sep := "?"
		if strings.Contains(target, "?") {
			sep = "&"
		}
		target += sep + q.Name + "=" + q.Value.Source()
	}
	head := []string{fmt.Sprintf("%s %s%s HTTP/1.1", r.Method, u.Path, target), "Host: " + host, "User-Agent: runcrowd"}
	if len(w.Body) > 0 || r.Method != "GET" && r.Method != "DELETE" {
		head = append(head, fmt.Sprintf("Content-Length: %d", len(w.Body)))
	}
	if t := engine.ContentType(s); t != "" {
		head = append(head, "Content-Type: "+t)
	}
	if r.Gzip {
		head = append(head, "Content-Encoding: gzip")
	}
	if w.Mark.Name != "" {
		lines = append(lines, w.Mark.Name+": "+w.Mark.Value)
	}
	l, d := s.Device.Cast.Link, s.Device
	if l.RetryKey != "" {
		lines = append(lines, l.RetryKey+": "+ledger.Mark{Run: engine.PreviewRun, Device: d.Name, Reading: r.Name,
			Seq: max(1, w.First)}.String())
	}
	if d.Username != "" && !slices.ContainsFunc(s.Headers, func(h crowd.Header) bool {
		return strings.EqualFold(h.Name,
			"Authorization")
	}) {
		basic := http.Header{}
		(&http.Request{Header: basic}).SetBasicAuth(d.Username, d.Password)
		lines = append(lines, "Authorization: "+basic.Get("Authorization"))
	}
	return append(head, lines...)
}

func (c *checker) sums() {
	plan := &c.Crowd.Plan
	l := &c.load
	l.Devices, l.Readings = len(c.Devices), len(c.Streams)
	byKind := map[string]int{}
	for _, d := range c.Devices {
		byKind[d.Cast.Kind.Name]++
	}
	for _, k := range c.Crowd.Kinds {
		if n := byKind[k.Name]; n > 0 {
			l.Kinds = append(l.Kinds, Share{k.Name, n})
		}
	}
	// On average a device sends from when it joined to the end.
	joins := plan.Join.At(len(c.Devices)-1, len(c.Devices))
	lasts := plan.Lasts(time.Now())
	sending := lasts.Seconds() - min(joins, lasts).Seconds()/2
	for i := range l.Links {
		k := &l.Links[i]
		l.PerSecond += k.PerSecond
		l.BytesPerSecond += k.BytesPerSecond
		share := float64(k.Connections) / float64(max(1, l.Devices))
		k.JoinsPerSecond = float64(k.Connections)
		switch {
		case plan.Join.Rate > 0:
			k.JoinsPerSecond = min(k.JoinsPerSecond, float64(plan.Join.Rate)*share)
		case plan.Join.Over > 0:
			k.JoinsPerSecond = min(k.JoinsPerSecond, float64(k.Connections)/plan.Join.Over.Seconds())
		}
	}
	l.PerRound = l.PerSecond * sending
	for i := range l.Links {
		l.PerRound += float64(l.Links[i].once)
	}
	for _, r := range l.Recordings {
		if rate := float64(r.Messages) / max(r.Lasts, time.Second).Seconds(); !r.loops { // played once
			l.PerRound += float64(r.Messages)*min(1, lasts.Seconds()/max(r.Lasts.Seconds(), 1e-9)) - rate*sending
		}
	}
	speed := plan.Speed.Times()
	l.PerSecond *= speed
	l.BytesPerSecond *= speed
	for i := range l.Links {
		l.Links[i].PerSecond *= speed
		l.Links[i].BytesPerSecond *= speed
	}
	if n := plan.Messages; n > 0 {
		speak := 0
		for _, d := range c.Devices {
			if len(d.Streams) > 0 {
				speak++
			}
		}
		l.PerRound = min(l.PerRound, float64(n*speak))
		lasts = min(lasts, time.Duration(l.PerRound/max(l.PerSecond/speed, 1e-9)*float64(time.Second)))
	}
	if lasts >= crowd.Forever/2 {
		l.PerRound, lasts = 0, 0 // without end
	}
	l.Messages = l.PerRound * float64(plan.Rounds)
	if l.Length = time.Duration(float64(time.Duration(max(plan.Rounds, 1)-1)*plan.Every+
		lasts) / speed); plan.Rounds == 0 || lasts == 0 || plan.Speed.Max {
		l.Length = 0
	}
}

// tolerance is that of a field of a reading.
func tolerance(r *crowd.Reading, name string) float64 {
	for i := range r.Fields {
		if r.Fields[i].Name == name {
			return r.Fields[i].Tolerance
		}
	}
	return 0
}
