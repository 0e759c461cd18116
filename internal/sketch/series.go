package sketch

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/foreign"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// fitter finds, for each value of a reading, what makes such values over time: a property of the
// device, a formula of another field, or a signal and its parameters. What it does not find is
// played as it was.
type fitter struct {
	*learner
	devices    []string          // their names
	every      float64           // the interval of the reading, seconds
	origin     time.Time         // from which seconds are counted
	properties map[string]string // lines of the kind, by name; shared by its readings
	order      *[]string         // their names, in order
	taken      map[string]bool   // names of fields of the kind's other readings
	known      []numeric         // numbers so far: what others may be computed of
	columns    map[string][]any  // values that are played as they were, by field
	prefix     string            // of columns: the kind and the reading
	parts      map[string]string // placeholders of positions, by path
}

// numeric is a field that is a number, with its values by message.
type numeric struct {
	name   string
	list   []observed
	digits int
}

// run is the values of a device, in order.
type run struct {
	device int
	x, at  []float64
}

// Bounds of what is fitted.
const (
	leastFitted  = 8    // values of a device below which nothing is said of how they follow each other
	mostStates   = 12   // words that a field may have
	mostDistance = 0.15 // of two distributions, above which a fit is none (Kolmogorov, Smirnov)
)

// runs are the numbers of each device that has any.
func runs(list []observed) (all []run) {
	at := map[int]int{}
	for _, o := range list {
		x, is := float(o.v)
		if !is {
			continue
		}
		i, seen := at[o.device]
		if !seen {
			i = len(all)
			at[o.device] = i
			all = append(all, run{device: o.device})
		}
		all[i].x, all[i].at = append(all[i].x, x), append(all[i].at, o.at)
	}
	return all
}

func float(v any) (float64, bool) {
	n, is := v.(json.Number)
	if !is {
		return 0, false
	}
	x, err := n.Float64()
	return x, err == nil
}

// number is the placeholder of a number, and its field.
func (f *fitter) number(path string, first json.Number) string {
	list := f.values[path]
	low, high, digits, whole := extent(list)
	if differ(list) == 1 && len(list) > 1 {
		return first.String()
	}
	if of, is := f.place(path); is {
		return of
	}
	if as := stamp(low, high); as != "" && low < high && (stampName.MatchString(last(path)) || len(list) > 2*len(f.devices)) {
		return f.field(path, "{signal: clock, as: "+as+"}")
	}
	if !(low <= high) || max(-low, high) >= math.Exp2(53) || digits > 15 || len(list) < 2 {
		if len(list) > 1 {
			f.notes = append(f.notes, fmt.Sprintf("%s is always %s now: it has more digits than values are made with", shown(path),
				foreign.Line(first.String(), 60)))
		}
		return first.String()
	}
	if f.isNumber(list) {
		return "${n}"
	}
	if of, is := f.property(path, list, digits, whole); is {
		return of
	}
	name := f.name(path)
	of := f.formula(list, digits)
	if of == "" {
		of = f.signal(name, list, digits, whole)
	}
	f.fields = append(f.fields, name+": "+f.dropped(of, path))
	f.known = append(f.known, numeric{name, list, digits})
	return "${" + name + "}"
}

// dropped adds to a field what share of messages has null in its place.
func (f *fitter) dropped(of, path string) string {
	nulls := 0
	for _, o := range f.values[path] {
		if o.v == nil {
			nulls++
		}
	}
	spec, comment, _ := strings.Cut(of, "   #")
	if nulls == 0 || !strings.HasSuffix(spec, "}") {
		return of
	}
	of = fmt.Sprintf("%s, drop: {chance: %s%%, as: null}}", strings.TrimSuffix(spec, "}"), figures(100*float64(nulls)/float64(len(f.values[path])), 3))
	if comment != "" {
		of += "   #" + comment
	}
	return of
}

// extent is the range of numbers, and how they are written.
func extent(list []observed) (low, high float64, digits int, whole bool) {
	low, high, whole = math.Inf(1), math.Inf(-1), true
	for _, o := range list {
		x, is := float(o.v)
		if !is {
			continue
		}
		low, high = min(low, x), max(high, x)
		text := string(o.v.(json.Number))
		_, after, point := strings.Cut(text, ".")
		whole = whole && !point && !strings.ContainsAny(text, "eE")
		if len(after) > 9 || strings.ContainsAny(text, "eE") { // all digits of a binary number: those that count
			_, after, _ = strings.Cut(strconv.FormatFloat(x, 'f', -1, 64), ".")
			if len(after) > 9 {
				_, after, _ = strings.Cut(figures(x, 12), ".")
			}
		}
		digits = max(digits, len(after))
	}
	return low, high, digits, whole
}

var digitsAtEnd = regexp.MustCompile(`[0-9]+$`)

