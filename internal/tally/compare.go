package tally

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/spread"
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
	Blocks [2]int  `json:"blocks"` // of which samples were drawn
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

// MeasureChange is a figure of both runs, with the interval in which 95 of 100 differences lie
// that were drawn of blocks of both (bootstrap by percentiles).
type MeasureChange struct {
	Name  string     `json:"name"`
	Value [2]float64 `json:"value"`
	// Low and High bound by how much the second is above the first.
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Trend Trend   `json:"trend"`
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

// draws is how many samples are drawn, and leastBlocks of how many blocks at least.
const (
	draws       = 500
	leastBlocks = 8
	mostBlocks  = 60
)

// Compare compares two runs. Both were judged with Series and Rows.
func Compare(a, b *Result, checks [2][]proof.Check, how Comparing) *Comparison {
	c := &Comparison{Proven: Same}
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
	// As whole numbers: no rounding calls a change what is none.
	x, y := a.Total[verdict.Proven]*b.Total.Asked(), b.Total[verdict.Proven]*a.Total.Asked()
	switch {
	case y < x || b.Total.Asked() == 0 && a.Total.Asked() > 0:
		c.Proven = Worse
	case y > x:
		c.Proven = Better
	}
	c.requirements(checks)
	var blocks [2][]Step
	var step [2]time.Duration
	for i, r := range both {
		blocks[i], step[i] = blocksOf(r.Series)
		c.Blocks[i] = len(blocks[i])
	}
	rng := rand.New(rand.NewPCG(1907, 1))
	for p, name := range []string{"acknowledged", "received", "stored", "lag"} {
		for _, share := range []struct {
			name string
			of   int
		}{{"p50", 50}, {"p90", 90}, {"p99", 99}} {
			at := func(s spread.Spread) float64 { return float64(s.At(share.of).Microseconds()) / 1000 }
			m, any := measure(rng, blocks, func(list []*Step) (float64, bool) {
				var all spread.Spread
				for _, s := range list {
					all.Merge(s.Delays[p], 1)
				}
				return at(all), all.N() > 0
			}, func(x float64) float64 { return max(how.Margin*x, float64(how.Least.Microseconds())/1000) }, true)
			if any {
				m.Name = name + " " + share.name
				c.Delays = append(c.Delays, m)
			}
		}
	}
	for _, r := range []struct {
		name string
		of   func(*Step) int
	}{{"sent", func(s *Step) int { return s.Sent }}, {"acknowledged", func(s *Step) int { return s.Acknowledged }}} {
		// Each run has steps of its own length.
		m, any := measureOf(rng, blocks, func(i int, list []*Step) (float64, bool) {
			n := 0
			for _, s := range list {
				n += r.of(s)
			}
			return float64(n) / (float64(len(list)) * step[i].Seconds()), n > 0
		}, func(x float64) float64 { return how.Margin * x }, false)
		if any {
			m.Name = r.name
			c.Rates = append(c.Rates, m)
		}
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
		case q.State[0] == proof.Met || q.State[1] == proof.NotMet:
			q.Trend = Worse
		default:
			q.Trend = Better
		}
	}
}

// blocksOf are the stretches of a run of which samples are drawn: what is near in time is
// alike, so that single messages would seem to tell more than they do. The first and the last
// are left out: they are not whole.
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

func measure(rng *rand.Rand, blocks [2][]Step, of func([]*Step) (float64, bool), margin func(float64) float64, less bool) (MeasureChange, bool) {
	return measureOf(rng, blocks, func(_ int, list []*Step) (float64, bool) { return of(list) }, margin, less)
}

// measureOf compares a figure of the blocks of both runs. Less: the lower the better.
func measureOf(rng *rand.Rand, blocks [2][]Step, of func(run int, list []*Step) (float64, bool), margin func(float64) float64, less bool) (m MeasureChange, any bool) {
	m.Trend = Same
	var list [2][]*Step
	for i := range blocks {
		for k := range blocks[i] {
			x := &blocks[i][k]
			if _, tells := of(i, []*Step{x}); tells || !less { // a time without messages is a rate, and no delay
				list[i] = append(list[i], x)
			}
		}
		v, has := of(i, list[i])
		if m.Value[i] = v; !has {
			return m, false
		}
	}
	if min(len(list[0]), len(list[1])) < leastBlocks {
		m.Trend = Unclear
		return m, true
	}
	var diffs []float64
	for range draws {
		var v [2]float64
		for i := range blocks {
			sample := make([]*Step, len(list[i]))
			for k := range sample {
				sample[k] = list[i][rng.IntN(len(list[i]))]
			}
			v[i], _ = of(i, sample)
		}
		diffs = append(diffs, v[1]-v[0])
	}
	slices.Sort(diffs)
	m.Low, m.High = diffs[draws*25/1000], diffs[draws-1-draws*25/1000]
	least := margin(m.Value[0])
	switch {
	case m.Low > 0 && m.Value[1]-m.Value[0] > least:
		m.Trend = Worse
	case m.High < 0 && m.Value[0]-m.Value[1] > least:
		m.Trend = Better
	}
	if !less {
		m.Trend = map[Trend]Trend{Worse: Better, Better: Worse, Same: Same}[m.Trend]
	}
	return m, true
}

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
	slices.SortStableFunc(c.Devices, func(a, b DeviceChange) int { return cmp.Compare(b.Bad[1]-b.Bad[0], a.Bad[1]-a.Bad[0]) })
	c.DeviceCount = len(c.Devices)
	c.Devices = c.Devices[:min(len(c.Devices), mostChanged)]
}
