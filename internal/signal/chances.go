package signal

import (
	"fmt"
	"math"
	"regexp/syntax"
	"sync/atomic"
)

// State is one state of a chain: where it goes with which chance at each
// message. What is left to one is the chance to stay.
type State struct {
	Name string
	To   []Transition
}

// Transition is one way out of a state.
type Transition struct {
	To    string
	Share float64
}

var chances = []Spec{
	{
		Name: "uniform", Group: "chance", Gives: Float, Doc: "a number anywhere between low and high, all alike likely",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest value"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "the highest value"},
		},
		Example: "wind_deg: {signal: uniform, low: 200, high: 260, round: 0}",
		make: func(a Args) (Signal, error) {
			low, high := a.num("low"), a.num("high")
			if low > high {
				return nil, fmt.Errorf("low %g is above high %g", low, high)
			}
			return signalFunc(func(m Moment) Value { return number(low + (high-low)*Uniform(m.Key, m.Seq, 0)) }), nil
		},
	},
	{
		Name: "whole", Group: "chance", Gives: Int, Doc: "a whole number from low to high, each as likely as the others",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest number"},
			{Name: "high", Type: Number, Default: 9.0, Doc: "the highest number"},
		},
		Example: "berth_no: {signal: whole, low: 1, high: 24}",
		make: func(a Args) (Signal, error) {
			low, high := a.num("low"), a.num("high")
			if low > high {
				return nil, fmt.Errorf("low %g is above high %g", low, high)
			}
			if low != math.Trunc(low) || high != math.Trunc(high) || max(-low, high) > 1<<53 {
				return nil, fmt.Errorf("low %g and high %g must be whole numbers up to 2^53", low, high)
			}
			return signalFunc(func(m Moment) Value {
				n := math.Floor((high - low + 1) * Uniform(m.Key, m.Seq, 0))
				return OfInt(int64(low + min(n, high-low)))
			}), nil
		},
	},
	{
		Name: "normal", Group: "chance", Gives: Float, Doc: "a number spread around a mean as by the normal distribution",
		Params: []Param{
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the middle"},
			{Name: "spread", Type: Number, Default: 1.0, Doc: "the standard deviation"},
		},
		Example: "salinity: {signal: normal, mean: 34.8, spread: 0.2, round: 2}",
		make: func(a Args) (Signal, error) {
			mean, spread := a.num("mean"), a.num("spread")
			if spread < 0 {
				return nil, fmt.Errorf("spread must not be negative, not %g", spread)
			}
			return signalFunc(func(m Moment) Value { return number(mean + spread*Gauss(m.Key, m.Seq, 0)) }), nil
		},
	},
	{
		Name: "walk", Group: "chance", Gives: Float, Doc: "a random walk: each message a step from the one before, pulled " +
			"back towards the middle and turned back at its bounds",
		Params: []Param{
			{Name: "start", Type: Number, Optional: true, Doc: "the first value, and the middle it is pulled to; if not " +
				"given, halfway between low and high, or 0"},
			{Name: "step", Type: Number, Default: 1.0, Doc: "the standard deviation of one step"},
			{Name: "pull", Type: Share, Default: 0.02, Doc: "how much of its distance from the middle it loses with each " +
				"step; 0% lets it go anywhere"},
			{Name: "low", Type: Number, Optional: true, Doc: "the bound below, at which it turns back"},
			{Name: "high", Type: Number, Optional: true, Doc: "the bound above"},
		},
		Example: "fuel_l: {signal: walk, start: 400, step: 3, pull: 1%, low: 0, high: 800, round: 1}",
		make:    makeWalk,
	},
	{
		Name: "choice", Group: "chance", Doc: "one of a list of values, alike likely or weighted",
		Params: []Param{
			{Name: "of", Type: Values, Doc: "the list to choose from"},
			{Name: "weights", Type: Numbers, Optional: true, Doc: "how likely each is, compared with the others"},
		},
		Example: "visibility: {signal: choice, of: [good, moderate, poor], weights: [7, 2, 1]}",
		make: func(a Args) (Signal, error) {
			list, _ := a["of"].([]Value)
			if len(list) == 0 {
				return nil, fmt.Errorf("of is empty: there is nothing to choose from")
			}
			weights, _ := a["weights"].([]float64)
			w, err := NewWeights(len(list), weights)
			if err != nil {
				return nil, err
			}
			return signalFunc(func(m Moment) Value { return list[w.Pick(Uniform(m.Key, m.Seq, 0))] }), nil
		},
	},
	{
		Name: "states", Group: "chance", Gives: Text, Doc: "one of several states; with each message it stays or goes to " +
			"another, by chances of its own",
		Params: []Param{
			{Name: "of", Type: States, Doc: "for each state, the chances of going elsewhere; it begins in the first"},
		},
		Example: "berth: {signal: states, of: {free: {taken: 10%}, taken: {free: 5%, closed: 1%}, closed: {free: 30%}}}",
		make:    makeStates,
	},
	{
		Name: "text", Group: "chance", Gives: Text, Doc: "a random text of a shape that a regular expression describes",
		Params: []Param{
			{Name: "pattern", Type: Plain, Doc: "the shape, such as [A-Z]{3}-[0-9]{4}; * and + repeat at most eight times"},
		},
		Example: "code: {signal: text, pattern: \"[A-Z]{3}-[0-9]{4}\"}",
		make: func(a Args) (Signal, error) {
			t, err := NewPattern(a.word("pattern"))
			if err != nil {
				return nil, err
			}
			return signalFunc(func(m Moment) Value { return OfText(t.Make(m.Key, m.Seq)) }), nil
		},
	},
}

