package chart

import (
	"bufio"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"path/filepath"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"runcrowd/internal/wholefile"
)

// The size of a picture, in points of which a PNG has pixels pixels each.
const (
	pictureWidth  = 720
	pictureHeight = 400
	pixels        = 2
)

// point is a place in a picture, from its upper left corner.
type point struct{ x, y float64 }

// anchor is which part of a text stands at its place.
type anchor uint8

const (
	atStart anchor = iota
	atMiddle
	atEnd
)

var (
	ink  = color.RGBA{0x22, 0x22, 0x22, 0xff}
	grid = color.RGBA{0xdd, 0xdd, 0xdd, 0xff}
)

// picture is what is drawn on: pixels, or the text of an SVG.
type picture struct {
	path  string
	high  int         // points
	img   *image.RGBA // nil: it is an SVG
	svg   strings.Builder
	faces map[float64]font.Face
}

// newPicture begins a picture, so many points high; the ending of its path says how: .png or .svg.
func newPicture(path string, high int) (*picture, error) {
	p := &picture{path: path, high: high, faces: map[float64]font.Face{}}
	switch ext := strings.ToLower(filepath.Ext(path)); ext {
	case ".png":
		p.img = image.NewRGBA(image.Rect(0, 0, pictureWidth*pixels, high*pixels))
		draw.Draw(p.img, p.img.Bounds(), image.White, image.Point{}, draw.Src)
	case ".svg":
		fmt.Fprintf(&p.svg, "<?xml version=\"1.0\"?>\n<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%d\" height=\"%d\" "+
			"viewBox=\"0 0 %d %d\" font-family=\"sans-serif\">\n<rect width=\"100%%\" height=\"100%%\" fill=\"#fff\"/>\n",
			pictureWidth, high, pictureWidth, high)
	default:
		return nil, fmt.Errorf("%s: a picture is a .png or an .svg, not %q", path, ext)
	}
	return p, nil
}

// save writes the picture.
func (p *picture) save() error {
	f, err := wholefile.Create(p.path)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	if p.img != nil {
		err = png.Encode(w, p.img)
	} else {
		_, err = w.WriteString(p.svg.String() + "</svg>\n")
	}
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		f.Drop()
	} else {
		err = f.Keep()
	}
	if err != nil {
		return fmt.Errorf("%s could not be written: %w", p.path, wholefile.Cause(err))
	}
	return nil
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func coordinates(list []point) string {
	var b strings.Builder
	for _, q := range list {
		fmt.Fprintf(&b, "%.2f,%.2f ", q.x, q.y)
	}
	return strings.TrimSpace(b.String())
}

// fill fills a polygon.
func (p *picture) fill(c color.RGBA, list ...point) {
	if p.img == nil {
		fmt.Fprintf(&p.svg, "<polygon points=\"%s\" fill=\"%s\"/>\n", coordinates(list), hex(c))
		return
	}
	r := p.rasterizer()
	around(r, list)
	r.Draw(p.img, p.img.Bounds(), image.NewUniform(c), image.Point{})
}

// line draws a line through points.
func (p *picture) line(c color.RGBA, width float64, list ...point) {
	if p.img == nil {
		fmt.Fprintf(&p.svg, "<polyline points=\"%s\" fill=\"none\" stroke=\"%s\" stroke-width=\"%g\" "+
			"stroke-linejoin=\"round\"/>\n", coordinates(list), hex(c), width)
		return
	}
	r, h := p.rasterizer(), width/2
	for i, a := range list {
		if i > 0 {
			b := list[i-1]
			d := math.Hypot(a.x-b.x, a.y-b.y)
			if d == 0 {
				continue
			}
			nx, ny := (a.y-b.y)/d*h, (b.x-a.x)/d*h
			around(r, []point{{b.x + nx, b.y + ny}, {b.x - nx, b.y - ny}, {a.x - nx, a.y - ny}, {a.x + nx, a.y + ny}})
		}
		if i > 0 && i < len(list)-1 { // the joint
			var circle []point
			for k := range 8 {
				s, c := math.Sincos(-float64(k) * math.Pi / 4)
				circle = append(circle, point{a.x + c*h, a.y + s*h})
			}
			around(r, circle)
		}
	}
	r.Draw(p.img, p.img.Bounds(), image.NewUniform(c), image.Point{})
}

func (p *picture) rasterizer() *vector.Rasterizer {
	return vector.NewRasterizer(pictureWidth*pixels, p.high*pixels)
}

