// Package chart draws series of values: as text for a terminal, or as a picture
// in a PNG or SVG file.
package chart

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Series is one line: its points in order. A Y that is not a number is a gap.
type Series struct {
	Name string
	X, Y []float64
}

// Chart is what is drawn.
type Chart struct {
	Title  string
	Series []Series
	YLabel string
	XLabel string
	// Time says that X is a time in seconds, to be told in fitting units.
	Time bool
	// Span is the part of X that is shown; zero is that of the points.
	Span [2]float64
	// Names stand at the whole numbers of Y from 0, where the values are words.
	Names []string
	// Steps draws each value until the next, not a slope between them.
	Steps bool
	// Own gives each series a scale of its own.
	Own bool
	// Track says that X and Y are longitude and latitude in degrees: both axes get
	// the same scale in metres.
	Track bool
}

// bounds of the points, with room where all are alike.
func (c *Chart) bounds() (x0, x1, y0, y1 float64, any bool) {
	x0, x1, y0, y1 = math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
	for _, s := range c.Series {
		for i := range s.X {
			if math.IsNaN(s.Y[i]) || math.IsInf(s.Y[i], 0) {
				continue
			}
			any = true
			x0, x1 = math.Min(x0, s.X[i]), math.Max(x1, s.X[i])
			y0, y1 = math.Min(y0, s.Y[i]), math.Max(y1, s.Y[i])
		}
	}
	if !any {
		return 0, 1, 0, 1, false
	}
	if c.Names != nil {
		y0, y1 = 0, float64(len(c.Names)-1)
	}
	if y1-y0 < 1e-12*math.Max(1, math.Abs(y0)) {
		room := math.Max(math.Abs(y0)*0.1, 0.5)
		y0, y1 = y0-room, y1+room
	}
	if c.Span != [2]float64{} {
		x0, x1 = c.Span[0], c.Span[1]
	}
	if x1 == x0 {
		x1 = x0 + 1
	}
	return x0, x1, y0, y1, true
}

// widen makes bounds larger, so that on an area of this width and height a degree
// of latitude is as long as one of longitude is on the ground.
func widen(x0, x1, y0, y1, width, height float64) (float64, float64, float64, float64) {
	shrink := math.Max(0.01, math.Cos((y0+y1)/2*math.Pi/180))
	scale := math.Min(width/((x1-x0)*shrink), height/(y1-y0))
	dx, dy := width/scale/shrink-(x1-x0), height/scale-(y1-y0)
	return x0 - dx/2, x1 + dx/2, y0 - dy/2, y1 + dy/2
}

// dots of a Braille cell (Unicode, block U+2800), by column and row.
var dots = [2][4]rune{{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}}

// Text draws the chart within a width and a height in letters. Several series are
// drawn one below the other, on the same scale unless each has its own.
func (c *Chart) Text(width, height int) string {
	x0, x1, y0, y1, any := c.bounds()
	if !any {
		return "there is nothing to draw: no value is a number\n"
	}
	if c.Track {
		x0, x1, y0, y1 = widen(x0, x1, y0, y1, float64(2*(width-12)), float64(4*height))
	}
	labels := c.yLabels(y0, y1, height)
	left := 0
	for _, s := range c.Series {
		list := labels
		if c.Own {
			_, _, low, high, _ := (&Chart{Series: []Series{s}}).bounds()
			list = c.yLabels(low, high, height)
		}
		for _, l := range list {
			left = max(left, len([]rune(l)))
		}
	}
	inner := max(10, width-left-2)
	var b strings.Builder
	if c.Title != "" {
		b.WriteString(c.Title + "\n")
	}
	for k, s := range c.Series {
		if c.Own {
			_, _, y0, y1, _ = (&Chart{Series: []Series{s}}).bounds()
			labels = c.yLabels(y0, y1, height)
		}
		if len(c.Series) > 1 {
			fmt.Fprintf(&b, "%s %s\n", strings.Repeat(" ", left), s.Name)
		}
		cells := make([][]rune, height)
		for i := range cells {
			cells[i] = make([]rune, inner)
		}
		set := func(px, py int) {
			if px >= 0 && px < 2*inner && py >= 0 && py < 4*height {
				cells[py/4][px/2] |= dots[px%2][py%4]
			}
		}
		xs, ys := float64(2*inner-1)/(x1-x0), float64(4*height-1)/(y1-y0)
		at := func(i int) (int, int) {
			return int(math.Round((s.X[i] - x0) * xs)), 4*height - 1 - int(math.Round((s.Y[i]-y0)*ys))
		}
		for i := range s.X {
			if math.IsNaN(s.Y[i]) {
				continue
			}
			px, py := at(i)
			set(px, py)
			if i == 0 || math.IsNaN(s.Y[i-1]) {
				continue
			}
			qx, qy := at(i - 1)
			if c.Steps {
				for x := qx; x <= px; x++ {
					set(x, qy)
				}
				qx = px
			}
			n := max(abs(px-qx), abs(py-qy))
			for j := 1; j < n; j++ {
				set(qx+(px-qx)*j/n, qy+(py-qy)*j/n)
			}
		}
		for i, row := range cells {
			fmt.Fprintf(&b, "%*s ┤", left, labels[i])
			var line strings.Builder
			for _, r := range row {
				if r == 0 {
					line.WriteByte(' ')
				} else {
					line.WriteRune(0x2800 + r)
				}
			}
			b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
		}
		if k == len(c.Series)-1 {
			b.WriteString(c.xAxis(x0, x1, left, inner))
		}
	}
	return b.String()
}