// Weights picks one of several with given weights.
type Weights []float64 // cumulated, the last is 1

// NewWeights is for n things; without weights all are alike likely.
func NewWeights(n int, weights []float64) (Weights, error) {
	if weights == nil {
		weights = make([]float64, n)
		for i := range weights {
			weights[i] = 1
		}
	}
	if len(weights) != n {
		return nil, fmt.Errorf("weights must be as many as the values: %d, not %d", n, len(weights))
	}
	w, sum := make(Weights, n), 0.0
	for i, x := range weights {
		if !(x >= 0) || math.IsInf(x, 0) {
			return nil, fmt.Errorf("a weight must not be negative, not %g", x)
		}
		sum += x
		w[i] = sum
	}
	if !(sum > 0) {
		return nil, fmt.Errorf("the weights are all zero: there is nothing to choose from")
	}
	for i := range w {
		w[i] /= sum
	}
	return w, nil
}

// Pick is the index that a uniform number u in [0, 1) falls on.
func (w Weights) Pick(u float64) int {
	for i, x := range w {
		if u < x {
			return i
		}
	}
	return len(w) - 1
}

// walk is an autoregressive walk x' = middle + keep*(x-middle) + step*noise, the
// Ornstein-Uhlenbeck process at whole times. Such a process has the Markov
// property, so the value in the middle between two known ones can be drawn from
// a normal distribution given both alone. Fixed points at 1, 2, 4, 8, … follow
// from each other, and any value is found by halving the way between two of
// them: about 2 log2(n) draws for the n-th value, and no state.
type walk struct {
	middle    float64
	keep      [64]float64 // share of the distance kept over 2^i steps
	variance  [64]float64 // gathered over 2^i steps
	low, high *float64
}

func makeWalk(a Args) (Signal, error) {
	w := &walk{}
	step, pull := a.num("step"), a.num("pull")
	if step < 0 {
		return nil, fmt.Errorf("step must not be negative, not %g", step)
	}
	if pull > 0.99 {
		return nil, fmt.Errorf("pull must be at most 99%%")
	}
	w.keep[0], w.variance[0] = 1-pull, step*step
	for i := 1; i < 64; i++ {
		w.keep[i] = w.keep[i-1] * w.keep[i-1]
		w.variance[i] = w.variance[i-1] * (1 + w.keep[i-1]*w.keep[i-1])
	}
	for name, bound := range map[string]**float64{"low": &w.low, "high": &w.high} {
		if v, given := a[name].(float64); given {
			*bound = &v
		}
	}
	if w.low != nil && w.high != nil && *w.low >= *w.high {
		return nil, fmt.Errorf("low %g is not below high %g", *w.low, *w.high)
	}
	start, given := a["start"].(float64)
	switch {
	case given:
		w.middle = start
	case w.low != nil && w.high != nil:
		w.middle = *w.low/2 + *w.high/2
	case w.low != nil:
		w.middle = max(0, *w.low)
	case w.high != nil:
		w.middle = min(0, *w.high)
	}
	if w.low != nil && w.middle < *w.low || w.high != nil && w.middle > *w.high {
		return nil, fmt.Errorf("start %g lies outside the bounds", w.middle)
	}
	return w, nil
}

