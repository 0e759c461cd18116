package file

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// properties compiles the properties of a cast and adds them to env. A column of
// a roster comes before what the file says, which stands for its empty cells.
func (r *reader) properties(c *crowd.Cast, list []entry, env formula.Env, secrets map[string]bool) {
	columns := map[string]*crowd.RosterColumn{}
	changed := map[string]bool{}
	if c.Roster != nil {
		for _, l := range r.layers[c][1:] {
			for _, e := range l.properties {
				changed[e.key.Value] = !isNull(e.value)
			}
		}
		for i := range c.Roster.Columns {
			if col := &c.Roster.Columns[i]; !changed[col.Name] {
				columns[col.Name] = col
			}
		}
	}
	taken := crowd.MessageEnv(env)
	add := func(p crowd.Property) {
		if col := columns[p.Name]; col != nil {
			p.Secret = p.Secret || col.Secret
		}
		c.Properties = append(c.Properties, p)
		env[p.Name] = p.Sample
		if !p.Public && (p.Secret || p.Text != nil && usesSecret(p.Text.Names(), secrets)) {
			secrets[p.Name] = true
		}
	}
	done := map[string]bool{}
	// Columns first: what the file says may use them.
	if c.Roster != nil {
		for i := range c.Roster.Columns {
			col := &c.Roster.Columns[i]
			if columns[col.Name] == nil {
				continue
			}
			if _, is := taken[col.Name]; is {
				r.Add(c.Pos, "roster: the column %q of %s has a name that every device knows already; give it another", col.Name,
					c.Roster.File)
				continue
			}
			p := crowd.Property{Name: col.Name, Pos: c.Pos, Column: col.Values, Secret: col.Secret,
				Sample: sampleOf(zero(col.Type))}
			if e := find(list, col.Name); e != nil {
				def := r.property(*e, env)
				p.Pos, p.Value, p.Text, p.Draw = def.Pos, def.Value, def.Text, def.Draw
				_, float := def.Sample.(float64)
				_, number := p.Sample.(int)
				if number && float {
					p.Sample = 0.0 // whole numbers go with others
				}
				_, float = p.Sample.(float64)
				_, number = def.Sample.(int)
				if fmt.Sprintf("%T", p.Sample) != fmt.Sprintf("%T", def.Sample) && !(float && number) && emptyCell(col) >= 0 {
					r.Add(p.Pos, "the property %q is a %s here and a %s in the column of %s; an empty cell takes what stands here, "+
						"so both must be alike",
						col.Name, typeName(def.Sample), typeName(p.Sample), c.Roster.File)
				}
			} else if col.Type != signal.Text {
				if k := emptyCell(col); k >= 0 {
					r.Add(c.Pos, "roster: %s:%d: the column %q is empty, and there is no default; give the kind a property %s, or "+
						"fill the cell", c.Roster.File, c.Roster.Lines[k], col.Name, col.Name)
				}
			}
			done[col.Name] = true
			add(p)
		}
	}
	if en := r.crowd.Register; en != nil {
		for _, k := range en.Save {
			if done[k.Name] {
				continue // a roster may bring it, too
			}
			p := crowd.Property{Name: k.Name, Pos: en.Pos, Secret: !k.Public, Public: k.Public, Kept: true, Sample: ""}
			if e := find(list, k.Name); e != nil { // until the device is registered
				def := r.property(*e, env)
				p.Value, p.Text, p.Draw = def.Value, def.Text, def.Draw
			}
			done[k.Name] = true
			add(p)
		}
	}
	for _, e := range list {
		name := e.key.Value
		if done[name] {
			continue
		}
		if _, is := taken[name]; is {
			r.Add(pos(e.key), "the property %q has a name that every device knows already; choose another", name)
			continue
		}
		if !fieldPattern.MatchString(name) {
			r.Add(pos(e.key), "the property %q must have a name of letters, digits and _, so that formulas can use it", name)
			continue
		}
		add(r.property(e, env))
	}
}

func find(list []entry, name string) *entry {
	for i := range list {
		if list[i].key.Value == name {
			return &list[i]
		}
	}
	return nil
}

// emptyCell is the first row without a value; -1 where there is none.
func emptyCell(col *crowd.RosterColumn) int {
	for k := range col.Values {
		if col.Values[k].Type() == signal.Null {
			return k
		}
	}
	return -1
}

func typeName(sample any) string {
	switch sample.(type) {
	case int:
		return "whole number"
	case float64:
		return "number"
	case bool:
		return "truth value"
	case quantity.Position:
		return "position"
	}
	return "text"
}

