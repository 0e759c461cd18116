package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/chart"
	"runcrowd/internal/check"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/quantity"
	"runcrowd/internal/timeline"
)

// moment is one time of an event, with all whom it befalls then.
type moment struct {
	event   int
	from    time.Duration
	lasts   [2]time.Duration
	devices []string
}

// moments are the times of a story, in their order.
func moments(f *fleet.Fleet, story []timeline.Happening) []moment {
	var list []moment
	for _, h := range story {
		lasts := time.Duration(0)
		if h.To != timeline.Never {
			lasts = h.To - h.From
		}
		name := f.Devices[h.Device].Name
		if n := len(list) - 1; n >= 0 && list[n].event == h.Event && list[n].from == h.From {
			m := &list[n]
			m.devices = append(m.devices, name)
			m.lasts = [2]time.Duration{min(m.lasts[0], lasts), max(m.lasts[1], lasts)}
			continue
		}
		list = append(list, moment{event: h.Event, from: h.From, lasts: [2]time.Duration{lasts, lasts},
			devices: []string{name}})
	}
	return list
}

// forHow is how long a time of an event lasts, in words.
func (m *moment) forHow(e *crowd.Event) string {
	a, b := rounded(m.lasts[0]), rounded(m.lasts[1])
	switch {
	case b == 0 && momentary(e):
		return "once"
	case b == 0:
		return "for good"
	case a != b:
		return quantity.FormatDuration(a) + " to " + quantity.FormatDuration(b)
	}
	return quantity.FormatDuration(a)
}

// rounded is a time as it is read best.
func rounded(d time.Duration) time.Duration {
	if d >= 10*time.Second {
		return d.Round(time.Second)
	}
	return d.Round(10 * time.Millisecond)
}

// momentary tells whether all that an event does is over when it is done.
func momentary(e *crowd.Event) bool {
	for _, list := range e.Do {
		for i := range list {
			if !list[i].Kind.Momentary() && !list[i].Kind.Next() {
				return false
			}
		}
	}
	return true
}

// mostMoments is how many times of events are listed.
const mostMoments = 40

// timeline draws what happens in the first round, without a platform.
func (e *env) timeline(f *fleet.Fleet, p *previewing) error {
	plan := &f.Crowd.Plan
	if len(plan.Events) == 0 {
		return errors.New("the plan has no events; see events in docs/crowd-file.md")
	}
	story, span, err := check.Story(f)
	if err != nil {
		return err
	}
	list := moments(f, story)
	if p.format == "json" {
		return e.timelineJSON(f, list, span)
	}
	title := fmt.Sprintf("%s: what happens in a round of %s", f.Crowd.Name,
		quantity.FormatDuration(span.Round(time.Millisecond)))
	if lasts := plan.Lasts(time.Now()); span < lasts {
		title = fmt.Sprintf("%s: what happens in the first %s of a round of %s; the rest is not shown", f.Crowd.Name,
			quantity.FormatDuration(span.Round(time.Second)), quantity.FormatDuration(lasts.Round(time.Millisecond)))
	}
	if p.out != "" {
		if err := deviceBars(f, story, span, title).File(p.out); err != nil {
			return err
		}
		fmt.Fprintf(e.stdout, "Wrote %s.\n", p.out)
		return nil
	}
	width := 100
	if is, w := terminal(e.stdout); is && w > 40 {
		width = min(w-1, 140)
	}
	fmt.Fprintf(e.stdout, "%s\n\n%s\n", title, eventBars(f, story, span).Text(width))
	wide := [3]int{}
	for i, m := range list {
		if i == mostMoments {
			break
		}
		ev := plan.Events[m.event]
		for k, s := range []string{quantity.FormatDuration(rounded(m.from)), ev.Title() + ": " + check.Actions(ev),
			m.forHow(ev)} {
			wide[k] = max(wide[k], len(s))
		}
	}
	for i, m := range list {
		if i == mostMoments {
			fmt.Fprintf(e.stdout, "  … and %d times more; --format json lists all\n", len(list)-mostMoments)
			break
		}
		ev := plan.Events[m.event]
		what := ev.Title()
		if do := check.Actions(ev); do != what {
			what += ": " + do
		}
		fmt.Fprintf(e.stdout, "  %*s  %-*s  %-*s  %s%s\n", wide[0], quantity.FormatDuration(rounded(m.from)), wide[1], what,
			wide[2], m.forHow(ev), some(m.devices, 4), expects(ev))
	}
	return nil
}

