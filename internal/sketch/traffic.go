package sketch

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
	"runcrowd/internal/quantity"
	"runcrowd/internal/recording"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/traffic"
)

// Heard is traffic from which a fleet is learnt. Its zero value is ready.
type Heard struct {
	Messages int   // that were looked at
	Full     bool  // more came, or may have: there were too many
	bytes    int64 // of the bodies that are kept
	topics   map[string]*heardTopic
	first    time.Time
	last     time.Time
	overHTTP bool
}

// heardTopic is what came at a topic, or at a path with a method.
type heardTopic struct {
	name, method string
	list         []heardMessage
	qos          byte
	retained     int
	content      string
}

type heardMessage struct {
	at   time.Time
	body []byte
}

// Bounds of what is kept of traffic.
const (
	mostHeard  = 200_000
	mostBodies = 256 << 20 // bytes
)

// Add takes a message.
func (h *Heard) Add(l *recording.Line) {
	if h.Messages >= mostHeard || h.bytes+int64(len(l.Body)) > mostBodies {
		h.Full = true
		return
	}
	name, method := l.Topic, ""
	if l.Path != "" {
		name, method, h.overHTTP = l.Path, cmp.Or(l.Method, "POST"), true
	}
	if h.topics == nil {
		h.topics = map[string]*heardTopic{}
	}
	key := method + " " + name
	t := h.topics[key]
	if t == nil {
		t = &heardTopic{name: name, method: method}
		h.topics[key] = t
	}
	if h.first.IsZero() || l.At.Before(h.first) {
		h.first = l.At
	}
	if l.At.After(h.last) {
		h.last = l.At
	}
	t.qos = max(t.qos, l.QoS)
	if l.Retained {
		t.retained++
	}
	t.content = cmp.Or(t.content, l.ContentType)
	t.list = append(t.list, heardMessage{l.At, slices.Clone(l.Body)})
	h.Messages++
	h.bytes += int64(len(l.Body))
}

// group is topics of one shape: a reading, before it is known whose.
type group struct {
	levels []string // a varying one is ""
	topics []*heardTopic
	shape  string
	device int // the level that names the device; -1: the body does, or nothing
}

// reading is what devices of a kind send.
type reading struct {
	name, target string
	group        *group
	byDevice     map[string][]heardMessage
	places       map[string][]string // of a device: its levels
	method       string
	qos          byte
	retain       bool
	content      string
	every        float64
	jitter       float64
	together     bool
	odd          bool // no interval fits
	sample       *Sample
	filter       string
}

// kind is devices that send the same.
type kind struct {
	name       string
	devices    []string
	readings   []*reading
	properties map[string]string
	order      []string
	prefix     string // of their names, before the number
	suffix     string // and after it
	width      int    // of the number, with zeros; 0: as it is
	first      int    // number
	notes      []string
	taken      map[string]bool // names of fields
}

// shapeOf is the names of an object's members, or what else a body is.
func shapeOf(list []heardMessage) string {
	names := map[string]bool{}
	form, object := "", false
	for i := range list {
		if i >= 50 {
			break
		}
		v, err := strictjson.Decode(list[i].body)
		if o, is := v.(map[string]any); err == nil && is {
			for k := range o {
				names[k] = true
			}
			object = true
			continue
		}
		switch now := traffic.Form(list[i].body); {
		case form == "" || form == now:
			form = now
		default: // a number now and a word then
			form = "words"
		}
	}
	if !object {
		return form
	}
	delete(names, "mark")
	var all []string
	for k := range names {
		all = append(all, strconv.Quote(k))
	}
	slices.Sort(all)
	return "{" + strings.Join(all, ",") + "}"
}

// where is a filter with a place for the device, as somebody said it.
type where struct {
	levels []string
	device int
}

func parseWhere(text string) *where {
	w := &where{levels: strings.Split(strings.ReplaceAll(text, "${device}", "{device}"), "/"), device: -1}
	w.device = slices.Index(w.levels, "{device}")
	if w.device < 0 {
		return nil
	}
	return w
}

func (w *where) matches(levels []string) bool {
	for i, l := range w.levels {
		if l == "#" {
			return true
		}
		if i >= len(levels) || l != "+" && l != "{device}" && l != levels[i] {
			return false
		}
	}
	return len(levels) == len(w.levels)
}

