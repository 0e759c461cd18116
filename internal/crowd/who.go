package crowd

import (
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Selection names a set of devices, wherever one is named:
//
//	all                          every device
//	buoy-007                     the device, kind or tag of that name
//	tag winter, kind light-buoy  where a name alone could be both
//	buoy-0*                      names that fit a pattern (*, ?, [0-9])
//	site == "outer" and n > 10   a formula over properties, device, kind, n and tags
//	20% of light-buoy            a share of them, drawn from the seed
//	5 of tag winter              so many of them, drawn from the seed
//	first 5 of light-buoy        the first ones in the file's order
//	every 10th of buoy-*         the 10th, the 20th and so on
//	5 of light-buoy where lamp_w > 12
type Selection struct {
	source string
	amount amount
	base   string
	sort   baseSort
	where  string
	Pos    Pos // in the crowd file
}

// Source is how it was written.
func (s *Selection) Source() string { return s.source }

type baseSort uint8

const (
	baseAll baseSort = iota
	baseName
	baseKind
	baseTag
	basePattern
	baseFormula
)

type amount struct {
	share float64 // of them
	some  int     // so many
	first int
	every int
}

// Candidate is a device that a selection may choose. Candidates of one Group
// have the same names and types in Env.
type Candidate struct {
	Name  string
	Kind  string
	Tags  []string
	Env   formula.Env
	Group any
}

var (
	everyPattern = regexp.MustCompile(`^every (\d+)(st|nd|rd|th)$`)
	firstPattern = regexp.MustCompile(`^first (\d+)$`)
	nameOnly     = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._:@/-]*$`)
	globOnly     = regexp.MustCompile(`^[\p{L}\p{N}._:@/*?\[\]^-]+$`)
)

// IsTag tells whether a text can be a tag.
func IsTag(s string) bool { return nameOnly.MatchString(s) }

// ParseSelection reads a selection.
func ParseSelection(text string) (*Selection, error) {
	s := &Selection{source: strings.TrimSpace(text), amount: amount{share: 1}}
	rest := s.source
	if rest == "" {
		return nil, fmt.Errorf("a selection is empty; write all, a name, a kind, a tag, or for example 20%% of light-buoy")
	}
	head, tail, of := strings.Cut(rest, " of ")
	if !of {
		head, tail = rest, "all"
	}
	if base, where, is := strings.Cut(head, " where "); is && !of {
		head, tail = base, "all where "+where
	}
	known, err := s.amount.parse(head)
	if err != nil {
		return nil, err
	}
	if known {
		rest = tail
	}
	if base, where, is := strings.Cut(rest, " where "); is {
		rest, s.where = base, strings.TrimSpace(where)
		if s.where == "" {
			return nil, fmt.Errorf("%q: a formula is missing after \"where\"", text)
		}
	}
	s.base = strings.TrimSpace(rest)
	name, isTag := strings.CutPrefix(s.base, "tag ")
	kind, isKind := strings.CutPrefix(s.base, "kind ")
	switch {
	case s.base == "all":
		s.sort = baseAll
	case isTag && nameOnly.MatchString(name):
		s.sort, s.base = baseTag, name
	case isKind && nameOnly.MatchString(kind):
		s.sort, s.base = baseKind, kind
	case nameOnly.MatchString(s.base):
		s.sort = baseName
	case globOnly.MatchString(s.base):
		if _, err := path.Match(s.base, "x"); err != nil {
			return nil, fmt.Errorf("%q is not a pattern; write one such as buoy-0* or buoy-[0-4]?", s.base)
		}
		s.sort = basePattern
	default:
		s.sort = baseFormula
	}
	return s, nil
}

func (a *amount) parse(text string) (bool, error) {
	text = strings.TrimSpace(text)
	if strings.HasSuffix(text, "%") {
		p, err := quantity.ParsePercent(text)
		a.share = p.Share()
		return true, err
	}
	whole := func(s string) (int, error) {
		n, err := strconv.Atoi(s)
		if err != nil || n < 1 {
			return 0, fmt.Errorf("%q: the number must be a whole one above zero", text)
		}
		return n, nil
	}
	var err error
	if m := everyPattern.FindStringSubmatch(text); m != nil {
		a.every, err = whole(m[1])
		return true, err
	}
	if m := firstPattern.FindStringSubmatch(text); m != nil {
		a.first, err = whole(m[1])
		return true, err
	}
	if text != "" && strings.Trim(text, "0123456789") == "" {
		a.some, err = whole(text)
		return true, err
	}
	return false, nil
}

// Pick tells for each candidate whether it is selected. The error says why none
// can be: a name that nobody has, a formula that is wrong.
func (s *Selection) Pick(seed uint64, list []Candidate) ([]bool, error) {
	p, err := s.Pool(list)
	if err != nil {
		return nil, err
	}
	picked := make([]bool, len(list))
	for _, i := range p.Draw(seed, "") {
		picked[i] = true
	}
	return picked, nil
}

// Pool is the candidates that a selection may draw from.
type Pool struct {
	selection *Selection
	list      []Candidate
	in        []int
}

// Pool finds out whom a selection may draw. The error is that of Pick.
func (s *Selection) Pool(list []Candidate) (*Pool, error) {
	test, err := s.test(list)
	if err != nil {
		return nil, err
	}
	var in []int
	for i := range list {
		ok, err := test(&list[i])
		if err != nil {
			return nil, err
		}
		if ok {
			in = append(in, i)
		}
	}
	a := &s.amount
	switch {
	case len(in) == 0:
		return nil, s.nobody(list)
	case a.every > len(in):
		return nil, fmt.Errorf("%q selects no device: there are only %d to count", s.source, len(in))
	case a.some == 0 && a.share > 0 && a.share < 1 && math.Round(a.share*float64(len(in))) == 0:
		return nil, fmt.Errorf("%q selects no device: it is less than half of one of %d", s.source, len(in))
	}
	return &Pool{s, list, in}, nil
}

// All are all that may be drawn, by their place among the candidates.
func (p *Pool) All() []int { return p.in }

// Drawn tells whether chance decides who is selected.
func (p *Pool) Drawn() bool {
	a := &p.selection.amount
	return a.every == 0 && a.first == 0 && (a.some > 0 && a.some < len(p.in) || a.some == 0 && a.share < 1)
}

// Draw is who is selected, by place among the candidates, in their order. Another occasion
// draws others; the empty one is that of Pick.
func (p *Pool) Draw(seed uint64, occasion string) []int {
	a, in := &p.selection.amount, p.in
	switch {
	case a.every > 0:
		var list []int
		for k := a.every - 1; k < len(in); k += a.every {
			list = append(list, in[k])
		}
		return list
	case a.first > 0:
		return in[:min(a.first, len(in))]
	case !p.Drawn():
		return in
	}
	n := a.some
	if n == 0 {
		n = int(math.Round(a.share * float64(len(in))))
	}
	rank := make(map[int]uint64, len(in))
	for _, i := range in {
		parts := []string{"who", p.selection.source, p.list[i].Name}
		if occasion != "" {
			parts = append(parts, occasion)
		}
		rank[i] = signal.Key(seed, parts...)
	}
	drawn := slices.Clone(in)
	sort.Slice(drawn, func(x, y int) bool { return rank[drawn[x]] < rank[drawn[y]] })
	drawn = drawn[:n]
	slices.Sort(drawn)
	return drawn
}

func (s *Selection) test(list []Candidate) (func(*Candidate) (bool, error), error) {
	base := func(*Candidate) (bool, error) { return true, nil }
	var err error
	switch s.sort {
	case baseName:
		base = func(c *Candidate) (bool, error) {
			return c.Name == s.base || c.Kind == s.base || slices.Contains(c.Tags, s.base), nil
		}
	case baseKind:
		base = func(c *Candidate) (bool, error) { return c.Kind == s.base, nil }
	case baseTag:
		base = func(c *Candidate) (bool, error) { return slices.Contains(c.Tags, s.base), nil }
	case basePattern:
		base = func(c *Candidate) (bool, error) { return path.Match(s.base, c.Name) }
	case baseFormula:
		if base, err = formulaTest(s.base, list); err != nil {
			return nil, err
		}
	}
	if s.where == "" {
		return base, nil
	}
	where, err := formulaTest(s.where, list)
	return func(c *Candidate) (bool, error) {
		if ok, err := base(c); !ok || err != nil {
			return false, err
		}
		return where(c)
	}, err
}

// formulaTest is a test by a formula. It holds for no device that lacks a
// property it names; one that no device has is an error.
func formulaTest(source string, list []Candidate) (func(*Candidate) (bool, error), error) {
	compiled := map[any]*formula.Formula{}
	var wrong error
	fits := false
	for i := range list {
		c := &list[i]
		if _, done := compiled[c.Group]; done {
			continue
		}
		f, err := formula.Compile(source, c.Env)
		if err == nil {
			if _, is := f.Sample().(bool); !is {
				err = fmt.Errorf("it gives no yes or no; a test is a comparison, such as n > 10")
			}
		}
		if err != nil {
			if wrong == nil {
				wrong = fmt.Errorf("%q is neither a name nor a test: %w", source, err)
			}
			f = nil
		}
		fits = fits || f != nil
		compiled[c.Group] = f
	}
	if !fits {
		return nil, wrong
	}
	m := &formula.Machine{}
	return func(c *Candidate) (bool, error) {
		f := compiled[c.Group]
		if f == nil {
			return false, nil
		}
		v, err := f.Any(m, c.Env)
		yes, _ := v.(bool)
		return yes, err
	}, nil
}

// nobody is the error for a selection that fits no device.
func (s *Selection) nobody(list []Candidate) error {
	names := map[string]bool{}
	for i := range list {
		names[list[i].Kind] = true
		for _, t := range list[i].Tags {
			names[t] = true
		}
	}
	kinds := slices.Sorted(maps.Keys(names))
	for i := range list {
		names[list[i].Name] = true
	}
	known := slices.Sorted(maps.Keys(names))
	text := fmt.Sprintf("%q selects no device", s.source)
	if s.sort == basePattern || s.sort == baseName {
		prefix := strings.TrimRight(s.base, "*?")
		if near := formula.Nearest(s.base, known); near != "" && s.sort == baseName {
			return fmt.Errorf("%s; did you mean %q?", text, near)
		}
		if len(list) > 0 && prefix != "" {
			return fmt.Errorf("%s; the first device is %q, kinds and tags are %s", text, list[0].Name, formula.List(kinds))
		}
	}
	if (s.sort == baseKind || s.sort == baseTag) && len(kinds) > 0 {
		if near := formula.Nearest(s.base, kinds); near != "" {
			return fmt.Errorf("%s; did you mean %q?", text, near)
		}
		return fmt.Errorf("%s; kinds and tags are %s", text, formula.List(kinds))
	}
	return fmt.Errorf("%s", text)
}