func (w *walk) At(m Moment) Value {
	n := m.Seq - min(1, m.Seq)
	return number(w.fold(w.middle + w.away(m.Key, n)))
}

// away is the distance from the middle after n steps, without bounds.
func (w *walk) away(key, n uint64) float64 {
	if n == 0 {
		return 0
	}
	draw := func(i uint64) float64 { return Gauss(key, i, 2000) }
	// The fixed point at the greatest power of two not above n.
	at, level := uint64(1), 0
	x := math.Sqrt(w.variance[0]) * draw(1)
	for ; at<<1 <= n; level++ {
		x = w.keep[level]*x + math.Sqrt(w.variance[level])*draw(at<<1)
		at <<= 1
	}
	if at == n {
		return x
	}
	right := w.keep[level]*x + math.Sqrt(w.variance[level])*draw(at<<1)
	for at != n {
		level--
		k, v := w.keep[level], w.variance[level]
		middle := 0.0
		if v > 0 {
			// Both neighbours are 2^level steps away.
			middle = k * (x + right) / (1 + k*k)
			middle += math.Sqrt(v/(1+k*k)) * draw(at+1<<level)
		}
		if n < at+1<<level {
			right = middle
		} else {
			x, at = middle, at+1<<level
		}
	}
	return x
}

// fold mirrors x at the bounds until it lies between them.
func (w *walk) fold(x float64) float64 {
	switch {
	case w.low != nil && w.high != nil:
		low, span := *w.low, *w.high-*w.low
		y := math.Mod(x-low, 2*span)
		if y < 0 {
			y += 2 * span
		}
		return low + math.Min(y, 2*span-y)
	case w.low != nil && x < *w.low:
		return 2**w.low - x
	case w.high != nil && x > *w.high:
		return 2**w.high - x
	}
	return x
}

// chain is a Markov chain. The number that decides a step is the same whatever
// state the chain is in, so its value is found by going back from the step asked
// for until all states lead to the same one (coupling from the past, Propp and
// Wilson, 1996), or until the first message. What was found last is kept, so
// that the next step costs one draw; it is a shortcut and changes nothing.
type chain struct {
	names []Value
	to    []Weights
	last  atomic.Uint64 // key's low 16 bits, sequence number, state
}

func makeStates(a Args) (Signal, error) {
	list, _ := a["of"].([]State)
	if len(list) == 0 {
		return nil, fmt.Errorf("of is empty: there is no state")
	}
	if len(list) > 200 {
		return nil, fmt.Errorf("there are %d states; the most is 200", len(list))
	}
	c := &chain{}
	index := map[string]int{}
	for i, s := range list {
		index[s.Name] = i
		c.names = append(c.names, OfText(s.Name))
	}
	for i, s := range list {
		shares, left := make([]float64, len(list)), 1.0
		for _, t := range s.To {
			j, known := index[t.To]
			if !known {
				return nil, fmt.Errorf("the state %q goes to %q, which is no state: give it a line of its own, such as %s: {}",
					s.Name, t.To, t.To)
			}
			if j == i {
				return nil, fmt.Errorf("the state %q goes to itself: leave that out, the rest of the chances is the chance to "+
					"stay", s.Name)
			}
			shares[j] += t.Share
			left -= t.Share
		}
		if left < -1e-9 {
			return nil, fmt.Errorf("the chances of the state %q add up to more than 100%%", s.Name)
		}
		shares[i] = math.Max(0, left)
		w, err := NewWeights(len(list), shares)
		if err != nil {
			return nil, err
		}
		c.to = append(c.to, w)
	}
	return c, nil
}

func (c *chain) At(m Moment) Value { return c.names[c.state(m.Key, m.Seq)] }

func (c *chain) state(key, seq uint64) int {
	if seq <= 1 {
		return 0
	}
	const seqBits = 40
	stamp := func(seq uint64, state int) uint64 {
		return key<<48 | seq<<8&(1<<(seqBits+8)-1) | uint64(state)
	}
	if last := c.last.Load(); last != 0 && last>>8 == stamp(seq-1, 0)>>8 && seq < 1<<seqBits {
		s := c.to[last&0xff].Pick(Uniform(key, seq, 0))
		c.last.Store(stamp(seq, s))
		return s
	}
	var buf [200]int
	for back := uint64(16); ; back *= 4 {
		begin := uint64(2) // the first step is the one to the second message
		states := buf[:1]
		states[0] = 0
		if seq > back+2 {
			begin = seq - back
			states = buf[:len(c.to)]
			for i := range states {
				states[i] = i
			}
		}
		for n := begin; n <= seq; n++ {
			u := Uniform(key, n, 0)
			for i, s := range states {
				states[i] = c.to[s].Pick(u)
			}
			if len(states) > 1 && allSame(states) {
				states = states[:1]
			}
		}
		if len(states) == 1 {
			c.last.Store(stamp(seq, states[0]))
			return states[0]
		}
	}
}