// groups puts topics together that differ in a level or two and say the same.
func (h *Heard) groups(hint *where) (list []*group) {
	by := map[string]*group{}
	for _, name := range sortedKeys(h.topics) {
		t := h.topics[name]
		if !utf8.ValidString(t.name) || t.method == "" && crowd.CheckTopic(t.name) != nil {
			continue // nothing can be published there
		}
		levels := strings.Split(t.name, "/")
		shape := shapeOf(t.list)
		pattern := slices.Clone(levels)
		if hint != nil {
			if !hint.matches(levels) {
				continue
			}
			pattern[hint.device] = ""
		}
		key := t.method + "\x00" + shape + "\x00" + strings.Join(pattern, "/")
		g := by[key]
		if g == nil {
			g = &group{levels: pattern, shape: shape, device: -1}
			if hint != nil {
				g.device = hint.device
			}
			by[key] = g
			list = append(list, g)
		}
		g.topics = append(g.topics, t)
	}
	list = folded(list, hint == nil)
	for _, g := range list {
		if hint == nil {
			g.device = g.namesDevice()
		}
	}
	return list
}

// folded makes one of groups that differ in one level: first those whose names differ in a number
// alone, which are devices, then others, from the first level on. Groups at whose other levels the
// same names stand are readings of the same devices, and stay apart.
func folded(list []*group, numbers bool) []*group {
	for _, numbered := range []bool{true, false} {
		if numbered && !numbers {
			continue
		}
		for changed := true; changed; {
			changed = false
			most := 0
			for _, g := range list {
				most = max(most, len(g.levels))
			}
			for i := 0; i < most && !changed; i++ {
				level := i
				if numbered {
					level = most - 1 - i
				}
				list, changed = foldedAt(list, level, numbered)
			}
		}
	}
	return list
}

// foldedAt is folded for a level.
func foldedAt(list []*group, level int, numbered bool) (left []*group, changed bool) {
	by := map[string][]*group{}
	var keys []string
	for _, g := range list {
		if level >= len(g.levels) || level == g.device {
			continue
		}
		other := slices.Clone(g.levels)
		other[level] = "\x01"
		key := g.topics[0].method + "\x00" + g.shape + "\x00" + strings.Join(other, "/")
		if numbered {
			key += "\x00" + digitsIn.ReplaceAllString(g.levels[level], "0")
		}
		if by[key] == nil {
			keys = append(keys, key)
		}
		by[key] = append(by[key], g)
	}
	gone := map[*group]bool{}
	for _, key := range keys {
		same := by[key]
		if len(same) < 2 || !numbered && (!varies(same, level) || same[0].meets(same[1:])) {
			continue
		}
		one := same[0]
		for _, g := range same[1:] {
			one.topics = append(one.topics, g.topics...)
			gone[g] = true
		}
		one.levels[level] = ""
		changed = true
	}
	return slices.DeleteFunc(list, func(g *group) bool { return gone[g] }), changed
}

var digitsIn = regexp.MustCompile(`[0-9]+`)

// varies tells whether groups that differ in a level are of different devices or places: of values
// that come alone the last level tells what they are (h/bath/temp, h/bath/wind).
func varies(same []*group, level int) bool {
	return len(same) >= 9 || strings.HasPrefix(same[0].shape, "{") || level < len(same[0].levels)-1
}

// meets tells whether a name stands in two groups where the levels vary that name devices.
func (g *group) meets(others []*group) bool {
	names := g.deviceNames()
	if names == nil {
		return false
	}
	for _, other := range others {
		for name := range other.deviceNames() {
			if names[name] {
				return true
			}
			names[name] = true
		}
	}
	return false
}

func (g *group) deviceNames() map[string]bool {
	level := g.device
	if level < 0 {
		level = g.varying()
	}
	if level < 0 {
		return nil
	}
	names := map[string]bool{}
	for _, t := range g.topics {
		names[strings.Split(t.name, "/")[level]] = true
	}
	return names
}