// around adds a closed path, always in the same direction: where two overlap, the place is
// covered once.
func around(r *vector.Rasterizer, list []point) {
	area := 0.0
	for i, a := range list {
		b := list[(i+1)%len(list)]
		area += a.x*b.y - b.x*a.y
	}
	for i := range list {
		q := list[i]
		if area < 0 {
			q = list[len(list)-1-i]
		}
		if x, y := float32(q.x*pixels), float32(q.y*pixels); i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
}

var regular = func() *opentype.Font {
	f, err := opentype.Parse(goregular.TTF)
	if err != nil {
		panic(err) // it is part of the program
	}
	return f
}()

func (p *picture) face(size float64) font.Face {
	f := p.faces[size]
	if f == nil {
		f, _ = opentype.NewFace(regular, &opentype.FaceOptions{Size: size * pixels, DPI: 72, Hinting: font.HintingFull})
		p.faces[size] = f
	}
	return f
}

// width is how wide a text is, in points.
func (p *picture) width(s string, size float64) float64 {
	return float64(font.MeasureString(p.face(size), s)) / 64 / pixels
}

// text writes a text whose base line goes through a point; upright turns it to the left.
func (p *picture) text(at point, s string, size float64, a anchor, upright bool) {
	if s == "" {
		return
	}
	if p.img == nil {
		turn := ""
		if upright {
			turn = fmt.Sprintf(" transform=\"rotate(-90 %.2f %.2f)\"", at.x, at.y)
		}
		fmt.Fprintf(&p.svg, "<text x=\"%.2f\" y=\"%.2f\" font-size=\"%g\" text-anchor=\"%s\" fill=\"%s\"%s>", at.x, at.y,
			size, [...]string{"start", "middle", "end"}[a], hex(ink), turn)
		xml.EscapeText(&p.svg, []byte(s))
		p.svg.WriteString("</text>\n")
		return
	}
	shift := p.width(s, size) * [...]float64{0, 0.5, 1}[a]
	if !upright {
		d := font.Drawer{Dst: p.img, Src: image.NewUniform(ink), Face: p.face(size),
			Dot: fixed.P(int((at.x-shift)*pixels), int(at.y*pixels))}
		d.DrawString(s)
		return
	}
	wide, high := int(p.width(s, size)*pixels)+2, int(size*2*pixels)
	side := image.NewAlpha(image.Rect(0, 0, wide, high))
	d := font.Drawer{Dst: side, Src: image.Opaque, Face: p.face(size), Dot: fixed.P(0, high*3/4)}
	d.DrawString(s)
	x0, y0 := int(at.x*pixels)-high*3/4, int((at.y+shift)*pixels)
	for x := range wide {
		for y := range high {
			if v := side.AlphaAt(x, y).A; v > 0 {
				to := image.Rect(x0+y, y0-x, x0+y+1, y0-x+1)
				draw.DrawMask(p.img, to, image.NewUniform(ink), image.Point{}, image.NewUniform(color.Alpha{v}), image.Point{},
					draw.Over)
			}
		}
	}
}

// tick is a mark at an axis.
type tick struct {
	at    float64
	label string
}

// ticksOf are marks at round numbers, about so many, with as many digits as tell them apart.
func ticksOf(low, high float64, about int) (list []tick) {
	step := math.Pow(10, math.Floor(math.Log10((high-low)/float64(about))))
	for _, f := range []float64{1, 2, 5, 10} {
		if (high-low)/(step*f) <= float64(about) {
			step *= f
			break
		}
	}
	for i := math.Ceil(low/step - 1e-9); i*step <= high+step*1e-9; i++ {
		list = append(list, tick{i * step, number(i*step, step)})
	}
	return list
}

// frame is the part of a picture in which values are drawn, with its axes.
type frame struct {
	*picture
	left, top, right, bottom float64
	x0, x1, y0, y1           float64
}

// newFrame draws the title, the axes and what stands at them.
func newFrame(p *picture, title, xLabel, yLabel string, x0, x1, y0, y1 float64, xs, ys []tick, across bool) *frame {
	f := &frame{picture: p, left: 20, top: 38, right: pictureWidth - 22, bottom: float64(p.high) - 46, x0: x0, x1: x1,
		y0: y0, y1: y1}
	widest := 0.0
	for _, t := range ys {
		widest = max(widest, p.width(t.label, 10))
	}
	f.left += min(widest, 200) + 6
	if yLabel != "" {
		f.left += 16
		p.text(point{22, (f.top + f.bottom) / 2}, yLabel, 11, atMiddle, true)
	}
	p.text(point{pictureWidth / 2, 22}, title, 13, atMiddle, false)
	p.text(point{(f.left + f.right) / 2, float64(p.high) - 12}, xLabel, 11, atMiddle, false)
	for _, t := range xs {
		x := f.x(t.at)
		p.line(grid, 0.7, point{x, f.top}, point{x, f.bottom})
		p.text(point{x, f.bottom + 14}, t.label, 10, atMiddle, false)
	}
	for _, t := range ys {
		y := f.y(t.at)
		if across {
			p.line(grid, 0.7, point{f.left, y}, point{f.right, y})
		}
		p.text(point{f.left - 6, y + 3.5}, t.label, 10, atEnd, false)
	}
	p.line(ink, 0.8, point{f.left, f.top}, point{f.left, f.bottom}, point{f.right, f.bottom})
	return f
}

func (f *frame) x(v float64) float64 { return f.left + (v-f.x0)/(f.x1-f.x0)*(f.right-f.left) }
func (f *frame) y(v float64) float64 { return f.bottom - (v-f.y0)/(f.y1-f.y0)*(f.bottom-f.top) }

// legendRow is how high a row of the legend is.
const legendRow = 15

// legend names what has which colour, in the upper right corner.
func (f *frame) legend(names []string, wide float64) {
	for i, s := range names {
		y := f.top + 10 + legendRow*float64(i)
		c := colours[i%len(colours)]
		f.fill(c, point{f.right - 20, y - wide/2}, point{f.right, y - wide/2}, point{f.right, y + wide/2},
			point{f.right - 20, y + wide/2})
		f.text(point{f.right - 25, y + 3.5}, s, 10, atEnd, false)
	}
}
