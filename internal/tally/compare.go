package tally

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// Comparing says how two runs are compared.
type Comparing struct {
	// Margin is by which share of the first a delay or a rate has to differ to be called a
	// change.
	Margin float64
	// Least is the least difference of delays that is one.
	Least time.Duration
}

// Trend is what became of something from the first run to the second.
type Trend string

// The trends.
const (
	Same    Trend = "same"
	Better  Trend = "better"
	Worse   Trend = "worse"
	Unclear Trend = "unclear" // too few messages to tell a change from noise
)

// Comparison is two runs beside each other.
type Comparison struct {
	Verdicts     []VerdictChange     `json:"verdicts"`
	ProvenShare  [2]float64          `json:"proven_percent"`
	Proven       Trend               `json:"proven"`
	Requirements []RequirementChange `json:"requirements"`
	Delays       []MeasureChange     `json:"delays_ms"`
	Rates        []MeasureChange     `json:"rates_per_second"`
	Devices      []DeviceChange      `json:"devices"` // those that changed, the worst first
	DeviceCount  int                 `json:"devices_changed"`
	OnlyIn       [2]int              `json:"devices_only_in"`
	// Whole tells whether the runs were played to their ends.
	Whole  [2]bool `json:"played_to_the_end"`
	Blocks [2]int  `json:"blocks"` // stretches of time that are held against each other
	// Late tells why the machine that played a run may have made its delays and rates, not the
	// platform; empty: it kept up.
	Late [2]string `json:"machine_late,omitempty"`
}

// VerdictChange is how many messages had a verdict.
type VerdictChange struct {
	Verdict string `json:"verdict"`
	N       [2]int `json:"messages"`
}

// RequirementChange is a requirement in both runs; a state is empty where it had none.
type RequirementChange struct {
	Key   string         `json:"key"`
	State [2]proof.State `json:"state"`
	Got   [2]string      `json:"got"`
	Trend Trend          `json:"trend"`
}

// MeasureChange is a figure of both runs, as their reports have it, with the interval in which
// the difference lies between stretches of the two (Hodges and Lehmann, at 99 %).
type MeasureChange struct {
	Name  string     `json:"name"`
	Value [2]float64 `json:"value"`
	// Low and High bound by how much the second is above the first.
	Low     float64 `json:"low"`
	High    float64 `json:"high"`
	Trend   Trend   `json:"trend"`
	typical float64 // difference between stretches
	// Busy: a machine that played may have made the difference, because it got its turns late.
	Busy bool `json:"machine_busy,omitempty"`
}

// DeviceChange is a device that fared otherwise.
type DeviceChange struct {
	Device string `json:"device"`
	Due    [2]int `json:"due"`
	Bad    [2]int `json:"not_proven"`
}

// Worse tells whether anything became worse.
func (c *Comparison) Worse() bool {
	worse := c.Proven == Worse || c.Whole[0] && !c.Whole[1]
	for _, list := range [][]MeasureChange{c.Delays, c.Rates} {
		for i := range list {
			worse = worse || list[i].Trend == Worse && !strings.HasPrefix(list[i].Name, "lag ")
		}
	}
	for i := range c.Requirements {
		worse = worse || c.Requirements[i].Trend == Worse
	}
	return worse
}

// mostChanged is how many devices that changed are kept.
const mostChanged = 10_000

// A run is held against another by stretches of time: what is near in time is alike, so that
// single messages would seem to tell more than they do.
const (
	leastBlocks = 8
	mostBlocks  = 60
	// sure is how many standard deviations the ranks of the stretches of both must be apart
	// (Mann and Whitney, 1947): by chance they are in 1 of 1 000 pairs, and a dozen figures are
	// looked at.
	sure = 3.3
	// of99 is how many a two-sided interval of 99 % takes.
	of99 = 2.576
	// lateShare is the share of a run, one in so many, in which its process may stand still.
	lateShare = 20
	// leastOf is how many messages of a stretch a percentile of it needs.
	leastOf = 20
)

