package chart

import (
	"fmt"
	"math"
	"strings"

	"github.com/mattn/go-runewidth"
)

// Bars are what happens in rows over a time, in seconds.
type Bars struct {
	Title string
	Span  float64
	Rows  []BarRow
	// Sorts are what bars may be, for the legend.
	Sorts []string
}

// BarRow is one row of bars.
type BarRow struct {
	Name string
	Note string // behind it, in text
	Bars []Bar
}

// Bar is one bar. To may lie beyond the span; To equal to From is a moment.
type Bar struct {
	From, To float64
	Sort     int // its place among Sorts
}

// shades are how many bars of a row share a place, from few to many.
var shades = []rune{' ', '░', '▒', '▓', '█'}

// Text draws the rows, each so many columns wide in all.
func (b *Bars) Text(width int) string {
	var out strings.Builder
	left, note := 0, 0
	for _, r := range b.Rows {
		left = max(left, runewidth.StringWidth(r.Name))
		note = max(note, runewidth.StringWidth(r.Note))
	}
	inner := max(20, width-left-note-6)
	for _, r := range b.Rows {
		n := make([]int, inner)
		most := 0
		for _, x := range r.Bars {
			from := int(x.From / b.Span * float64(inner))
			to := int(math.Ceil(min(x.To, b.Span) / b.Span * float64(inner)))
			for i := max(0, min(from, inner-1)); i < min(max(to, from+1), inner); i++ {
				n[i]++
				most = max(most, n[i])
			}
		}
		fmt.Fprintf(&out, "  %s%s ▕", r.Name, strings.Repeat(" ", left-runewidth.StringWidth(r.Name)))
		for _, k := range n {
			shade := 0
			if k > 0 {
				shade = max(1, (k*4+most-1)/most)
			}
			out.WriteRune(shades[shade])
		}
		fmt.Fprintf(&out, "▏ %s\n", r.Note)
	}
	out.WriteString((&Chart{Time: true}).xAxis(0, b.Span, left+2, inner))
	return out.String()
}

// mostNamed is how many rows have room for their names.
const mostNamed = 60

// File draws the rows into a picture; its ending says how: .png or .svg.
func (b *Bars) File(path string) error {
	n := len(b.Rows)
	row := min(24, max(13, 300/float64(max(n, 1)))) // points
	if n > mostNamed {
		row = mostNamed * 13 / float64(n)
	}
	legend := legendRow*float64(len(b.Sorts)) + 10 // above the rows
	p, err := newPicture(path, int(row*float64(n)+legend)+100)
	if err != nil {
		return err
	}
	scale, unit := timeScale(b.Span)
	low, high := -0.7, float64(n)-0.3+legend/row
	var names []tick
	every := (n + mostNamed - 1) / mostNamed
	for i, r := range b.Rows {
		if i%max(1, every) == 0 {
			names = append(names, tick{float64(n - 1 - i), r.Name})
		}
	}
	f := newFrame(p, b.Title, unit, "", 0, b.Span/scale, low, high, ticksOf(0, b.Span/scale, 10), names, false)
	for i, r := range b.Rows {
		y := float64(n - 1 - i)
		for _, x := range r.Bars {
			x0 := f.x(x.From / scale)
			x1 := max(f.x(min(x.To, b.Span)/scale), x0+2)
			y0, y1 := f.y(y-0.38), f.y(y+0.38)
			p.fill(colours[x.Sort%len(colours)], point{x0, y0}, point{x1, y0}, point{x1, y1}, point{x0, y1})
		}
	}
	f.legend(b.Sorts, 9)
	return p.save()
}
