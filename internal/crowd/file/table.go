package file

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
)

// mapping is one mapping of the crowd file. The reader, its messages about unknown keys,
// the JSON Schema and the reference page are all made from it: a key is one entry.
type mapping struct {
	name string // in the reference page
	doc  string
	keys []key
	// one are keys of which exactly one must be there.
	one []string
	// some are keys of which at least one must be there.
	some []string
	// notBoth are pairs that exclude each other.
	notBoth [][2]string
	// needs are keys that need another one.
	needs [][2]string
}

// key is one key of a mapping.
type key struct {
	name string
	typ  typ
	def  string // the default as it would be written; empty: none
	need string // an example, where the key must be there
	goes string // the links it goes with: MQTT, MQTT 5 or HTTP; empty: all
	doc  string
}

// typ is how a value is written.
type typ struct {
	sort      sortOfValue
	words     string // in the reference page
	schema    node   // without a description
	low, high int64  // of whole numbers, and in nanoseconds of durations
	list      []string
	of        *mapping // of a mapping, for the reference page
}

// sortOfValue says which of the typed readers of object reads a value.
type sortOfValue uint8

const (
	otherValue sortOfValue = iota // read by code of its own
	durationValue
	wholeValue
	truthValue
	wordValue
	shareValue
)

type node = map[string]any

func (m *mapping) names() []string {
	list := make([]string, len(m.keys))
	for i := range m.keys {
		list[i] = m.keys[i].name
	}
	return list
}

// key finds a key; a name that is none is a mistake in this package.
func (m *mapping) key(name string) *key {
	for i := range m.keys {
		if m.keys[i].name == name {
			return &m.keys[i]
		}
	}
	panic(fmt.Sprintf("the mapping %q has no key %q", m.name, name))
}

// notFor lists the keys that do not go with a protocol; none for that of a link that
// has none.
func (m *mapping) notFor(p crowd.Protocol) []string {
	var list []string
	for _, k := range m.keys {
		if p != 0 && k.goes != "" && strings.Fields(k.goes)[0] != p.String() {
			list = append(list, k.name)
		}
	}
	return list
}

// ofVersion5 lists the keys that are of MQTT 5 alone.
func (m *mapping) ofVersion5() []string {
	var list []string
	for _, k := range m.keys {
		if k.goes == "MQTT 5" {
			list = append(list, k.name)
		}
	}
	return list
}

// Types of values.

var (
	template = typ{words: "text with ${…}", schema: scalar()}
	plain    = typ{words: "text", schema: node{"type": "string"}}
	filename = typ{words: "file name", schema: node{"type": "string", "minLength": 1}}
	fileText = typ{words: "file name with ${…}", schema: node{"type": "string", "minLength": 1}}
	jqText   = typ{words: "jq expression", schema: node{"type": "string", "minLength": 1}}
	number   = typ{words: "number", schema: node{"anyOf": []node{{"type": "number"},
		{"type": "string", "pattern": numberRE}}}}
	truth  = typ{sort: truthValue, words: "true or false", schema: node{"enum": []any{true, false, "true", "false"}}}
	share  = typ{sort: shareValue, words: "percentage", schema: node{"type": "string", "pattern": shareRE}}
	rate   = typ{words: "rate", schema: node{"type": "string", "pattern": rateRE}}
	size   = typ{words: "size, such as 16 MiB", schema: node{"type": "string", "pattern": sizeRE}}
	params = typ{words: "parameters to jq expressions", schema: node{"type": "object",
		"additionalProperties": node{"type": "string", "minLength": 1}, "minProperties": 1}}
	headers = typ{words: "names to texts with ${…}", schema: node{"type": []string{"object", "null"},
		"additionalProperties": scalar()}}
	statuses = typ{words: "HTTP statuses", schema: orList(node{"anyOf": []node{{"type": "integer", "minimum": 100,
		"maximum": 599}, {"type": "string", "pattern": `^[1-5][0-9][0-9]$`}}})}
	method  = typ{words: "HTTP method", schema: node{"type": "string", "pattern": `^[A-Z]+$`}}
	tagList = typ{words: "tags", schema: orList(scalar())}
	texts   = typ{words: "one or a list of texts", schema: orList(scalar())}
	who     = typ{words: "selection of devices", schema: ref("who")}
	delay   = typ{words: "duration, or a range: 100ms to 2s",
		schema: node{"type": "string", "pattern": `^\s*` + spanRE + `\s*( to \s*` + spanRE + `\s*)?$`}}
	bodyText = typ{words: "text with ${…}, or a mapping that is sent as JSON",
		schema: node{"type": []string{"string", "number", "boolean", "object", "array"}}}
)

const (
	spanRE   = `(([0-9]+(\.[0-9]*)?|\.[0-9]+)\s*(ns|us|µs|μs|ms|s|m|min|h|d)\s*)+`
	numberRE = `^-?[0-9][0-9_]*(\.[0-9]+)?([eE][-+]?[0-9]+)?$`
	shareRE  = `^\s*(100(\.0*)?|[0-9]?[0-9](\.[0-9]*)?)\s*%\s*$`
	sizeRE   = `^\s*[0-9.]*[1-9][0-9.]*\s*(B|kB|MB|GB|KiB|MiB|GiB)\s*$`
	rateRE   = `^\s*[0-9.]*[1-9][0-9.]*\s*/.+$`
)

func scalar() node { return node{"type": []string{"string", "number", "boolean"}} }