// namesDevice is the level that names the device: of several, the one with most values.
func (g *group) namesDevice() int {
	if best := g.varying(); best >= 0 {
		return best
	}
	best := -1
	if len(g.topics) == 1 && g.nameInside() == "" { // one device: a level that looks like a name
		for level, l := range g.levels {
			if named.MatchString(l) && !version.MatchString(l) {
				best = level
			}
		}
	}
	return best
}

// varying is the varying level with most values; -1: none varies.
func (g *group) varying() int {
	best, most := -1, 0
	for level, l := range g.levels {
		if l != "" {
			continue
		}
		seen := map[string]bool{}
		for _, t := range g.topics {
			seen[strings.Split(t.name, "/")[level]] = true
		}
		if len(seen) >= most {
			best, most = level, len(seen)
		}
	}
	return best
}

var named, version = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:-]*[0-9][A-Za-z0-9_.:-]*$`), regexp.MustCompile(`(?i)^(v|api)[0-9.]+$`)

// Learn is the fleet that traffic is of. topic says where the device stands, such as
// harbour/{device}/+; empty: it is found.
func (h *Heard) Learn(topic string) (*Fleet, error) {
	if h.Messages == 0 {
		return nil, fmt.Errorf("there is no message in it")
	}
	var hint *where
	if topic != "" {
		if hint = parseWhere(topic); hint == nil {
			return nil, fmt.Errorf("%q does not say where the device stands; write, for example, harbour/{device}/+", topic)
		}
	}
	f := &Fleet{Messages: h.Messages, From: h.first, To: h.last, OverHTTP: h.overHTTP, Columns: map[string][]any{}}
	groups := h.groups(hint)
	if len(groups) == 0 {
		return nil, fmt.Errorf("no message came at %s", cmp.Or(topic, "a topic that can be published to"))
	}
	sends := map[string]map[int]bool{} // device, its groups
	var readings []*reading
	for _, g := range groups {
		if !strings.HasPrefix(g.shape, "{") && !slices.Contains([]string{"number", "truth", "JSON list", "text", "words"}, g.shape) {
			n := 0
			for _, t := range g.topics {
				n += len(t.list)
			}
			f.Notes = append(f.Notes, fmt.Sprintf("%s at %s: the body is %s, of which no fields can be learnt; a group with "+
				"recording: plays them again as they are", plural(n, "message"), foreign.Line(g.filter(), 60), g.shape))
			continue
		}
		r := g.reading()
		i := len(readings)
		readings = append(readings, r)
		for d := range r.byDevice {
			if sends[d] == nil {
				sends[d] = map[int]bool{}
			}
			sends[d][i] = true
		}
	}
	taken := map[string]bool{}
	for _, k := range kindsOf(sends, readings) {
		k.nameDevices()
		for i := 2; slices.ContainsFunc(k.names(), func(name string) bool { return taken[name] }); i++ {
			k.prefix, k.suffix, k.width, k.first = fmt.Sprintf("%s-%d-", k.name, i), "", 0, 1
		}
		for _, name := range k.names() {
			taken[name] = true
		}
		for _, r := range k.readings {
			r.timing()
			if err := k.learn(r, h.first, f); err != nil {
				return nil, err
			}
		}
		f.kinds = append(f.kinds, k)
		f.Devices += len(k.devices)
	}
	if len(f.kinds) == 0 {
		return nil, fmt.Errorf("nothing could be learnt: %s", strings.Join(f.Notes, "; "))
	}
	if h.Full {
		f.Notes = append(f.Notes, fmt.Sprintf("only the first %d messages were looked at", h.Messages))
	}
	return f, nil
}

func sortedKeys[V any](m map[string]V) []string {
	list := make([]string, 0, len(m))
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// filter is the topics of a group.
func (g *group) filter() string {
	levels := slices.Clone(g.levels)
	for i := range levels {
		if levels[i] == "" {
			levels[i] = "+"
		}
	}
	return strings.Join(levels, "/")
}

// reading is a group's messages, by device.
func (g *group) reading() *reading {
	r := &reading{group: g, byDevice: map[string][]heardMessage{}, places: map[string][]string{}, method: g.topics[0].method}
	member := ""
	if g.device < 0 {
		member = g.nameInside()
	}
	retained, n := 0, 0
	for _, t := range g.topics {
		levels := strings.Split(t.name, "/")
		r.qos = max(r.qos, t.qos)
		r.content = cmp.Or(r.content, t.content)
		retained, n = retained+t.retained, n+len(t.list)
		for _, m := range t.list {
			device := "device-1"
			switch {
			case g.device >= 0:
				device = levels[g.device]
			case member != "":
				v, _ := strictjson.Decode(m.body)
				o, _ := v.(map[string]any)
				device = fmt.Sprint(o[member])
			}
			r.byDevice[device] = append(r.byDevice[device], m)
			r.places[device] = levels
		}
	}
	r.retain = retained*2 > n
	for _, list := range r.byDevice {
		slices.SortStableFunc(list, func(a, b heardMessage) int { return a.at.Compare(b.at) })
	}
	name := "state"
	for i := len(g.levels) - 1; i >= 0; i-- {
		if l := strings.Trim(noLetter.ReplaceAllString(strings.SplitN(g.levels[i], "?", 2)[0], "-"), "-_"); g.levels[i] != "" && l != "" && i != g.device {
			name = l
			break
		}
	}
	r.name = strings.ReplaceAll(strings.ToLower(name), "_", "-")
	return r
}

// nameInside is the member of bodies that names the device, where the topic does not: empty, none
// does.
func (g *group) nameInside() string {
	seen := map[string]map[string]bool{}
	n := 0
	for _, t := range g.topics {
		for _, m := range t.list {
			v, err := strictjson.Decode(m.body)
			o, is := v.(map[string]any)
			if err != nil || !is {
				continue
			}
			n++
			for k, x := range o {
				if s, is := x.(string); is && deviceName.MatchString(k) && s != "" && len(s) < 100 {
					if seen[k] == nil {
						seen[k] = map[string]bool{}
					}
					seen[k][s] = true
				}
			}
		}
	}
	best := ""
	for _, k := range sortedKeys(seen) {
		if c := len(seen[k]); c > 1 && 2*c <= n && (best == "" || c > len(seen[best])) {
			best = k
		}
	}
	return best
}

// kindsOf puts devices together that send the same.
func kindsOf(sends map[string]map[int]bool, readings []*reading) (list []*kind) {
	type member struct {
		alike string
		set   map[int]bool
		names []string
	}
	var members []*member
	for _, name := range sortedKeys(sends) {
		alike, set := digitsIn.ReplaceAllString(name, "0"), sends[name]
		i := slices.IndexFunc(members, func(m *member) bool {
			return mapsEqual(m.set, set) || m.alike == alike && (subset(m.set, set) || subset(set, m.set))
		})
		if i < 0 {
			members = append(members, &member{alike, set, []string{name}})
			continue
		}
		m := members[i]
		m.names = append(m.names, name)
		for k := range set {
			m.set[k] = true
		}
	}
	used := map[string]bool{}
	for _, m := range members {
		k := &kind{devices: m.names, properties: map[string]string{}, taken: map[string]bool{}}
		base := kindName(m.names)
		if base == "" {
			for i, r := range readings {
				if l := crowdLetters.ReplaceAllString(r.group.levels[0], ""); base == "" && m.set[i] && len(l) > 2 {
					base = l
				}
			}
			base = cmp.Or(base, "device")
		}
		k.name = base
		for i := 2; used[k.name]; i++ {
			k.name = fmt.Sprintf("%s-%d", base, i)
		}
		used[k.name] = true
		names := map[string]int{}
		for i, r := range readings {
			if !m.set[i] {
				continue
			}
			mine := *r
			mine.byDevice = map[string][]heardMessage{}
			for _, d := range m.names {
				if list := r.byDevice[d]; len(list) > 0 {
					mine.byDevice[d] = list
				}
			}
			if names[mine.name]++; names[mine.name] > 1 {
				mine.name = fmt.Sprintf("%s-%d", mine.name, names[mine.name])
			}
			k.readings = append(k.readings, &mine)
		}
		list = append(list, k)
	}
	return list
}

func mapsEqual(a, b map[int]bool) bool { return len(a) == len(b) && subset(a, b) }

func subset(a, b map[int]bool) bool {
	for k := range a {
		if !b[k] {
			return false
		}
	}
	return true
}

// kindName is what names have in common; empty: nothing.
func kindName(names []string) string {
	prefix := names[0]
	for _, n := range names {
		for !strings.HasPrefix(n, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
	}
	prefix = strings.TrimRight(prefix, "0123456789")
	prefix = strings.Trim(crowdLetters.ReplaceAllString(prefix, "-"), "-_.")
	if prefix != "" && prefix[0] >= '0' && prefix[0] <= '9' {
		return ""
	}
	return prefix
}

var crowdLetters = regexp.MustCompile(`[^A-Za-z0-9_-]+`)

var numbered = regexp.MustCompile(`^(.*?)([0-9]+)([^0-9]*)$`)

// nameDevices finds the pattern of the names.
func (k *kind) nameDevices() {
	prefix, suffix, width := "", "", 0
	var numbers []int
	fits := true
	for i, name := range k.devices {
		m := numbered.FindStringSubmatch(name)
		if m == nil || len(m[2]) > 9 || i > 0 && (m[1] != prefix || m[3] != suffix) {
			fits = false
			break
		}
		prefix, suffix = m[1], m[3]
		if m[2][0] == '0' && len(m[2]) > 1 {
			width = max(width, len(m[2]))
		}
		n, _ := strconv.Atoi(m[2])
		numbers = append(numbers, n)
	}
	for _, name := range k.devices { // zeros in front of some, and others that are shorter
		fits = fits && len(name) >= len(prefix)+width+len(suffix)
	}
	k.first = 1
	switch {
	case len(k.devices) == 1 && k.devices[0] == "device-1":
		k.prefix = "device-"
		k.notes = append(k.notes, "nothing names a device: neither a topic nor a member of the body; one device is taken to send all")
	case fits:
		k.first = slices.Min(numbers)
		k.prefix, k.suffix, k.width = prefix, suffix, width
		if span := slices.Max(numbers) - k.first + 1; span != len(numbers) {
			k.notes = append(k.notes, fmt.Sprintf("the numbers in the names had gaps: %d names from %d to %d", len(numbers), k.first, slices.Max(numbers)))
		}
	default:
		k.prefix = k.name + "-"
		k.notes = append(k.notes, fmt.Sprintf("the names follow no pattern that was found, such as %s: these are others",
			foreign.Line(strings.Join(k.devices[:min(3, len(k.devices))], ", "), 80)))
	}
}

// pattern is that of the names, as a crowd file has it.
func (k *kind) pattern() string {
	n := "${n}"
	if k.width > 0 {
		n = fmt.Sprintf("${pad(n, %d)}", k.width)
	}
	escape := func(s string) string { return strings.ReplaceAll(s, "${", "$${") }
	return escape(k.prefix) + n + escape(k.suffix)
}

// names are those that the devices will have.
func (k *kind) names() (list []string) {
	for i := range k.devices {
		list = append(list, fmt.Sprintf("%s%0*d%s", k.prefix, k.width, k.first+i, k.suffix))
	}
	return list
}

// timing finds how often a device sends.
func (r *reading) timing() {
	var steps []float64
	for _, list := range r.byDevice {
		for i := 1; i < len(list); i++ {
			if d := list[i].at.Sub(list[i-1].at).Seconds(); d > 0 {
				steps = append(steps, d)
			}
		}
	}
	if len(steps) < 2 {
		r.odd = true
		r.every = 60
		return
	}
	slices.Sort(steps)
	every := steps[len(steps)/2]
	// Once more, over all the time of each device: which of the beats each message is.
	var lengths, beats float64
	for _, list := range r.byDevice {
		n := 0.0
		for i := 1; i < len(list); i++ {
			n += max(1, math.Round(list[i].at.Sub(list[i-1].at).Seconds()/every))
		}
		if len(list) > 1 {
			lengths, beats = lengths+list[len(list)-1].at.Sub(list[0].at).Seconds(), beats+n
		}
	}
	if refined := lengths / beats; math.Abs(refined-every) < every*0.2 {
		every = refined
	}
	r.every = nice(every)
	var off []float64
	for _, list := range r.byDevice {
		var mine []float64
		n := 0.0
		for i, m := range list {
			if i > 0 {
				n += max(1, math.Round(m.at.Sub(list[i-1].at).Seconds()/r.every))
			}
			mine = append(mine, m.at.Sub(list[0].at).Seconds()-n*r.every)
		}
		mean, _ := moments(mine)
		for _, x := range mine {
			off = append(off, x-mean)
		}
	}
	slices.Sort(off)
	// An even spread from -j to j has nine tenths of its messages within 0.9 j.
	j := (off[len(off)*95/100] - off[len(off)*5/100]) / 1.8 / r.every
	switch {
	case j > 0.5:
		r.odd, r.jitter = true, 0.5
	case j > 0.02:
		r.jitter = j
	}
	// All at once?
	if len(r.byDevice) > 2 && !r.odd {
		var c, s float64
		n := 0
		var origin time.Time
		for _, d := range sortedKeys(r.byDevice) {
			list := r.byDevice[d]
			if origin.IsZero() {
				origin = list[0].at
			}
			sin, cos := math.Sincos(2 * math.Pi * list[0].at.Sub(origin).Seconds() / r.every)
			c, s, n = c+cos, s+sin, n+1
		}
		r.together = math.Hypot(c, s)/float64(n) > 0.97
	}
}

// nice is a time that somebody would have written, where one is within one percent.
func nice(x float64) float64 {
	for _, figuresOf := range []int{1, 2} {
		for _, unit := range []float64{3600, 60, 1, 0.001} {
			if x < unit {
				continue
			}
			y, err := strconv.ParseFloat(figures(x/unit, figuresOf), 64)
			if err == nil && math.Abs(y*unit-x) < x*0.01 {
				return y * unit
			}
		}
	}
	y, _ := strconv.ParseFloat(figures(x, 3), 64)
	return y
}

// learn finds what a reading's bodies are made of.
func (k *kind) learn(r *reading, origin time.Time, f *Fleet) error {
	s := newLearner()
	s.fit = &fitter{learner: s, devices: k.devices, every: r.every, origin: origin, properties: k.properties, order: &k.order,
		taken: k.taken, columns: f.Columns, prefix: k.name + "-" + r.name}
	for _, p := range k.order {
		s.used[p] = true
	}
	shapes := map[string]int{}
	first := map[string][]byte{}
	for i, d := range k.devices {
		for _, m := range r.byDevice[d] {
			v, err := strictjson.Decode(m.body)
			if err != nil && !utf8.Valid(m.body) {
				continue
			}
			if err != nil {
				v = string(m.body)
			}
			sh := fmt.Sprint(shapeOf([]heardMessage{m}))
			if shapes[sh]++; shapes[sh] == 1 {
				first[sh] = m.body
			}
			s.take(v, i, m.at.Sub(origin).Seconds())
		}
	}
	if !strings.HasPrefix(r.group.shape, "{") && r.group.shape != "JSON list" {
		return k.learnPlain(r, s)
	}
	best := ""
	for _, sh := range sortedKeys(shapes) {
		if best == "" || shapes[sh] > shapes[best] {
			best = sh
		}
	}
	if len(shapes) > 1 {
		total := 0
		for _, n := range shapes {
			total += n
		}
		s.notes = append(s.notes, fmt.Sprintf("%d of %d messages have other members: %s", total-shapes[best], total, foreign.Line(otherThan(shapes, best), 80)))
	}
	var err error
	if r.sample, err = s.learn(first[best]); err != nil {
		return err
	}
	k.aim(r, s)
	return nil
}

// learnPlain is learn for bodies that are a single value.
func (k *kind) learnPlain(r *reading, s *learner) error {
	f := s.fit
	list := s.values[""]
	if len(list) == 0 {
		return fmt.Errorf("the bodies at %s could not be read", foreign.Line(r.group.filter(), 60))
	}
	s.values = map[string][]observed{"." + r.name: list}
	of := ""
	switch x := list[0].v.(type) {
	case json.Number:
		of = f.number("."+r.name, x)
	case bool:
		of = f.truth("."+r.name, x)
	case string:
		of = strings.Trim(f.text("."+r.name, x), `"`)
	}
	if !strings.HasPrefix(of, "${") || strings.Contains(of, "(") {
		name := s.name(r.name)
		s.fields = append(s.fields, name+": "+strings.ReplaceAll(word(list[0].v), "${", "$${"))
		of = "${" + name + "}"
	}
	r.sample = &Sample{Template: of, Fields: s.fields, Notes: s.notes, Beside: true}
	k.aim(r, s)
	return nil
}