func allSame(list []int) bool {
	for _, x := range list {
		if x != list[0] {
			return false
		}
	}
	return true
}

// Pattern makes random texts that a regular expression matches.
type Pattern struct{ re *syntax.Regexp }

// most is how often * and + repeat, at most.
const most = 8

// maxText is how long a made text may become.
const maxText = 1000

// NewPattern compiles a regular expression in the syntax of Go's package regexp.
func NewPattern(like string) (*Pattern, error) {
	re, err := syntax.Parse(like, syntax.Perl)
	if err != nil {
		return nil, fmt.Errorf("%q is not a regular expression: %s", like, err.(*syntax.Error).Code)
	}
	if n := longest(re); n > maxText {
		return nil, fmt.Errorf("%q may become longer than %d letters", like, maxText)
	}
	return &Pattern{re}, nil
}

func longest(re *syntax.Regexp) int {
	n := 0
	switch re.Op {
	case syntax.OpLiteral:
		n = len(re.Rune)
	case syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		n = 1
	case syntax.OpAlternate:
		for _, s := range re.Sub {
			n = max(n, longest(s))
		}
	default:
		for _, s := range re.Sub {
			n = min(maxText+1, n+longest(s))
		}
	}
	switch re.Op {
	case syntax.OpStar, syntax.OpPlus:
		n *= most
	case syntax.OpRepeat:
		if re.Max < 0 {
			n *= re.Min + most
		} else {
			n *= re.Max
		}
	}
	return min(n, maxText+1)
}

// Make is the text of a key and a sequence number.
func (p *Pattern) Make(key, seq uint64) string {
	i := uint64(0)
	draw := func(n int) int { i++; return int(Uniform(key, seq, i) * float64(n)) }
	var b []rune
	var walk func(re *syntax.Regexp)
	times := func(re *syntax.Regexp, low, high int) {
		for range low + draw(high-low+1) {
			walk(re.Sub[0])
		}
	}
	walk = func(re *syntax.Regexp) {
		switch re.Op {
		case syntax.OpLiteral:
			b = append(b, re.Rune...)
		case syntax.OpCharClass:
			b = append(b, oneOf(re.Rune, draw))
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			b = append(b, rune(' '+draw('~'-' '+1)))
		case syntax.OpAlternate:
			walk(re.Sub[draw(len(re.Sub))])
		case syntax.OpStar:
			times(re, 0, most)
		case syntax.OpPlus:
			times(re, 1, most)
		case syntax.OpQuest:
			times(re, 0, 1)
		case syntax.OpRepeat:
			high := re.Max
			if high < 0 {
				high = re.Min + most
			}
			times(re, re.Min, high)
		default:
			for _, s := range re.Sub {
				walk(s)
			}
		}
	}
	walk(p.re)
	return string(b)
}

// oneOf draws from a class of characters: of a large one, such as "not a", only
// printable ASCII where it has some.
func oneOf(ranges []rune, draw func(int) int) rune {
	n := 0
	clipped := make([]rune, 0, len(ranges))
	for i := 0; i+1 < len(ranges); i += 2 {
		low, high := max(ranges[i], ' '), min(ranges[i+1], '~')
		if low <= high {
			clipped = append(clipped, low, high)
			n += int(high-low) + 1
		}
	}
	if n == 0 {
		clipped = ranges
		for i := 0; i+1 < len(ranges); i += 2 {
			n += int(ranges[i+1]-ranges[i]) + 1
		}
	}
	if n == 0 {
		return '?'
	}
	k := draw(n)
	for i := 0; i+1 < len(clipped); i += 2 {
		if span := int(clipped[i+1]-clipped[i]) + 1; k < span {
			return clipped[i] + rune(k)
		} else {
			k -= span
		}
	}
	return clipped[0]
}
