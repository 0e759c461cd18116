package cli

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/strictjson"
)

// watch is whose values the view shows: numbers of the first device of each group, then of the
// second.
type watch struct {
	rows   []watched
	recent map[int]*engine.Recent
}

// watched is a field of a stream.
type watched struct {
	stream              int
	device, field, unit string
}

// mostWatched bounds what the view looks at.
const mostWatched = 40

// newWatch chooses what is shown.
func newWatch(v *view) *watch {
	w := &watch{}
	var streams []int
	nth := map[*crowd.Cast]int{}
	var rounds [3][]watched
	for _, d := range v.fleet.Devices {
		n := nth[d.Cast]
		if nth[d.Cast]++; n >= len(rounds) {
			continue
		}
		for _, s := range d.Streams {
			streams = append(streams, s.Index)
			for i := range s.Reading.Fields {
				f := &s.Reading.Fields[i]
				number := f.Spec == nil || f.Spec.Name != "clock"
				switch f.Sample.(type) {
				case float64, int:
				default:
					number = false
				}
				if number && (s.Reading.Only == "" || s.Reading.Only == f.Name) {
					rounds[n] = append(rounds[n], watched{s.Index, d.Name, f.Name, f.Unit})
				}
			}
		}
	}
	for _, r := range rounds {
		w.rows = append(w.rows, r...)
	}
	w.rows = w.rows[:min(len(w.rows), mostWatched)]
	w.recent = v.session.Watch(streams)
	return w
}

// values are the last values of a few devices, a line each, at most so many.
func (m *model) values(most int) (lines []string) {
	if m.watch == nil {
		m.watch = newWatch(m.view)
	}
	long := 0
	var shown []watched
	var all [][]any
	for _, r := range m.watch.rows {
		if len(shown) == most {
			break
		}
		if list := valuesOf(m.watch.recent[r.stream], r.field); len(list) > 0 {
			shown, all = append(shown, r), append(all, list)
			long = max(long, min(30, ansi.StringWidth(r.device+" "+r.field)))
		}
	}
	width := min(32, m.width-long-10-16)
	for i, r := range shown {
		last := all[i][len(all[i])-1]
		text := strings.TrimSpace(string(printableBytes([]byte(fmt.Sprint(last)), false)) + " " + r.unit)
		if x, is := last.(float64); is {
			text = strings.TrimSpace(fmt.Sprintf("%.4g %s", x, r.unit))
		}
		line := ""
		if width >= 8 {
			line = sparkline(all[i], width) + "  "
		}
		name := ansi.Truncate(string(printableBytes([]byte(r.device+" "+r.field), false)), long, "…")
		lines = append(lines, name+strings.Repeat(" ", long-ansi.StringWidth(name)+2)+line+text)
	}
	return lines
}

// valuesOf are the last values of a field: numbers, or what stands in the place of one.
func valuesOf(r *engine.Recent, field string) (list []any) {
	if r == nil {
		return nil
	}
	for _, carried := range r.Messages() {
		v, err := strictjson.Decode(carried)
		if err != nil {
			continue
		}
		x, has := strictjson.At(v, field)
		if !has {
			continue
		}
		if n, is := x.(json.Number); is {
			if f, err := n.Float64(); err == nil {
				x = f
			}
		}
		list = append(list, x)
	}
	return list
}

// sparks are what a sparkline is drawn of.
const sparks = "▁▂▃▄▅▆▇█"

// sparkline draws the last numbers between the least and the greatest of them; of other values
// there is none.
func sparkline(values []any, width int) string {
	values = values[max(0, len(values)-width):]
	low, high := math.Inf(1), math.Inf(-1)
	for _, v := range values {
		if x, is := v.(float64); is {
			low, high = min(low, x), max(high, x)
		}
	}
	steps := []rune(sparks)
	var b strings.Builder
	for _, v := range values {
		x, is := v.(float64)
		switch {
		case !is:
			b.WriteRune(' ')
		case high == low:
			b.WriteRune(steps[3])
		default:
			b.WriteRune(steps[min(len(steps)-1, int((x-low)/(high-low)*float64(len(steps))))])
		}
	}
	return b.String() + strings.Repeat(" ", width-len(values))
}