// aim says where a reading goes.
func (k *kind) aim(r *reading, s *learner) {
	for name := range s.used {
		k.taken[name] = true
	}
	levels := slices.Clone(r.group.levels)
	for i, l := range levels {
		switch {
		case i == r.group.device:
			levels[i] = "${device}"
		case l == "":
			levels[i] = k.place(r, i)
		default:
			levels[i] = levelOf(l)
		}
	}
	r.target = strings.Join(levels, "/")
	r.filter = strings.ReplaceAll(r.group.filter(), "$${", "${")
}

func otherThan(shapes map[string]int, best string) string {
	for _, sh := range sortedKeys(shapes) {
		if sh != best {
			return sh
		}
	}
	return ""
}

// levelOf is a level of a topic as a crowd file has it: what looks like a placeholder of somebody
// else's is a text in one of ours.
func levelOf(l string) string {
	if strings.ContainsAny(l, "{}<>%$") && !strings.ContainsAny(l, "'\\\n") {
		return "${'" + l + "'}"
	}
	return strings.ReplaceAll(l, "${", "$${")
}

// place is what stands in a level that is neither the device nor the same for all: a property.
func (k *kind) place(r *reading, level int) string {
	counts := map[string]int{}
	var words []string
	raw := ""
	for _, d := range k.devices {
		if levels := r.places[d]; levels != nil {
			raw = levels[level]
			w := quoted(levels[level])
			if counts[w]++; counts[w] == 1 {
				words = append(words, w)
			}
		}
	}
	if len(words) == 1 {
		return levelOf(raw)
	}
	slices.Sort(words)
	line := "{pick: [" + strings.Join(words, ", ") + "]" + weights(words, counts) + "}   # a level of its topics"
	for name, was := range k.properties {
		if was == line {
			return "${" + name + "}"
		}
	}
	name := fmt.Sprintf("level_%d", level+1)
	k.properties[name] = line
	k.order = append(k.order, name)
	return "${" + name + "}"
}