// isNumber tells whether a number is that of its device, as its name has it.
func (f *fitter) isNumber(list []observed) bool {
	for _, o := range list {
		x, is := float(o.v)
		n, err := strconv.Atoi(digitsAtEnd.FindString(f.devices[o.device]))
		if !is || err != nil || float64(n) != x {
			return false
		}
	}
	return len(f.devices) > 1
}

// property is the placeholder of what never changes in a device, and differs between them.
func (f *fitter) property(path string, list []observed, digits int, whole bool) (string, bool) {
	of := map[int]any{}
	for _, o := range list {
		if was, seen := of[o.device]; seen && was != o.v {
			return "", false
		}
		of[o.device] = o.v
	}
	if len(of) < 2 || len(list) < 2*len(of) {
		return "", false
	}
	counts := map[string]int{}
	numbers := true
	var words []string
	low, high := math.Inf(1), math.Inf(-1)
	for _, v := range of {
		x, is := float(v)
		low, high, numbers = min(low, x), max(high, x), numbers && is
		w := word(v)
		if counts[w]++; counts[w] == 1 {
			words = append(words, w)
		}
	}
	slices.Sort(words)
	line := "{pick: [" + strings.Join(words, ", ") + "]" + weights(words, counts) + "}"
	if numbers && len(words) > 4 {
		line = fmt.Sprintf("{uniform: %s to %s, round: %d}", plainNumber(low), plainNumber(high), digits)
		if whole {
			line = fmt.Sprintf("{uniform: %s to %s}", plainNumber(low), plainNumber(high))
		}
	} else if len(words) > 200 {
		return "", false
	}
	name := f.addProperty(last(path), line)
	if _, is := list[0].v.(string); is {
		return `"${` + name + `}"`, true
	}
	return "${" + name + "}", true
}

// addProperty adds a property of the kind, and gives its name.
func (f *fitter) addProperty(path, line string) string {
	base := clean(path)
	name := base
	for i := 2; ; i++ {
		was, is := f.properties[name]
		if is && was == line {
			return name
		}
		if !is && !f.used[name] && !f.taken[name] {
			break
		}
		name = fmt.Sprintf("%s_%d", base, i)
	}
	f.used[name] = true
	f.properties[name] = line
	*f.order = append(*f.order, name)
	return name
}

// word is a value in a list of a crowd file.
func word(v any) string {
	switch x := v.(type) {
	case string:
		return quoted(x)
	case json.Number:
		return x.String()
	case bool:
		return strconv.FormatBool(x)
	}
	return "null"
}

// weights are those of words that are not alike frequent.
func weights(words []string, counts map[string]int) string {
	least, most := math.MaxInt, 0
	for _, w := range words {
		least, most = min(least, counts[w]), max(most, counts[w])
	}
	if float64(most-least) <= 3*math.Sqrt(float64(most)) {
		return ""
	}
	all := 0
	for _, w := range words {
		all += counts[w]
	}
	var list []string
	for _, w := range words {
		list = append(list, figures(100*float64(counts[w])/float64(all), 3))
	}
	return ", weights: [" + strings.Join(list, ", ") + "]"
}

// text is the placeholder of a text, in quotes.
func (f *fitter) text(path, first string) string {
	list := f.values[path]
	if file.LooksSecret(last(path)) {
		f.notes = append(f.notes, fmt.Sprintf("%s looks like a secret, and was left out", shown(path)))
		return `""`
	}
	same := len(f.devices) > 0
	times := 0
	for _, o := range list {
		s, is := o.v.(string)
		same = same && is && s == f.devices[o.device]
		if _, is := quantity.ParseInstant(s); is && strings.Contains(s, ":") {
			times++
		}
	}
	switch n := differ(list); {
	case same:
		return `"${device}"`
	case n == 1:
		return literal(first)
	case times == len(list):
		return `"` + f.field(path, "{signal: clock}") + `"`
	}
	if of, is := f.property(path, list, 0, false); is {
		return of
	}
	name := f.name(path)
	spec := f.words(name, list)
	if spec == "" {
		if pattern := pattern(list); pattern != "" {
			spec = "{signal: text, pattern: " + quoted(pattern) + "}"
		} else {
			spec = f.played(name, list, "")
		}
	}
	f.fields = append(f.fields, name+": "+f.dropped(spec, path))
	return `"${` + name + `}"`
}

// truth is the placeholder of true or false.
func (f *fitter) truth(path string, first bool) string {
	list := f.values[path]
	if differ(list) == 1 {
		return strconv.FormatBool(first)
	}
	if of, is := f.property(path, list, 0, false); is {
		return of
	}
	name := f.name(path)
	f.fields = append(f.fields, name+": "+f.dropped(f.words(name, list), path))
	return "${" + name + "}"
}