// Compare compares two runs. Both were judged with Series and Rows.
func Compare(a, b *Result, checks [2][]proof.Check, how Comparing) *Comparison {
	c := &Comparison{}
	both := [2]*Result{a, b}
	for _, v := range verdict.All() {
		if a.Total[v] > 0 || b.Total[v] > 0 {
			c.Verdicts = append(c.Verdicts, VerdictChange{v.String(), [2]int{a.Total[v], b.Total[v]}})
		}
	}
	for i, r := range both {
		c.Whole[i] = r.Whole()
		if n := r.Total.Asked(); n > 0 {
			c.ProvenShare[i] = 100 * float64(r.Total[verdict.Proven]) / float64(n)
		}
	}
	c.Proven = provenTrend(a, b)
	c.requirements(checks)
	var blocks [2][]Step
	var step [2]time.Duration
	for i, r := range both {
		blocks[i], step[i] = blocksOf(r.Series)
		c.Blocks[i] = len(blocks[i])
		c.Late[i] = late(r, time.Duration(len(blocks[i]))*step[i])
	}
	for p, name := range []string{"acknowledged", "received", "stored", "lag"} {
		for _, share := range []struct {
			name string
			of   int
			all  func(*Delays) time.Duration
		}{{"p50", 50, func(d *Delays) time.Duration { return d.P50 }},
			{"p90", 90, func(d *Delays) time.Duration { return d.P90 }},
			{"p99", 99, func(d *Delays) time.Duration { return d.P99 }}} {
			m := MeasureChange{Name: name + " " + share.name}
			n := [2]int{}
			for i, r := range both {
				d := []*Delays{&r.Acknowledged, &r.Received, &r.Stored, &r.Lag}[p]
				n[i], m.Value[i] = d.N, milliseconds(share.all(d))
			}
			if n[0] == 0 || n[1] == 0 {
				continue
			}
			m.compare(c.sampled(blocks, func(_ int, s *Step) (float64, bool) {
				return s.Delays[p].Between(share.of), s.Delays[p].N() >= leastOf
			}), max(how.Margin*m.Value[0], milliseconds(how.Least)), true)
			if p < 3 && (c.Late != [2]string{} || busy(both, share.of, m.typical)) {
				m.excuse()
			}
			c.Delays = append(c.Delays, m)
		}
	}
	for _, r := range []struct {
		name string
		of   func(*Step) int
	}{{"sent", func(s *Step) int { return s.Sent }}, {"acknowledged", func(s *Step) int { return s.Acknowledged }}} {
		m := MeasureChange{Name: r.name}
		for i := range blocks { // each run has steps of its own length
			n := 0
			for k := range blocks[i] {
				n += r.of(&blocks[i][k])
			}
			if len(blocks[i]) > 0 {
				m.Value[i] = float64(n) / (float64(len(blocks[i])) * step[i].Seconds())
			}
		}
		if m.Value[0] == 0 && m.Value[1] == 0 {
			continue
		}
		m.compare(c.sampled(blocks, func(i int, s *Step) (float64, bool) {
			return float64(
				r.of(s)) / step[i].Seconds(), true
		}), how.Margin*m.Value[0], false)
		if c.Late != [2]string{} {
			m.excuse()
		}
		c.Rates = append(c.Rates, m)
	}
	c.devices(both)
	return c
}

func (c *Comparison) requirements(checks [2][]proof.Check) {
	at := map[string]int{}
	for i := range checks {
		for _, x := range checks[i] {
			k := x.Key + ": " + x.Want
			n, known := at[k]
			if !known {
				n = len(c.Requirements)
				at[k] = n
				c.Requirements = append(c.Requirements, RequirementChange{Key: k, Trend: Same})
			}
			c.Requirements[n].State[i], c.Requirements[n].Got[i] = x.State, x.Got
		}
	}
	for i := range c.Requirements {
		q := &c.Requirements[i]
		switch {
		case q.State[0] == "" || q.State[1] == "" || q.State[0] == q.State[1]:
			continue
		case q.State[0] == proof.Met || q.State[1] == proof.NotMet:
			q.Trend = Worse
		default:
			q.Trend = Better
		}
		if q.State[0] == proof.Undecided || q.State[1] == proof.Undecided {
			q.Trend = Unclear
		}
	}
}

// provenTrend compares the shares that are proven, as whole numbers: what is unknown of one may
// be proven, so a share that is told apart from it alone is no change.
func provenTrend(a, b *Result) Trend {
	if a.Total.Asked() == 0 || b.Total.Asked() == 0 {
		if a.Total.Asked() > 0 {
			return Worse
		}
		return Same
	}
	at := func(r, other *Result) (low, high int) {
		n := other.Total.Asked()
		return r.Total[verdict.Proven] * n, (r.Total[verdict.Proven] + r.Total[verdict.Unknown]) * n
	}
	low, high := at(a, b)
	low2, high2 := at(b, a)
	switch {
	case high2 < low:
		return Worse
	case low2 > high:
		return Better
	case low == low2:
		return Same
	}
	return Unclear
}

// late tells why the machine that played a run made delays of its own; empty: it did not.
func late(r *Result, lasted time.Duration) string {
	still := time.Duration(0)
	for _, x := range r.Still {
		still += x.To.Sub(x.From)
	}
	if still*lateShare <= lasted { // single stretches are no matter for ranks
		return ""
	}
	return "it stood still for " + verdict.Span(still)
}