// property reads one property.
func (r *reader) property(e entry, env formula.Env) crowd.Property {
	n := r.resolve(e.value)
	p := crowd.Property{Name: e.key.Value, Pos: pos(e.key), Sample: ""}
	what := fmt.Sprintf("the property %q", p.Name)
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" {
		p.Text = r.text(n, what, env)
		if p.Text != nil && LooksSecret(p.Name) {
			r.secretText(n, p.Text)
			p.Secret = true
		}
		return p
	}
	if n.Kind != yaml.MappingNode {
		if v, ok := r.plain(n, what); ok {
			p.Value, p.Sample = v, sampleOf(v)
		}
		return p
	}
	o := r.object(n, what, propertyMap)
	var source string
	for _, key := range sources {
		if o.get(key) == nil {
			continue
		}
		if source != "" {
			r.Add(pos(o.get(key)), "%s has both %s and %s; keep one", what, source, key)
			return p
		}
		source = key
	}
	if source == "" {
		if len(o.vals) > 0 || len(n.Content) == 0 {
			r.Add(pos(n), "%s must be a value, or have one of %s", what, strings.Join(sources, ", "))
		}
		return p
	}
	v := o.get(source)
	what += ": " + source
	before := len(r.List)
	p.Public = o.truth("public")
	switch source {
	case "value":
		if v.Kind == yaml.ScalarNode && v.Tag == "!!str" {
			if p.Text = r.text(v, what, env); p.Text != nil && LooksSecret(p.Name) && !p.Public {
				r.secretText(v, p.Text)
				p.Secret = true
			}
		} else if x, ok := r.plain(v, what); ok {
			p.Value, p.Sample = x, sampleOf(x)
		}
		return p
	case "pick":
		p.Draw, p.Sample = r.pick(v, o.get("weights"), what)
	case "uniform", "normal", "sequence":
		p.Draw, p.Sample = r.drawNumber(source, v, o, what)
	case "position":
		p.Draw, p.Sample = parse(r, v, what, nil, parsePlaces), quantity.Position{}
	case "mac":
		p.Draw = parse(r, v, what, nil, func(s string) (crowd.Draw, error) { return parseHardware(s, 6) })
	case "eui64":
		p.Draw = parse(r, v, what, nil, func(s string) (crowd.Draw, error) { return parseHardware(s, 8) })
	case "ipv4":
		p.Draw = parse(r, v, what, nil, func(s string) (crowd.Draw, error) { return parseNetwork(s, true) })
	case "ipv6":
		p.Draw = parse(r, v, what, nil, func(s string) (crowd.Draw, error) { return parseNetwork(s, false) })
	case "uuid":
		p.Draw = parse(r, v, what, nil, parseUUID)
	case "pattern":
		p.Draw = parse(r, v, what, nil, func(s string) (crowd.Draw, error) {
			t, err := signal.NewPattern(s)
			return func(key uint64, _, _ int) (any, error) { return t.Make(key, 0), nil }, err
		})
	}
	allowed := map[string][]string{"pick": {"weights"}, "uniform": {"round"}, "normal": {"round", "min", "max"}}[source]
	for _, key := range []string{"weights", "round", "min", "max"} {
		if k := o.get(key); k != nil && !contains(allowed, key) {
			r.Add(pos(k), "%s: %q does not go with it", what, key)
		}
	}
	if len(r.List) > before || p.Draw == nil {
		p.Draw = func(uint64, int, int) (any, error) { return p.Sample, nil }
	}
	return p
}

func (r *reader) pick(n, weights *yaml.Node, what string) (crowd.Draw, any) {
	list := r.values(n, what)
	if len(list) == 0 {
		return nil, ""
	}
	var ws []float64
	if weights != nil {
		ws = r.numbers(weights, what+": weights")
		if ws == nil {
			ws = []float64{}
		}
	}
	w, err := signal.NewWeights(len(list), ws)
	if err != nil {
		r.Add(pos(weights), "%s: %s", what, err)
		return nil, ""
	}
	sample := commonSample(list)
	_, float := sample.(float64)
	return func(key uint64, _, _ int) (any, error) {
		v := list[w.Pick(signal.Uniform(key, 0, 0))]
		if float && v.Type() == signal.Int {
			return v.Float(), nil // the list mixes: all are numbers
		}
		return sampleOf(v), nil
	}, sample
}

func (r *reader) numbers(n *yaml.Node, what string) []float64 {
	var list []float64
	for _, item := range r.list(n, what) {
		list = append(list, r.number(item, what, 0))
	}
	return list
}

