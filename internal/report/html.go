package report

import (
	"bytes"
	"cmp"
	_ "embed" // the page's parts
	"encoding/json"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/spread"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

//go:embed page/page.html
var pageText string

//go:embed page/page.css
var pageStyle string

//go:embed page/page.js
var pageScript string

//go:embed page/uplot.js
var plotScript string

//go:embed page/uplot.css
var plotStyle string

// mostOnPage is how many messages, gaps and devices with something wrong the page lists.
const mostOnPage = 1000

// mostBands is how many stretches of events, and times in which a witness was deaf, are drawn.
const mostBands = 2000

// page is what the template of the page is given.
type page struct {
	*Input
	R                        *tally.Result
	State, Head, Line        string // of the whole
	Ended                    string // which requirements were met, or not
	Share                    string // that is proven
	Story                    []string
	Standing                 string
	Remarks                  []remark
	Style, Script            template.CSS
	PlotScript, OwnScript    template.JS
	Data                     template.JS
	Verdicts                 []pageVerdict
	Delays                   []pageDelay
	Findings                 []pageFinding
	FindingsLeft             int
	Holes                    []tally.Hole
	Alerts                   []pageAlert
	Began                    string
	Due, Proven, DeviceCount int
}

type pageVerdict struct {
	Name, Meaning string
	N             int
	Share         float64
	Index         int
}

type pageDelay struct {
	Name                 string
	N                    int
	P50, P90, P99, Worst string
}

type pageFinding struct {
	verdict.Finding
	Index   int // of the verdict
	DueText string
	Sent    []pageField
}

type pageField struct{ Name, Sent, Found, Note, Witness string }

type pageAlert struct {
	tally.AlertCount
	Exact bool
	P99   string
}

// pageData is what the page's script is given.
type pageData struct {
	Verdicts []string   `json:"verdicts"`
	Devices  []string   `json:"devices"`
	Worst    []int      `json:"worst"` // by device: the place of its worst verdict
	Due      []int      `json:"due"`   // by device
	Bad      []int      `json:"bad"`   // by device: not proven
	Begin    int64      `json:"begin"` // of the series, in milliseconds since 1970
	Step     float64    `json:"step"`  // in seconds
	Rates    [][]int    `json:"rates"`
	Names    []string   `json:"names"` // of the rates
	Delays   []pageLine `json:"delays"`
	Bands    []pageBand `json:"bands"`
}

// pageLine are the delays of one proof: over time, in milliseconds, and as a distribution.
type pageLine struct {
	Name  string       `json:"name"`
	P     [][]*float64 `json:"p"` // p50, p90, p99, by step
	UpTo  []float64    `json:"up_to"`
	Count []int        `json:"count"`
}

// pageBand is a stretch of time that has a name: an event, or a time in which a witness was
// deaf.
type pageBand struct {
	Name string  `json:"name"`
	From float64 `json:"from"` // seconds since the series began
	To   float64 `json:"to"`
	Sort string  `json:"sort"`
}

// HTML makes a page of its own: it loads nothing.
func HTML(in *Input) ([]byte, error) {
	r := in.Result
	due, proven := r.Total.Asked(), r.Total[verdict.Proven]
	p := &page{Input: in, R: r, Style: template.CSS(plotStyle + pageStyle), PlotScript: template.JS(plotScript),
		OwnScript: template.JS(pageScript), Due: due, Proven: proven, DeviceCount: r.DeviceCount,
		Began: r.Start.UTC().Format("2 January 2006, 15:04:05 UTC")}
	sum := summed(r)
	p.Head, p.State = sum.head, map[bool]string{true: "doubt", false: "bad"}[sum.doubt]
	switch {
	case due == 0:
		p.Line = "No message was due."
	case proven == due:
		p.Line = fmt.Sprintf("All %s, each once and as it was sent.", plural(due, "message"))
	case sum.doubt:
		p.Line = fmt.Sprintf("%d of %s proven; %d unknown.", proven, plural(due, "message"), due-proven)
	default:
		p.Line = fmt.Sprintf("%d of %s proven; %d are not.", proven, plural(due, "message"), due-proven)
	}
	if sum.good {
		p.State = "good"
	}
	if len(in.Checks) > 0 {
		x := endOf(in, false)
		p.Head = capital(strings.ToLower(x.word))
		p.State = map[proof.State]string{proof.Met: "good", proof.NotMet: "bad", proof.Undecided: "doubt"}[x.state]
		p.Ended = capital(x.what) + "."
	}
	if due > 0 {
		p.Share = tally.ShareText(proven, due)
		if i := strings.Index(p.Share, " "); i > 0 {
			p.Share = p.Share[:i]
		}
	}
	p.Standing, p.Remarks, p.Story = Standing(r), remarks(r), story(r)
	for i, v := range verdict.All() {
		if n := r.Total[v]; n > 0 {
			p.Verdicts = append(p.Verdicts, pageVerdict{v.String(), v.Meaning(), n, 100 * float64(n) / float64(r.Total.Due()),
				i})
		}
	}
	slices.Reverse(p.Verdicts)
	for _, d := range []struct {
		name string
		of   tally.Delays
	}{{"acknowledged", r.Acknowledged}, {"received", r.Received}, {"stored", r.Stored},
		{"lag (from due to sent)", r.Lag}} {
		if d.of.N > 0 {
			p.Delays = append(p.Delays, pageDelay{d.name, d.of.N, verdict.Span(d.of.P50), verdict.Span(d.of.P90),
				verdict.Span(d.of.P99), verdict.Span(d.of.Worst)})
		}
	}
	for i := range r.Findings[:min(mostOnPage, len(r.Findings))] {
		f := pageFinding{Finding: r.Findings[i], Index: int(byName(r.Findings[i].Verdict)),
			DueText: r.Findings[i].Due.UTC().Format("15:04:05.000")}
		for _, t := range f.Testimony {
			for _, d := range t.Differences {
				f.Sent = append(f.Sent, pageField{d.Field, d.Sent, d.Found, d.Note, t.Witness})
			}
		}
		p.Findings = append(p.Findings, f)
	}
	p.FindingsLeft = due - proven - len(p.Findings)
	p.Holes = r.Holes
	for i := range r.Alerts {
		n := &r.Alerts[i]
		p.Alerts = append(p.Alerts, pageAlert{*n, n.Exact(), verdict.Span(n.Delays.P99)})
	}
	data, err := json.Marshal(dataOf(in)) // with <, > and & escaped: it ends no script
	if err != nil {
		return nil, err
	}
	p.Data = template.JS(data)
	t, err := template.New("page").Funcs(template.FuncMap{
		"met": func(c proof.Check) string {
			return map[proof.State]string{proof.Met: "good", proof.NotMet: "bad"}[c.State]
		},
		"plural": plural, "join": strings.Join,
		"clock":   func(t time.Time) string { return t.UTC().Format("15:04:05.000") },
		"ours":    ourCount,
		"percent": func(n, of int) string { return tally.ShareText(n, of) },
	}).Parse(pageText)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = t.Execute(&b, p)
	return b.Bytes(), err
}

// dataOf gathers what the page draws.
func dataOf(in *Input) *pageData {
	r := in.Result
	d := &pageData{Devices: []string{}, Worst: []int{}, Due: []int{}, Bad: []int{}, Rates: [][]int{},
		Delays: []pageLine{}, Bands: []pageBand{}}
	for _, v := range verdict.All() {
		d.Verdicts = append(d.Verdicts, v.String())
	}
	at := map[string]int{}
	for i := range r.Rows {
		row := &r.Rows[i]
		k, known := at[row.Device]
		if !known {
			k = len(d.Devices)
			at[row.Device] = k
			d.Devices, d.Worst, d.Due, d.Bad = append(d.Devices, row.Device), append(d.Worst, int(verdict.Proven)), append(
				d.Due, 0), append(d.Bad, 0)
		}
		for v, n := range row.Counts {
			if d.Due[k] += n; n > 0 && verdict.Verdict(v) != verdict.Proven && verdict.Verdict(v) != verdict.Dropped {
				d.Bad[k] += n
				d.Worst[k] = min(d.Worst[k], v)
			}
		}
	}
	s := r.Series
	if s == nil {
		return d
	}
	s = s.Coarse(60, 20)
	d.Begin, d.Step = s.Begin.UnixMilli(), s.Step.Seconds()
	d.Names = []string{"due", "sent", "acknowledged", "refused"}
	d.Rates = make([][]int, 4)
	for _, x := range s.Steps {
		for i, n := range []int{x.Due, x.Sent, x.Acknowledged, x.Refused} {
			d.Rates[i] = append(d.Rates[i], n)
		}
	}
	for w, name := range s.Names {
		line, any := []int{}, false
		for _, x := range s.Steps {
			line, any = append(line, x.Found[w]), any || x.Found[w] > 0
		}
		if any {
			d.Names, d.Rates = append(d.Names, "found by "+name), append(d.Rates, line)
		}
	}
	for i := len(d.Rates) - 1; i > 0; i-- { // what never was is no line
		if !slices.ContainsFunc(d.Rates[i], func(n int) bool { return n > 0 }) {
			d.Names, d.Rates = slices.Delete(d.Names, i, i+1), slices.Delete(d.Rates, i, i+1)
		}
	}
	for i, name := range []string{"acknowledged", "received", "stored", "lag"} {
		x := pageLine{Name: name, P: make([][]*float64, 3)}
		var all spread.Spread
		for k := range s.Steps {
			of := s.Steps[k].Delays[i]
			all.Merge(of, 1)
			for q, share := range []int{50, 90, 99} {
				var v *float64
				if of.N() > 0 {
					ms := float64(of.At(share).Microseconds()) / 1000
					v = &ms
				}
				x.P[q] = append(x.P[q], v)
			}
		}
		upTo, n := all.Classes()
		for k := range upTo {
			x.UpTo, x.Count = append(x.UpTo, float64(upTo[k].Microseconds())/1000), append(x.Count, n[k])
		}
		if len(n) > 0 {
			d.Delays = append(d.Delays, x)
		}
	}
	band := func(name, sort string, from, to time.Time) {
		d.Bands = append(d.Bands, pageBand{name, from.Sub(s.Begin).Seconds(), to.Sub(s.Begin).Seconds(), sort})
	}
	for _, e := range r.Actions {
		for _, x := range e.Stretches {
			band(e.Event+": "+strings.TrimSpace(e.Kind+" "+e.Name), "event", x.From, x.To)
		}
	}
	for _, g := range r.Deaf {
		to := g.To
		if to.IsZero() {
			to = s.Begin.Add(time.Duration(len(s.Steps)) * s.Step)
		}
		band(g.Witness+" could not listen: "+g.Why, "deaf", g.From, to)
	}
	slices.SortStableFunc(d.Bands, func(a, b pageBand) int { return cmp.Compare(a.From, b.From) })
	d.Bands = d.Bands[:min(len(d.Bands), mostBands)]
	return d
}
