package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
)

// Flaw is a defect that the stand-in is told to have.
type Flaw struct {
	Name  string
	Count int           // how many messages it hits; or
	Share float64       // which part of them, when Count is 0
	Delay time.Duration // for delay
}

// flaws are all there are: what each does, and what it will do to some messages.
var flaws = map[string]struct{ does, will string }{
	"lose":   {"acknowledges and discards", "acknowledge %s and discard them"},
	"forget": {"acknowledges and passes on, but does not store", "acknowledge %s and pass them on, but not store them"},
	"refuse": {"refuses and discards (MQTT 3.1.1 has no way to refuse: there it acknowledges)",
		"refuse %s and discard them"},
	"ignore": {"does not answer, and discards", "not answer %s, and discard them"},
	"mute":   {"passes on and stores, but does not answer", "pass on and store %s, but not answer them"},
	"delay": {"acknowledges at once, passes on and stores later", "acknowledge %s at once, but pass them " +
		"on and store them later"},
	"repeat": {"passes on and stores twice", "pass on and store %s twice"},
	"reorder": {"passes on and stores after the next message of the same topic", "pass on and store %s after " +
		"the next message of their topic"},
	"alter":   {"changes the last number in the message", "change the last number in %s"},
	"misfile": {"files under another device", "file %s under another device"},
	"stale": {"acknowledges and discards what is older than two seconds by its own time stamp, at",
		"acknowledge %s that are older than two seconds by their own time stamp, and discard them"},
	"admit":              {"lets in whoever shows wrong credentials", "let in whoever shows wrong credentials, whatever %s carry"},
	"alert-none":         {"does not give an alert that its rules call for", "not give %s"},
	"alert-twice":        {"gives an alert twice", "give %s twice"},
	"alert-late":         {"gives an alert late", "give %s late"},
	"alert-wrong-device": {"gives an alert about another device", "give %s about another device"},
	"alert-flood": {"gives an alert at every message beyond a limit, not once", "give an alert at every message " +
		"beyond a limit"},
	"cut": {"cuts the connection, and discards", "cut the connection at %s, and discard them"},
}

// alertFlaws are those of them that fall on what the stand-in says by itself.
var alertFlaws = map[string]struct{}{"alert-none": {}, "alert-twice": {}, "alert-late": {}, "alert-wrong-device": {},
	"alert-flood": {}}