// drawNumber reads "3 to 8", {mean: 10, spread: 2}, {from: 100, step: 5} and
// lists that are gone through in order.
func (r *reader) drawNumber(source string, v *yaml.Node, o *object, what string) (crowd.Draw, any) {
	decimals := -1
	if o.get("round") != nil {
		decimals = int(o.whole("round"))
	}
	finish := func(x float64) (any, error) {
		if decimals >= 0 {
			x = signal.OfFloat(x).Round(decimals).Float()
		}
		return x, nil
	}
	switch source {
	case "uniform":
		whole := false
		ends := parse(r, v, what, [2]float64{}, func(s string) ([2]float64, error) {
			a, b, ok := strings.Cut(s, " to ")
			low, err1 := strconv.ParseFloat(strings.TrimSpace(a), 64)
			high, err2 := strconv.ParseFloat(strings.TrimSpace(b), 64)
			if !ok || err1 != nil || err2 != nil {
				return [2]float64{}, fmt.Errorf("%q is not a range; write one such as 3 to 8", s)
			}
			if low > high {
				return [2]float64{}, fmt.Errorf("%q runs backwards; the lower end comes first", s)
			}
			whole = !strings.ContainsAny(s, ".eE") && decimals < 0
			return [2]float64{low, high}, nil
		})
		if whole {
			low, n := int(ends[0]), ends[1]-ends[0]+1
			return func(key uint64, _, _ int) (any, error) { return low + int(signal.Uniform(key, 0, 0)*n), nil }, 0
		}
		return func(key uint64, _, _ int) (any, error) {
			return finish(ends[0] + (ends[1]-ends[0])*signal.Uniform(key, 0, 0))
		}, 0.0
	case "normal":
		no := r.object(v, what, normalMap)
		mean, spread := r.number(no.need("mean", "10"), what+": mean", 0), r.number(no.need("spread", "2"), what+": spread",
			1)
		low, high := math.Inf(-1), math.Inf(1)
		if n := o.get("min"); n != nil {
			low = r.number(n, what+": min", 0)
		}
		if n := o.get("max"); n != nil {
			high = r.number(n, what+": max", 0)
		}
		if spread < 0 || low > high {
			r.Add(pos(v), "%s: spread must not be negative, and min not above max", what)
		}
		return func(key uint64, _, _ int) (any, error) {
			return finish(math.Min(math.Max(mean+spread*signal.Gauss(key, 0, 0), low), high))
		}, 0.0
	}
	if r.resolve(v).Kind == yaml.SequenceNode {
		list := r.values(v, what)
		if len(list) == 0 {
			return nil, ""
		}
		return func(_ uint64, i, _ int) (any, error) { return sampleOf(list[i%len(list)]), nil }, commonSample(list)
	}
	so := r.object(v, what, sequenceMap)
	from, step := r.number(so.get("from"), what+": from", 1), r.number(so.get("step"), what+": step", 1)
	if from == math.Trunc(from) && step == math.Trunc(step) && math.Abs(from) < 1<<53 {
		return func(_ uint64, i, _ int) (any, error) { return int(from) + i*int(step), nil }, 0
	}
	return func(_ uint64, i, _ int) (any, error) {
		return signal.OfFloat(from + float64(i)*step).Round(12).Float(), nil
	}, 0.0
}

// parsePlaces reads where positions lie: "58.02,-6.41", "within A and B" (a box),
// "within 500m of A", "along A to B to C" (anywhere on the line), "evenly along A
// to B" (one after another, the same distance apart).
func parsePlaces(s string) (crowd.Draw, error) {
	if rest, is := strings.CutPrefix(s, "within "); is {
		if a, b, box := strings.Cut(rest, " and "); box {
			return parseBox(a, b)
		}
		a, b, circle := strings.Cut(rest, " of ")
		if !circle {
			return nil, fmt.Errorf("%q is not an area; write two corners, such as within 58.02,-6.41 and 58.06,-6.35, or a "+
				"circle, such as within 500m of 58.04,-6.38", s)
		}
		radius, err := quantity.ParseLength(a)
		if err != nil {
			return nil, err
		}
		middle, err := quantity.ParsePosition(b)
		return func(key uint64, _, _ int) (any, error) {
			// The root spreads the places evenly over the circle's area.
			d := radius * math.Sqrt(signal.Uniform(key, 0, 0))
			a := 2 * math.Pi * signal.Uniform(key, 0, 1)
			return signal.SixDecimals(middle.Offset(d*math.Cos(a), d*math.Sin(a))), nil
		}, err
	}
	line, evenly := strings.CutPrefix(s, "evenly along ")
	anywhere := false
	if !evenly {
		line, anywhere = strings.CutPrefix(s, "along ")
	}
	if evenly || anywhere {
		var points []quantity.Position
		for _, t := range strings.Split(line, " to ") {
			p, err := quantity.ParsePosition(t)
			if err != nil {
				return nil, err
			}
			points = append(points, p)
		}
		if len(points) < 2 {
			return nil, fmt.Errorf("%q is not a line; write at least two places, such as along 58.02,-6.41 to 58.06,-6.35", s)
		}
		way := signal.NewWay(points)
		return func(key uint64, i, count int) (any, error) {
			share := signal.Uniform(key, 0, 0)
			if evenly {
				share = float64(i) / float64(max(1, count-1))
			}
			return signal.SixDecimals(way.At(share * way.Length())), nil
		}, nil
	}
	p, err := quantity.ParsePosition(s)
	return func(uint64, int, int) (any, error) { return p, nil }, err
}