// words is the signal of values of which there are few: drawn anew for each message, or states
// that stay for a while; empty: there are many.
func (f *fitter) words(name string, list []observed) string {
	counts, all := map[string]int{}, 0
	var words []string
	text := true
	for _, o := range list {
		if o.v == nil {
			continue
		}
		w := word(o.v)
		if counts[w]++; counts[w] == 1 {
			words = append(words, w)
		}
		_, is := o.v.(string)
		text = text && is
		all++
	}
	if len(words) > mostStates || all < 3*len(words) {
		return ""
	}
	slices.SortFunc(words, func(a, b string) int { return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b)) })
	stays, pairs, alone := 0, 0, 0.0
	from := map[string]map[string]int{}
	before := map[int]string{}
	for _, o := range list {
		if o.v == nil {
			continue
		}
		w := word(o.v)
		if was, is := before[o.device]; is {
			if pairs++; was == w {
				stays++
			}
			if from[was] == nil {
				from[was] = map[string]int{}
			}
			from[was][w]++
		}
		before[o.device] = w
	}
	for _, w := range words {
		share := float64(counts[w]) / float64(all)
		alone += share * share
	}
	fit := fmt.Sprintf("   # %s of %s", plural(all, "value"), plural(len(before), "device"))
	if pairs < leastFitted || float64(stays)/float64(pairs)-alone <= max(0.1, 3*math.Sqrt(alone*(1-alone)/float64(pairs))) {
		return "{signal: choice, of: [" + strings.Join(words, ", ") + "]" + weights(words, counts) + "}" + fit
	}
	var states []string
	for _, w := range words {
		out := 0
		for _, n := range from[w] {
			out += n
		}
		var to []string
		for _, other := range words {
			if n := from[w][other]; n > 0 && other != w {
				to = append(to, fmt.Sprintf("%s: %s%%", key(other), figures(100*float64(n)/float64(out), 3)))
			}
		}
		states = append(states, key(w)+": {"+strings.Join(to, ", ")+"}")
	}
	spec := "{signal: states, of: {" + strings.Join(states, ", ") + "}}" + fit
	if text {
		return spec
	}
	// States are texts; what is sent is made of them.
	state := f.name(name + "_state")
	f.fields = append(f.fields, state+": "+spec)
	if words[0] == "true" || words[0] == "false" {
		return fmt.Sprintf(`{formula: "%s == 'true'"}`, state)
	}
	return fmt.Sprintf(`{formula: "number(%s)"}`, state)
}

// key is a word as the key of a mapping: always a text.
func key(word string) string {
	if strings.HasPrefix(word, `"`) {
		return word
	}
	return `"` + word + `"`
}

var shapes = []struct{ name, of string }{{`[0-9]+`, `[0-9]{%d}`}, {`[0-9a-f]+`, `[0-9a-f]{%d}`}, {`[0-9A-F]+`, `[0-9A-F]{%d}`},
	{`[A-Z]+`, `[A-Z]{%d}`}, {`[a-z]+`, `[a-z]{%d}`}, {`[A-Za-z0-9]+`, `[A-Za-z0-9]{%d}`}}

// pattern is the shape of texts that are alike but for their letters and digits: parts of the same
// length between the same signs. Empty: they are not.
func pattern(list []observed) string {
	parts := map[int][]string{}
	var signs []string
	for i, o := range list {
		s, is := o.v.(string)
		if !is || len(s) > 100 {
			return ""
		}
		words := alphanumeric.FindAllString(s, -1)
		between := alphanumeric.Split(s, -1)
		if i == 0 {
			signs = between
		}
		if !slices.Equal(signs, between) {
			return ""
		}
		for k, w := range words {
			parts[k] = append(parts[k], w)
		}
	}
	var b strings.Builder
	for k, sign := range signs {
		if b.WriteString(regexp.QuoteMeta(sign)); k == len(signs)-1 {
			break
		}
		words := parts[k]
		if all(words, func(w string) bool { return w == words[0] }) {
			b.WriteString(words[0])
			continue
		}
		if !all(words, func(w string) bool { return len(w) == len(words[0]) }) {
			return ""
		}
		for _, shape := range shapes {
			if re := regexp.MustCompile("^" + shape.name + "$"); all(words, re.MatchString) {
				fmt.Fprintf(&b, shape.of, len(words[0]))
				break
			}
		}
	}
	if _, err := signal.NewPattern(b.String()); err != nil {
		return ""
	}
	return b.String()
}

var alphanumeric = regexp.MustCompile(`[A-Za-z0-9]+`)

func all(list []string, holds func(string) bool) bool {
	return !slices.ContainsFunc(list, func(s string) bool { return !holds(s) })
}