// FlawNames lists all flaws in alphabetical order.
func FlawNames() []string {
	names := make([]string, 0, len(flaws))
	for n := range flaws {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// FlawDoc is what a flaw does to a message.
func FlawDoc(name string) string { return flaws[name].does }

// Will is what the flaw will do, and to how many messages.
func (f Flaw) Will() string {
	if f.Name == "admit" { // it is no matter of single messages
		return "will let in whoever shows wrong credentials"
	}
	if f.Name == "alert-flood" {
		return "will " + flaws[f.Name].will
	}
	what := "message"
	if _, of := alertFlaws[f.Name]; of {
		what = "alert"
	}
	some := fmt.Sprintf("%s%% of the "+what+"s", strconv.FormatFloat(f.Share*100, 'f', -1, 64))
	if f.Count == 1 {
		some = "one " + what
	} else if f.Count > 1 {
		some = fmt.Sprintf("%d %ss", f.Count, what)
	}
	will := fmt.Sprintf(flaws[f.Name].will, some)
	if f.Count == 1 {
		will = strings.NewReplacer(" them", " it", " their", " its").Replace(will)
	}
	return "will " + will
}

const (
	defaultHits  = 3
	defaultDelay = 4 * time.Second
)

// ParseFlaw reads NAME, NAME=COUNT or NAME=SHARE%, and for delay a time behind
// an @: "lose", "alter=5", "repeat=2%", "delay=3@2s".
func ParseFlaw(text string) (Flaw, error) {
	name, amount, given := strings.Cut(text, "=")
	amount, delay, timed := strings.Cut(amount, "@")
	if !given {
		name, delay, timed = strings.Cut(name, "@")
	}
	f := Flaw{Name: name, Count: defaultHits}
	if _, known := flaws[name]; !known {
		return f, fmt.Errorf("there is no flaw %q; there is %s", name, strings.Join(FlawNames(), ", "))
	}
	if timed && name != "delay" && name != "alert-late" {
		return f, fmt.Errorf("the flaw %q takes no time; only delay does, such as delay=3@2s", name)
	}
	f.Delay = defaultDelay
	if timed {
		d, err := time.ParseDuration(delay)
		if err != nil || d <= 0 || d > time.Hour {
			return f, fmt.Errorf("%q is not a time for the flaw delay; write one such as delay=3@2s", delay)
		}
		f.Delay = d
	}
	if !given {
		return f, nil
	}
	if p, isShare := strings.CutSuffix(amount, "%"); isShare {
		v, err := strconv.ParseFloat(p, 64)
		if err != nil || !(v > 0 && v <= 100) {
			return f, fmt.Errorf("%q is not a share of messages; write one such as %s=5%%", amount, name)
		}
		f.Count, f.Share = 0, v/100
		return f, nil
	}
	n, err := strconv.Atoi(amount)
	if err != nil || n < 1 {
		return f, fmt.Errorf("%q is not a number of messages; write one such as %s=3 or %s=5%%", amount, name, name)
	}
	f.Count = n
	return f, nil
}

// Hit is a message that a flaw fell on.
type Hit struct {
	Flaw    string
	Topic   string
	Payload []byte // as it came in
}

// stride spreads counted hits over the messages: one in so many is hit.
const stride = 13

// chance decides which messages are hit: by counting, so that the same stream
// of messages is hit at the same places.
type chance struct {
	mu      sync.Mutex
	flaws   []Flaw
	arrived []int // messages that each flaw looked at
	struck  []int
	known   map[string]string // messages hit before, by topic and payload
	hits    []Hit
}

func newChance(flaws []Flaw) *chance {
	return &chance{flaws: flaws, arrived: make([]int, len(flaws)), struck: make([]int, len(flaws)),
		known: map[string]string{}}
}

// strike decides whether a flaw falls on a message. A message that comes again
// because it was not answered is not hit anew; again tells its first flaw.
func (c *chance) strike(topic string, payload []byte, fits func(Flaw) bool) (f Flaw, hit bool, again string) {
	if len(c.flaws) == 0 {
		return Flaw{}, false, ""
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	key := topic + "\x00" + string(payload)
	if name, before := c.known[key]; before {
		return Flaw{}, false, name
	}
	for i, f := range c.flaws {
		if !fits(f) {
			continue
		}
		c.arrived[i]++
		n := c.arrived[i]
		if f.Count > 0 {
			hit = c.struck[i] < f.Count && n%stride == (3+i)%stride
		} else {
			hit = math.Floor(float64(n)*f.Share+1e-9) > float64(c.struck[i])
		}
		if hit {
			c.struck[i]++
			c.known[key] = f.Name
			c.hits = append(c.hits, Hit{f.Name, topic, bytes.Clone(payload)})
			return f, true, ""
		}
	}
	return Flaw{}, false, ""
}

// alter changes the last number among the top-level members of a JSON object, or in a plain text.
// ok is false where there is none.
func alter(payload []byte) (changed []byte, ok bool) {
	if first := bytes.TrimSpace(payload); len(first) > 0 && first[0] != '{' && first[0] != '[' {
		return alterText(payload)
	}
	d := json.NewDecoder(bytes.NewReader(payload))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, false
	}
	from, to := int64(0), int64(0)
	var number json.Number
	members := 0
	for d.More() {
		if _, err := d.Token(); err != nil {
			return nil, false
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, false
		}
		members++
		var n json.Number
		// The first member is left alone: that is where a mark rides.
		if members > 1 && raw[0] != '"' && json.Unmarshal(raw, &n) == nil && n != "" {
			to = d.InputOffset()
			from, number = to-int64(len(raw)), n
		}
	}
	if number == "" {
		return nil, false
	}
	v, err := number.Float64()
	if err != nil {
		return nil, false
	}
	changed = append(changed, payload[:from]...)
	changed = strconv.AppendFloat(changed, v+1, 'f', -1, 64)
	return append(changed, payload[to:]...), true
}

// inText is a number that stands alone in a text; those of a mark have a slash beside them.
var inText = regexp.MustCompile(`(?:^|[^0-9A-Za-z/._-])(-?[0-9]+(?:\.[0-9]+)?)(?:$|[^0-9A-Za-z/._-])`)

func alterText(payload []byte) (changed []byte, ok bool) {
	if !utf8.Valid(payload) {
		return nil, false
	}
	all := inText.FindAllSubmatchIndex(payload, -1)
	if len(all) == 0 {
		return nil, false
	}
	from, to := all[len(all)-1][2], all[len(all)-1][3]
	v, err := strconv.ParseFloat(string(payload[from:to]), 64)
	if err != nil {
		return nil, false
	}
	changed = append(changed, payload[:from]...)
	changed = strconv.AppendFloat(changed, v+1, 'f', -1, 64)
	return append(changed, payload[to:]...), true
}

// has tells whether a flaw was asked for.
func (c *chance) has(name string) bool {
	for _, f := range c.flaws {
		if f.Name == name {
			return true
		}
	}
	return false
}
