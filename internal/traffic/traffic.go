// Package traffic sums up messages that come out of a broker: by topics whose varying levels are
// one, with rates, sizes, forms of bodies and the last value of each.
package traffic

import (
	"bytes"
	"cmp"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"runcrowd/internal/crowd"
	"runcrowd/internal/recording"
	"runcrowd/internal/strictjson"
)

// mostTopics is how many topics are told apart; what comes at others is counted together.
const mostTopics = 20_000

// Traffic is what came so far.
type Traffic struct {
	First, Last time.Time // when messages came
	Messages    int
	Others      int // messages at topics beyond those that are told apart
	topics      map[string]*topic
}

// topic is what came at one.
type topic struct {
	messages, retained int
	bytes              int64
	least, most        int
	qos                byte
	forms              map[string]int
	first, last        time.Time
	value              []byte
}

// Pattern is topics that differ in the levels that are + alone.
type Pattern struct {
	Filter    string
	Topics    int
	Messages  int
	Retained  int
	PerSecond float64 // of those that were not retained, since the first
	Bytes     int64
	Least     int // bytes of a body
	Most      int
	QoS       byte   // the highest
	Forms     string // of bodies, the most frequent first
	Last      time.Time
	Topic     string // at which the last one came
	Value     []byte // its body, the beginning
}

// mostKept is how much of a body is kept.
const mostKept = 2000

// Add takes a message, which may be changed afterwards.
func (t *Traffic) Add(l *recording.Line) {
	if t.Messages++; t.First.IsZero() {
		t.First = l.At
	}
	t.Last = l.At
	x := t.topics[l.Topic]
	if x == nil {
		if len(t.topics) >= mostTopics {
			t.Others++
			return
		}
		if t.topics == nil {
			t.topics = map[string]*topic{}
		}
		x = &topic{least: len(l.Body), first: l.At, forms: map[string]int{}}
		t.topics[l.Topic] = x
	}
	if x.messages++; l.Retained {
		x.retained++
	}
	x.bytes += int64(len(l.Body))
	x.least, x.most = min(x.least, len(l.Body)), max(x.most, len(l.Body))
	x.qos = max(x.qos, l.QoS)
	x.forms[Form(l.Body)]++
	x.last = l.At
	x.value = append(x.value[:0], l.Body[:min(len(l.Body), mostKept)]...)
}

// Form is what a body looks like: JSON object, JSON list, number, truth, text, bytes or nothing.
func Form(body []byte) string {
	b := bytes.TrimSpace(body)
	if len(b) == 0 {
		return "nothing"
	}
	if v, err := strictjson.Decode(b); err == nil {
		switch v.(type) {
		case map[string]any:
			return "JSON object"
		case []any:
			return "JSON list"
		case bool:
			return "truth"
		case string, nil:
			return "JSON text"
		}
		return "number"
	}
	if !utf8.Valid(body) || slices.ContainsFunc(body, func(c byte) bool { return c < ' ' && c != '\n' && c != '\r' && c != '\t' }) {
		return "bytes"
	}
	return "text"
}

// node is a level of topics.
type node struct {
	children map[string]*node
	topics   []string // that end here
}

// Patterns are the topics, folded, those with most messages first.
func (t *Traffic) Patterns() []Pattern {
	root := &node{}
	for name := range t.topics {
		n := root
		for level := range strings.SplitSeq(name, "/") {
			if n.children == nil {
				n.children = map[string]*node{}
			}
			if n.children[level] == nil {
				n.children[level] = &node{}
			}
			n = n.children[level]
		}
		n.topics = append(n.topics, name)
	}
	root.fold()
	var list []Pattern
	root.collect(nil, func(levels []string, topics []string) {
		list = append(list, t.sum(strings.Join(levels, "/"), topics))
	})
	slices.SortFunc(list, func(a, b Pattern) int {
		return cmp.Or(cmp.Compare(b.Messages, a.Messages), strings.Compare(a.Filter, b.Filter))
	})
	return list
}

// shape is what stands below a node.
func (n *node) shape() string {
	var b strings.Builder
	if len(n.topics) > 0 {
		b.WriteByte('.')
	}
	names := make([]string, 0, len(n.children))
	for name := range n.children {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		b.WriteString(name + "(" + n.children[name].shape() + ")")
	}
	return b.String()
}

// digits are what numbers and identifiers differ in.
var digits = regexp.MustCompile(`[0-9a-fA-F]*[0-9][0-9a-fA-F]*`)

// alike is a name without its numbers.
func alike(name string) string { return digits.ReplaceAllString(name, "0") }

// How many names of a level are taken for one: of names that differ in their numbers alone, two; of
// others with the same levels below them, three; of those with nothing below, nine.
const (
	leastNumbered = 2
	leastBranches = 3
	leastLeaves   = 9
)

// fold makes one of the children that are alike.
func (n *node) fold() {
	groups := map[string][]string{}
	for name, child := range n.children {
		child.fold()
		groups[child.shape()] = append(groups[child.shape()], name)
	}
	for shape, names := range groups {
		least := leastLeaves
		if strings.Contains(shape, "(") {
			least = leastBranches
		}
		numbered := map[string][]string{}
		for _, name := range names {
			if a := alike(name); a != name {
				numbered[a] = append(numbered[a], name)
			}
		}
		if len(names) >= least {
			n.merge(names)
			continue
		}
		for _, same := range numbered {
			if len(same) >= leastNumbered {
				n.merge(same)
			}
		}
	}
}

// merge makes one child, +, of some.
func (n *node) merge(names []string) {
	one := n.children["+"]
	for _, name := range names {
		child := n.children[name]
		delete(n.children, name)
		if one == nil {
			one = child
			continue
		}
		one.take(child)
	}
	n.children["+"] = one
}

func (n *node) take(other *node) {
	n.topics = append(n.topics, other.topics...)
	for name, child := range other.children {
		if n.children == nil {
			n.children = map[string]*node{}
		}
		if mine := n.children[name]; mine != nil {
			mine.take(child)
		} else {
			n.children[name] = child
		}
	}
}

func (n *node) collect(levels []string, see func(levels, topics []string)) {
	if len(n.topics) > 0 {
		see(levels, n.topics)
	}
	for name, child := range n.children {
		child.collect(append(slices.Clone(levels), name), see)
	}
}

// sum sums up topics.
func (t *Traffic) sum(filter string, topics []string) Pattern {
	p := Pattern{Filter: filter, Topics: len(topics), Least: -1}
	forms := map[string]int{}
	for _, name := range topics {
		x := t.topics[name]
		p.Messages, p.Retained, p.Bytes = p.Messages+x.messages, p.Retained+x.retained, p.Bytes+x.bytes
		p.Most, p.QoS = max(p.Most, x.most), max(p.QoS, x.qos)
		if p.Least < 0 || x.least < p.Least {
			p.Least = x.least
		}
		for form, n := range x.forms {
			forms[form] += n
		}
		if x.last.After(p.Last) || x.last.Equal(p.Last) && (p.Topic == "" || name < p.Topic) {
			p.Last, p.Topic, p.Value = x.last, name, x.value
		}
	}
	if took := t.Last.Sub(t.First); took > 0 {
		p.PerSecond = float64(p.Messages-p.Retained) / took.Seconds()
	}
	names := make([]string, 0, len(forms))
	for form := range forms {
		names = append(names, form)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(forms[b]-forms[a], strings.Compare(a, b)) })
	p.Forms = strings.Join(names, ", ")
	return p
}

// Has tells whether a topic is one of a pattern's.
func (p *Pattern) Has(topic string) bool { return crowd.TopicMatches(p.Filter, topic) }