// played is a field that is played as it was: the values of the device that has the most.
func (f *fitter) played(name string, list []observed, why string) string {
	counts := map[int]int{}
	list = slices.DeleteFunc(slices.Clone(list), func(o observed) bool { return o.v == nil })
	for _, o := range list {
		counts[o.device]++
	}
	most := list[0].device
	for d, n := range counts {
		if n > counts[most] || n == counts[most] && f.devices[d] < f.devices[most] {
			most = d
		}
	}
	column := f.prefix + "_" + name
	for _, o := range list {
		if o.device == most {
			f.columns[column] = append(f.columns[column], o.v)
		}
	}
	if why != "" {
		why = "; " + why
	}
	return fmt.Sprintf("{signal: recorded, file: %s.csv, column: %s}   # as %s sent it%s", column, column,
		foreign.Line(f.devices[most], 40), why)
}

// formula is one that computes a number from those before it, exactly: empty, there is none.
func (f *fitter) formula(list []observed, digits int) string {
	values := make([]float64, len(list))
	for i, o := range list {
		x, is := float(o.v)
		if !is {
			return ""
		}
		values[i] = x
	}
	unit := math.Pow10(-digits)
	within := func(of func(i int) float64) bool {
		for i := range values {
			if !(math.Abs(of(i)-values[i]) <= max(unit*0.5000001, math.Abs(values[i])*1e-12)) {
				return false
			}
		}
		return true
	}
	var fits []numeric // of the same messages
	for _, k := range f.known {
		if len(k.list) == len(list) && len(fits) < 12 && k.list[0].at == list[0].at && k.list[len(list)-1].at == list[len(list)-1].at {
			fits = append(fits, k)
		}
	}
	x := func(k *numeric, i int) float64 { v, _ := float(k.list[i].v); return v }
	low, high := slices.Min(values), slices.Max(values)
	if high-low < 20*unit { // too coarse: a line fits anything
		return ""
	}
	note := fmt.Sprintf("   # exactly, in all %s", plural(len(list), "message"))
	for a := range fits {
		k := &fits[a]
		i, j := 0, 0
		for n := range values {
			if x(k, n) < x(k, i) {
				i = n
			}
			if x(k, n) > x(k, j) {
				j = n
			}
		}
		width := x(k, j) - x(k, i)
		if width < 20*math.Pow10(-k.digits) {
			continue
		}
		gain := (values[j] - values[i]) / width
		for _, places := range []int{0, 1, 2, 3, 4, 5, 6} {
			g := round(gain, places)
			offset := round(values[i]-g*x(k, i), max(digits, 1))
			for _, o := range []float64{round(offset, 0), round(offset, 1), offset} {
				if g != 0 && within(func(n int) float64 { return g*x(k, n) + o }) {
					return fmt.Sprintf("{formula: %s, round: %d}%s", quoted(line(k.name, g, o)), digits, note)
				}
			}
		}
	}
	for a := range fits {
		for b := range fits {
			p, q := &fits[a], &fits[b]
			for _, op := range []string{"+", "-", "*", "/"} {
				if a > b && (op == "+" || op == "*") || a == b {
					continue
				}
				if within(func(n int) float64 {
					switch v, w := x(p, n), x(q, n); op {
					case "+":
						return v + w
					case "-":
						return v - w
					case "*":
						return v * w
					default:
						return v / w
					}
				}) {
					return fmt.Sprintf("{formula: %s, round: %d}%s", quoted(p.name+" "+op+" "+q.name), digits, note)
				}
			}
		}
	}
	return ""
}

// line is a formula gain*name + offset.
func line(name string, gain, offset float64) string {
	s := name
	if gain != 1 {
		s += " * " + plainNumber(gain)
	}
	switch {
	case offset > 0:
		s += " + " + plainNumber(offset)
	case offset < 0:
		s += " - " + plainNumber(-offset)
	}
	return s
}

func round(x float64, digits int) float64 {
	p := math.Pow10(digits)
	return math.Round(x*p) / p
}

func plainNumber(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

// figures is a number in so many figures that count.
func figures(x float64, n int) string {
	if x == 0 || math.IsInf(x, 0) || math.IsNaN(x) {
		return "0"
	}
	return plainNumber(round(x, min(15, max(0, n-1-int(math.Floor(math.Log10(math.Abs(x))))))))
}

// near is a number rounded to a hundredth of what it is compared with.
func near(x, scale float64) string {
	if scale <= 0 {
		return figures(x, 5)
	}
	x = round(x, min(15, max(0, 2-int(math.Floor(math.Log10(scale))))))
	return plainNumber(x + 0) // no -0
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// duration is a time as a crowd file has it, in so many figures.
func duration(seconds float64, n int) string {
	s := figures(seconds, n)
	x, _ := strconv.ParseFloat(s, 64)
	return quantity.FormatDuration(time.Duration(math.Round(x * 1e9)))
}