func orList(of node) node {
	return node{"anyOf": []node{of, {"type": "array", "items": of}}}
}

// duration is a duration between two bounds.
func duration(low, high time.Duration) typ {
	s := node{"type": "string", "pattern": `^\s*` + spanRE + `$`}
	if low > 0 {
		s = node{"type": "string", "allOf": []node{{"pattern": `^\s*` + spanRE + `$`}, {"pattern": "[1-9]"}}}
	}
	return typ{sort: durationValue, words: fmt.Sprintf("duration, %s to %s", quantity.FormatDuration(low),
		quantity.FormatDuration(high)), schema: s, low: int64(low), high: int64(high)}
}

// whole is a whole number between two bounds.
func whole(low, high int64) typ {
	quoted := `^(0x[0-9a-fA-F]+|[0-9][0-9_]*)$`
	if low > 0 {
		quoted = `^(0x[0-9a-fA-F]+|[0-9_]*[1-9][0-9_]*)$`
	}
	return typ{sort: wholeValue, words: fmt.Sprintf("whole number, %d to %d", low, high), low: low, high: high,
		schema: node{"anyOf": []node{{"type": "integer", "minimum": low, "maximum": high},
			{"type": "string", "pattern": quoted}}}}
}

// word is one of a list.
func word(list ...string) typ {
	return typ{sort: wordValue, words: strings.Join(list, ", "), schema: node{"enum": list}, list: list}
}

// sub is a mapping with a table of its own; nothing stands for none of it.
func sub(m *mapping) typ {
	return typ{words: "mapping: " + m.name, schema: ref(m.name), of: m}
}

// ref refers to a definition of the schema.
func ref(name string) node { return node{"$ref": "#/$defs/" + defName(name)} }

func defName(name string) string { return strings.ReplaceAll(name, " ", "-") }

// named is a mapping of names to values.
func named(what string, of typ) typ {
	return typ{words: "names to " + what, schema: node{"type": "object", "additionalProperties": of.schema}, of: of.of}
}

// orWord lets a word stand for the value, too.
func orWord(w string, t typ) typ {
	t.words = w + ", or a " + t.words
	t.schema = node{"anyOf": []node{{"enum": []string{w}}, t.schema}}
	return t
}

// orNull lets null stand for the value, too.
func orNull(t typ) typ {
	t.schema = node{"anyOf": []node{t.schema, {"type": "null"}}}
	return t
}

// special is a value with a schema of its own.
func special(words string, schema node) typ { return typ{words: words, schema: schema} }

func matching(words, re string) typ {
	return typ{words: words, schema: node{"type": "string", "pattern": re}}
}

// with gives a mapping more keys, or fewer: those of a list are left out.
func (m *mapping) with(name, doc string, more []key, without ...string) *mapping {
	n := *m
	n.name, n.doc = name, doc
	n.keys = slices.DeleteFunc(slices.Clone(m.keys), func(k key) bool { return slices.Contains(without, k.name) })
	n.keys = append(n.keys, more...)
	return &n
}

// told is what a key of the mapping is called in messages.
func (o *object) told(name string) string {
	if o.of == rootMap || o.of == groupMap || o.of == changeMap {
		return name
	}
	return o.what + ": " + name
}

// span reads a duration by its entry in the table.
func (o *object) span(name string) time.Duration {
	k := o.of.key(name)
	return o.r.span(o.value(name), o.told(name), duringDefault(k), time.Duration(k.typ.low), time.Duration(k.typ.high))
}

func duringDefault(k *key) time.Duration {
	if k.typ.sort != durationValue {
		panic(k.name + " is no duration in its table")
	}
	if k.def == "" {
		return 0
	}
	d, err := quantity.ParseDuration(k.def)
	if err != nil {
		panic(k.name + ": " + err.Error())
	}
	return d
}

// whole reads a whole number by its entry in the table.
func (o *object) whole(name string) int64 {
	k := o.of.key(name)
	if k.typ.sort != wholeValue {
		panic(name + " is no whole number in its table")
	}
	var def int64
	if k.def != "" {
		if _, err := fmt.Sscan(k.def, &def); err != nil {
			panic(name + ": " + err.Error())
		}
	}
	return o.r.whole(o.value(name), o.told(name), def, k.typ.low, k.typ.high)
}

// truth reads true or false by its entry in the table.
func (o *object) truth(name string) bool {
	k := o.of.key(name)
	if k.typ.sort != truthValue {
		panic(name + " is no truth value in its table")
	}
	return o.r.boolean(o.value(name), o.told(name), k.def == "true")
}

// word reads one of several words by its entry in the table.
func (o *object) word(name string) string {
	k := o.of.key(name)
	if k.typ.sort != wordValue {
		panic(name + " is not one of several words in its table")
	}
	return o.r.word(o.value(name), o.told(name), k.def, k.typ.list...)
}

// share reads a percentage by its entry in the table, as a share of 1.
func (o *object) share(name string) float64 {
	k := o.of.key(name)
	if k.typ.sort != shareValue {
		panic(name + " is no percentage in its table")
	}
	return parse(o.r, o.value(name), o.told(name), 0, quantity.ParsePercent).Share()
}

// size reads a number of bytes by its entry in the table.
func (o *object) size(name string) int64 {
	def, err := quantity.ParseSize(o.of.key(name).def)
	if err != nil {
		panic(name + ": " + err.Error())
	}
	return parse(o.r, o.value(name), o.told(name), def, quantity.ParseSize)
}