// Fleet is what was learnt of traffic.
type Fleet struct {
	Messages, Devices int
	From, To          time.Time
	OverHTTP          bool
	Notes             []string
	Columns           map[string][]any // that are played as they were, by the name of their file
	kinds             []*kind
}

// Kinds are their names, each with how many devices there were.
func (f *Fleet) Kinds() (list []string) {
	for _, k := range f.kinds {
		list = append(list, fmt.Sprintf("%s %s", plural(len(k.devices), "device"), k.name))
	}
	return list
}

// Looks are what somebody should look at.
func (f *Fleet) Looks() (list []string) {
	list = slices.Clone(f.Notes)
	for _, k := range f.kinds {
		if !f.OverHTTP && k.names()[0] == k.devices[0] {
			list = append(list, "the devices are called as those that were heard; where these are connected, give yours other names, "+
				"or the broker disconnects one of the two")
			break
		}
	}
	for _, k := range f.kinds {
		for _, n := range k.notes {
			list = append(list, fmt.Sprintf("kind %s: %s", k.name, n))
		}
		for _, r := range k.readings {
			for _, n := range r.sample.Notes {
				list = append(list, fmt.Sprintf("%s, %s: %s", k.name, r.name, n))
			}
		}
	}
	return list
}

// Crowd is the crowd file of a fleet that was learnt; of o it uses the name, the address and the
// credentials. The error is as that of the function Crowd.
func (f *Fleet) Crowd(o Options) (string, error) {
	u, err := url.Parse(o.Address)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("%q is no address; write one such as mqtt://127.0.0.1:1883", o.Address)
	}
	overHTTP := u.Scheme == "http" || u.Scheme == "https"
	if overHTTP != f.OverHTTP {
		return "", fmt.Errorf("what was recorded is %s, and %s is not", map[bool]string{true: "HTTP", false: "MQTT"}[f.OverHTTP], o.Address)
	}
	var b strings.Builder
	w := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	w("# Learnt from %s of %s, from %s on, in %s.", plural(f.Messages, "message"), plural(f.Devices, "device"),
		f.From.UTC().Format("2006-01-02 15:04:05 UTC"), quantity.FormatDuration(f.To.Sub(f.From).Round(time.Second)))
	w("# Beside each field stands what it was learnt from and how well it fits; count says how many devices there are.")
	for _, n := range f.Notes {
		w("# Look at this: %s.", n)
	}
	w("crowd: %s\n", o.Name)
	if err := o.link(w, overHTTP, o.Address); err != nil {
		return "", err
	}
	w("\nkinds:")
	for _, k := range f.kinds {
		w("  %s:", quotedName(k.name))
		for _, n := range k.notes {
			w("    # Look at this: %s.", n)
		}
		for _, r := range k.readings {
			if r.sample.Beside {
				if overHTTP {
					w("    mark: {header: X-Mark}   # what tells messages apart: bodies that are no objects have no place for it")
				} else {
					w("    mark: {user_property: x-mark}   # what tells messages apart: bodies that are no objects have no place for it")
				}
				break
			}
		}
		k.write(w, overHTTP)
	}
	w("\ndevices:                     # called as those that were heard: beside them, give these other names")
	for _, k := range f.kinds {
		first := ""
		if k.first != 1 {
			first = fmt.Sprintf(", first: %d", k.first)
		}
		w("  - {kind: %s, count: %d%s, name: %s}", quotedName(k.name), len(k.devices), first, quoted(k.pattern()))
	}
	w("\nplan: {for: %s}", o.For)
	if !overHTTP {
		w("\nwitnesses:                   # how we know: what comes out of the broker")
		w("  out:\n    proves: received\n    subscribe: %s", f.filters())
	}
	return b.String(), nil
}