func parseBox(a, b string) (crowd.Draw, error) {
	p, err := quantity.ParsePosition(a)
	if err != nil {
		return nil, err
	}
	q, err := quantity.ParsePosition(b)
	if err != nil {
		return nil, err
	}
	south, north, west, east := min(p.Lat, q.Lat), max(p.Lat, q.Lat), min(p.Lon, q.Lon), max(p.Lon, q.Lon)
	return func(key uint64, _, _ int) (any, error) {
		return signal.SixDecimals(quantity.Position{Lat: south + (north-south)*signal.Uniform(key, 0, 0),
			Lon: west + (east-west)*signal.Uniform(key, 0, 1)}), nil
	}, nil
}

var hexPattern = regexp.MustCompile(`^[0-9a-fA-F]{2}([:-][0-9a-fA-F]{2})*$`)

// parseHardware reads the first bytes of hardware addresses; the rest counts up.
func parseHardware(s string, size int) (crowd.Draw, error) {
	if s == "local" {
		s = "02" // a locally administered address (IEEE 802, section 8.2)
	}
	if !hexPattern.MatchString(s) || (len(s)+1)/3 >= size {
		return nil, fmt.Errorf("%q is not the beginning of an address; write one to %d bytes, such as 02:5e:10, or local", s,
			size-1)
	}
	sep := ":"
	if len(s) > 2 {
		sep = s[2:3]
	}
	fixed := (len(s) + 1) / 3
	prefix := strings.ToLower(s)
	if s != strings.ToLower(s) {
		prefix = s
	}
	return func(_ uint64, i, _ int) (any, error) {
		room := 8 * (size - fixed)
		if room < 63 && uint64(i) >= 1<<room-1 {
			return nil, fmt.Errorf("the addresses below %s run out at %d devices; write fewer bytes", s, 1<<room-1)
		}
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], uint64(i)+1)
		out := prefix
		for _, x := range b[8-(size-fixed):] {
			h := fmt.Sprintf("%02x", x)
			if prefix != strings.ToLower(prefix) {
				h = strings.ToUpper(h)
			}
			out += sep + h
		}
		return out, nil
	}, nil
}

// parseNetwork reads a network; devices get its addresses one after another, from
// the first behind the network's own.
func parseNetwork(s string, v4 bool) (crowd.Draw, error) {
	p, err := netip.ParsePrefix(s)
	if err != nil || p.Addr().Is4() != v4 {
		if v4 {
			return nil, fmt.Errorf("%q is not an IPv4 network; write one such as 10.20.0.0/16", s)
		}
		return nil, fmt.Errorf("%q is not an IPv6 network; write one such as 2001:db8::/64", s)
	}
	p = p.Masked()
	return func(_ uint64, i, _ int) (any, error) {
		b := p.Addr().As16()
		low := binary.BigEndian.Uint64(b[8:]) + uint64(i) + 1
		binary.BigEndian.PutUint64(b[8:], low)
		a := netip.AddrFrom16(b)
		last := false
		if v4 {
			a = a.Unmap()
			last = p.Bits() < 31 && !p.Contains(a.Next()) // the broadcast address
		}
		if !p.Contains(a) || last {
			return nil, fmt.Errorf("the network %s has no address left for device %d of the group; take a larger one", p, i+1)
		}
		return a.String(), nil
	}, nil
}

// parseUUID reads the version: 4, random (from the seed), or 8, the same with the
// version that leaves the content open (RFC 9562, sections 5.4 and 5.8).
func parseUUID(s string) (crowd.Draw, error) {
	version := byte(4)
	switch s {
	case "4", "random":
	case "8":
		version = 8
	default:
		return nil, fmt.Errorf("%q is not known; write 4 (random, from the seed) or 8", s)
	}
	return func(key uint64, _, _ int) (any, error) {
		var u uuid.UUID
		binary.BigEndian.PutUint64(u[:8], signal.Key(key, "high"))
		binary.BigEndian.PutUint64(u[8:], signal.Key(key, "low"))
		u[6] = u[6]&0x0f | version<<4
		u[8] = u[8]&0x3f | 0x80
		return u.String(), nil
	}, nil
}