// busy tells whether one of the machines may have made a difference of a percentile by itself:
// of its turns, half as many as are above the percentile came late by half of the difference
// that there is between stretches.
func busy(both [2]*Result, percent int, difference float64) bool {
	half := time.Duration(math.Abs(difference) / 2 * 1e6)
	return max(both[0].Turns.Share(half), both[1].Turns.Share(half)) >= float64(100-percent)/2
}

// excuse lets a figure of a machine that did not keep up decide nothing.
func (m *MeasureChange) excuse() {
	if m.Trend != Same {
		m.Trend, m.Busy = Unclear, true
	}
}

// blocksOf are the stretches of a run. The first and the last are left out: they are not whole.
func blocksOf(s *Series) ([]Step, time.Duration) {
	if s == nil {
		return nil, 0
	}
	s = s.Coarse(mostBlocks, 1<<30)
	list := slices.Clone(s.Steps)
	for len(list) > 0 && list[0].Sent == 0 {
		list = list[1:]
	}
	for len(list) > 0 && list[len(list)-1].Sent == 0 {
		list = list[:len(list)-1]
	}
	if len(list) > leastBlocks+2 {
		list = list[1 : len(list)-1]
	}
	return list, s.Step
}

// sampled is a figure of the stretches of both runs. Where many stretches have too few messages
// for it, neighbours are one.
func (c *Comparison) sampled(blocks [2][]Step, of func(run int, s *Step) (float64, bool)) (list [2][]float64) {
	for i := range blocks {
		for size := 1; ; size *= 2 {
			list[i] = list[i][:0]
			n := 0
			for k := 0; k+size <= len(blocks[i]); k += size {
				x := Step{Found: make([]int, len(blocks[i][k].Found))}
				for s := range size {
					x.merge(&blocks[i][k+s])
				}
				n++
				if v, tells := of(i, &x); tells {
					list[i] = append(list[i], v)
				}
			}
			if 2*len(list[i]) > n || n <= leastBlocks {
				break
			}
		}
	}
	return list
}

// compare holds the figures of the stretches of both runs against each other. Less: the lower
// the better. Least is the least difference that counts.
func (m *MeasureChange) compare(list [2][]float64, least float64, less bool) {
	a, b := list[0], list[1]
	m.Trend = Unclear
	if min(len(a), len(b)) < leastBlocks {
		return
	}
	diffs, above := make([]float64, 0, len(a)*len(b)), 0.0
	for _, x := range a {
		for _, y := range b {
			diffs = append(diffs, y-x)
			switch {
			case y > x:
				above++
			case y == x:
				above += 0.5
			}
		}
	}
	slices.Sort(diffs)
	n := float64(len(diffs))
	sd := math.Sqrt(n * float64(len(a)+len(b)+1) / 12)
	k := max(0, int(n/2-of99*sd))
	m.Low, m.High = diffs[k], diffs[len(diffs)-1-k]
	median := diffs[len(diffs)/2]
	m.typical = median
	z := (above - n/2) / sd
	m.Trend = Same
	more := func(x, y float64) bool { return x > least && y > least } // between stretches, and in all
	switch {
	case z > sure && more(median, m.Value[1]-m.Value[0]):
		m.Trend = Worse
	case z < -sure && more(-median, m.Value[0]-m.Value[1]):
		m.Trend = Better
	}
	if !less {
		m.Trend = map[Trend]Trend{Worse: Better, Better: Worse, Same: Same}[m.Trend]
	}
}

func milliseconds(d time.Duration) float64 { return float64(d.Nanoseconds()) / 1e6 }

func (c *Comparison) devices(both [2]*Result) {
	at := map[string]*DeviceChange{}
	var names []string
	for i, r := range both {
		for k := range r.Rows {
			row := &r.Rows[k]
			d := at[row.Device]
			if d == nil {
				d = &DeviceChange{Device: row.Device}
				at[row.Device] = d
				names = append(names, row.Device)
			}
			d.Due[i] += row.Counts.Due()
			d.Bad[i] += row.Counts.Due() - row.Counts[verdict.Proven] - row.Counts[verdict.Dropped]
		}
	}
	for _, name := range names {
		switch d := at[name]; {
		case d.Due[1] == 0:
			c.OnlyIn[0]++
		case d.Due[0] == 0:
			c.OnlyIn[1]++
		case d.Bad[0] != d.Bad[1]:
			c.Devices = append(c.Devices, *d)
		}
	}
	slices.SortStableFunc(c.Devices, func(a, b DeviceChange) int {
		return cmp.Compare(b.Bad[1]-b.Bad[0],
			a.Bad[1]-a.Bad[0])
	})
	c.DeviceCount = len(c.Devices)
	c.Devices = c.Devices[:min(len(c.Devices), mostChanged)]
}