func expects(ev *crowd.Event) string {
	if ev.Expect == crowd.ExpectProven {
		return ""
	}
	return " (expected: " + ev.Expect.String() + ")"
}

// some names the first of several devices.
func some(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%d devices: %s and %d more", len(names), strings.Join(names[:most-1], ", "), len(names)-most+1)
}

// eventBars has a row for each event.
func eventBars(f *fleet.Fleet, story []timeline.Happening, span time.Duration) *chart.Bars {
	b := &chart.Bars{Span: span.Seconds()}
	devices := make([]map[int]bool, len(f.Crowd.Plan.Events))
	for i, ev := range f.Crowd.Plan.Events {
		devices[i] = map[int]bool{}
		b.Rows = append(b.Rows, chart.BarRow{Name: ev.Title()})
	}
	for _, h := range story {
		devices[h.Event][h.Device] = true
		b.Rows[h.Event].Bars = append(b.Rows[h.Event].Bars, barOf(f, h, span))
	}
	for i := range b.Rows {
		b.Rows[i].Note = fmt.Sprintf("%d devices", len(devices[i]))
		if len(devices[i]) == 1 {
			b.Rows[i].Note = "1 device"
		}
	}
	return b
}

func barOf(f *fleet.Fleet, h timeline.Happening, span time.Duration) chart.Bar {
	x := chart.Bar{From: h.From.Seconds(), To: h.From.Seconds(), Sort: h.Event}
	switch {
	case h.To != timeline.Never:
		x.To = h.To.Seconds()
	case !momentary(f.Crowd.Plan.Events[h.Event]):
		x.To = span.Seconds()
	}
	return x
}

// mostRows is how many devices a picture of the timeline shows.
const mostRows = 200

// deviceBars has a row for each device that something happens to.
func deviceBars(f *fleet.Fleet, story []timeline.Happening, span time.Duration, title string) *chart.Bars {
	b := &chart.Bars{Span: span.Seconds(), Title: title}
	for _, ev := range f.Crowd.Plan.Events {
		b.Sorts = append(b.Sorts, ev.Title())
	}
	row := map[int]int{}
	order := slices.Clone(story)
	slices.SortStableFunc(order, func(x, y timeline.Happening) int { return cmp.Compare(x.Device, y.Device) })
	for _, h := range order {
		i, known := row[h.Device]
		if !known {
			i = len(b.Rows)
			row[h.Device] = i
			b.Rows = append(b.Rows, chart.BarRow{Name: f.Devices[h.Device].Name})
		}
		b.Rows[i].Bars = append(b.Rows[i].Bars, barOf(f, h, span))
	}
	if len(b.Rows) > mostRows {
		b.Title += fmt.Sprintf(" (to the first %d of %d devices)", mostRows, len(b.Rows))
		b.Rows = b.Rows[:mostRows]
	}
	return b
}

func (e *env) timelineJSON(f *fleet.Fleet, list []moment, span time.Duration) error {
	type told struct {
		Event   string   `json:"event"`
		Do      string   `json:"do"`
		At      float64  `json:"at_seconds"`
		For     float64  `json:"for_seconds,omitempty"`
		Devices []string `json:"devices"`
		Expect  string   `json:"expect,omitempty"`
	}
	out := []told{}
	for _, m := range list {
		ev := f.Crowd.Plan.Events[m.event]
		t := told{Event: ev.Title(), Do: check.Actions(ev), At: m.from.Seconds(), For: m.lasts[1].Seconds(),
			Devices: m.devices}
		if ev.Expect != crowd.ExpectProven {
			t.Expect = ev.Expect.String()
		}
		out = append(out, t)
	}
	return e.json(struct {
		Round   float64 `json:"round_seconds"`
		Shown   float64 `json:"shown_seconds"` // of it
		Moments []told  `json:"moments"`
	}{f.Crowd.Plan.Lasts(time.Now()).Seconds(), span.Seconds(), out})
}