// filters are what a witness subscribes to: the filter that all readings have, or all.
func (f *Fleet) filters() string {
	all := map[string]bool{}
	var first []string
	for _, k := range f.kinds {
		for _, r := range k.readings {
			all[r.filter] = true
			first = append(first, r.filter)
		}
	}
	if len(all) == 1 {
		return quoted(first[0])
	}
	levels := strings.Split(first[0], "/")
	for _, other := range first[1:] {
		o := strings.Split(other, "/")
		n := 0
		for n < len(levels) && n < len(o) && levels[n] == o[n] && levels[n] != "#" {
			n++
		}
		levels = levels[:n]
	}
	return quoted(strings.Join(append(slices.Clone(levels), "#"), "/"))
}

func quotedName(s string) string {
	if fieldName.MatchString(s) && s != "true" && s != "false" && s != "null" && s != "no" && s != "on" && s != "yes" && s != "off" {
		return s
	}
	return quoted(s)
}

// write writes a kind.
func (k *kind) write(w func(string, ...any), overHTTP bool) {
	if len(k.order) > 0 {
		w("    properties:")
		for _, name := range k.order {
			w("      %s: %s", name, k.properties[name])
		}
	}
	w("    readings:")
	for _, r := range k.readings {
		w("      %s:", quotedName(r.name))
		for _, n := range r.sample.Notes {
			w("        # Look at this: %s.", n)
		}
		if r.odd {
			w("        every: %s   # it came at no interval that was found", duration(r.every, 3))
		} else {
			w("        every: %s", duration(r.every, 6))
		}
		if r.jitter > 0 {
			w("        jitter: %s%%", figures(100*r.jitter, 2))
		}
		if r.together {
			w("        turns: together")
		}
		if overHTTP {
			w("        path: %s", quoted(r.target))
			if r.method != "POST" {
				w("        method: %s", r.method)
			}
		} else {
			w("        topic: %s\n        qos: %d", quoted(r.target), r.qos)
			if r.retain {
				w("        retain: true")
			}
		}
		w("        payload:\n          form: template\n          template: '%s'", strings.ReplaceAll(r.sample.Template, "'", "''"))
		if r.content != "" && r.content != "application/json" {
			w("          content_type: %s", quoted(r.content))
		}
		if len(r.sample.Fields) > 0 {
			w("        fields:")
		}
		for _, line := range r.sample.Fields {
			w("          %s", line)
		}
	}
}
