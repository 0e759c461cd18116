package chart

import (
	"fmt"
	"image/color"
	"math"
	"path/filepath"
	"strings"

	"github.com/mattn/go-runewidth"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
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

// File draws the rows into a picture; its ending says how: .png or .svg.
func (b *Bars) File(path string) error {
	switch ext := strings.ToLower(filepath.Ext(path)); ext {
	case ".png", ".svg":
	default:
		return fmt.Errorf("%s: a picture is a .png or an .svg, not %q", path, ext)
	}
	p := plot.New()
	p.Title.Text, p.Title.Padding = b.Title, vg.Points(8)
	scale, unit := timeScale(b.Span)
	p.X.Label.Text, p.X.Min, p.X.Max = unit, 0, b.Span/scale
	p.X.Tick.Marker = ticks{}
	n := len(b.Rows)
	p.Y.Min, p.Y.Max = -0.7, float64(n)-0.3
	grid := plotter.NewGrid()
	grid.Horizontal.Color = nil
	p.Add(grid)
	var names []plot.Tick
	every := (n + 39) / 40 // so many names have room
	for i, r := range b.Rows {
		y := float64(n - 1 - i)
		if i%max(1, every) == 0 {
			names = append(names, plot.Tick{Value: y, Label: r.Name})
		}
		for _, x := range r.Bars {
			p.Add(&block{from: x.From / scale, to: min(x.To, b.Span) / scale, y: y, color: colours[x.Sort%len(colours)]})
		}
	}
	p.Y.Tick.Marker, p.Y.Tick.Length = plot.ConstantTicks(names), 0
	for i, s := range b.Sorts {
		p.Legend.Add(s, &block{color: colours[i%len(colours)]})
	}
	p.Legend.Top, p.Legend.YOffs = true, vg.Points(0)
	if len(b.Sorts) > 0 { // above the rows
		p.Y.Max += float64(n) * 0.055 * float64(len(b.Sorts))
	}
	return save(p, path)
}

// block is a filled bar.
type block struct {
	from, to, y float64
	color       color.Color
}

// Plot implements plot.Plotter.
func (b *block) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	x0, x1 := x(b.from), max(x(b.to), x(b.from)+vg.Points(2))
	y0, y1 := y(b.y-0.38), y(b.y+0.38)
	c.FillPolygon(b.color, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
}

// Thumbnail implements plot.Thumbnailer.
func (b *block) Thumbnail(c *draw.Canvas) {
	r := c.Rectangle
	c.FillPolygon(b.color, []vg.Point{r.Min, {X: r.Max.X, Y: r.Min.Y}, r.Max, {X: r.Min.X, Y: r.Max.Y}})
}