func abs(x int) int { return max(x, -x) }

// yLabels are what stands left of each row: the ends and the middle.
func (c *Chart) yLabels(y0, y1 float64, height int) []string {
	labels := make([]string, height)
	if c.Names != nil {
		for i, n := range c.Names {
			row := height - 1
			if len(c.Names) > 1 {
				row = (height - 1) - i*(height-1)/(len(c.Names)-1)
			}
			labels[row] = n
		}
		return labels
	}
	for _, row := range []int{0, height / 2, height - 1} {
		labels[row] = number(y1-(y1-y0)*float64(row)/float64(max(1, height-1)), (y1-y0)/float64(max(1, height-1)))
	}
	return labels
}

// number tells x as exactly as a step of it asks for.
func number(x, step float64) string {
	digits := int(math.Ceil(-math.Log10(step)))
	s := strconv.FormatFloat(x, 'f', min(max(digits, 0), 9), 64)
	if strings.Trim(s, "-0.") == "" {
		s = strings.TrimPrefix(s, "-") // no negative zero
	}
	return s
}

func (c *Chart) xAxis(x0, x1 float64, left, inner int) string {
	tell := func(x float64) string {
		if c.Time {
			return shortTime(x)
		}
		return number(x, (x1-x0)/10)
	}
	a, m, z := tell(x0), tell((x0+x1)/2), tell(x1)
	if c.XLabel != "" {
		z += " " + c.XLabel
	}
	line := []rune(strings.Repeat(" ", left+1+inner))
	copy(line[left+1:], []rune(a))
	if at := left + 1 + inner/2 - len(m)/2; at > left+1+len(a) {
		copy(line[at:], []rune(m))
	}
	if at := len(line) - len([]rune(z)); at > left {
		copy(line[at:], []rune(z))
	}
	return fmt.Sprintf("%*s └%s\n%s\n", left, "", strings.Repeat("─", inner), strings.TrimRight(string(line), " "))
}

// shortTime is a time in seconds as people say it.
func shortTime(s float64) string {
	d := time.Duration(s * float64(time.Second)).Round(time.Millisecond)
	switch {
	case d >= 72*time.Hour:
		hours := int(d.Round(time.Hour).Hours())
		if hours%24 == 0 || hours >= 100*24 {
			return fmt.Sprintf("%dd", (hours+12)/24)
		}
		return fmt.Sprintf("%dd%dh", hours/24, hours%24)
	case d >= time.Hour:
		d = d.Round(time.Minute)
	case d >= 10*time.Second:
		d = d.Round(time.Second)
	}
	t := d.String()
	if strings.HasSuffix(t, "m0s") {
		t = strings.TrimSuffix(t, "0s")
	}
	if strings.HasSuffix(t, "h0m") {
		t = strings.TrimSuffix(t, "0m")
	}
	return t
}

// File draws the chart into a file; its ending says how: .png or .svg.
func (c *Chart) File(path string) error {
	p, err := newPicture(path, pictureHeight)
	if err != nil {
		return err
	}
	x0, x1, y0, y1, any := c.bounds()
	if !any {
		return fmt.Errorf("%s: there is nothing to draw: no value is a number", path)
	}
	room := (y1 - y0) * 0.05
	y0, y1 = y0-room, y1+room
	if len(c.Series) > 1 { // for the legend
		y1 += (y1 - y0) * 0.06 * float64(len(c.Series))
	}
	if c.Track {
		x0, x1, y0, y1 = widen(x0, x1, y0, y1, pictureWidth, pictureHeight)
	}
	scale, label := 1.0, c.XLabel
	if c.Time {
		scale, label = timeScale(x1 - x0)
	}
	ys := ticksOf(y0, y1, 8)
	if c.Names != nil {
		ys = nil
		for i, n := range c.Names {
			ys = append(ys, tick{float64(i), n})
		}
	}
	f := newFrame(p, c.Title, label, c.YLabel, x0/scale, x1/scale, y0, y1, ticksOf(x0/scale, x1/scale, 10), ys, true)
	var names []string
	for i, s := range c.Series {
		names = append(names, s.Name)
		var piece []point
		end := func() {
			if len(piece) == 1 { // a value alone
				piece = append(piece, point{piece[0].x + 1, piece[0].y})
			}
			if len(piece) > 0 {
				p.line(colours[i%len(colours)], 1.3, piece...)
			}
			piece = nil
		}
		for k := range s.X {
			if math.IsNaN(s.Y[k]) || math.IsInf(s.Y[k], 0) {
				end()
				continue
			}
			at := point{f.x(s.X[k] / scale), f.y(s.Y[k])}
			if n := len(piece); c.Steps && n > 0 {
				piece = append(piece, point{at.x, piece[n-1].y})
			}
			piece = append(piece, at)
		}
		end()
	}
	if len(names) > 1 {
		f.legend(names, 2)
	}
	return p.save()
}

// timeScale is a unit that fits a span of time in seconds.
func timeScale(span float64) (float64, string) {
	switch {
	case span >= 4*86400:
		return 86400, "days"
	case span >= 4*3600:
		return 3600, "hours"
	case span >= 600:
		return 60, "minutes"
	}
	return 1, "seconds"
}
