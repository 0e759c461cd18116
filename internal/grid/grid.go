// Package grid is tables: what stands in them, apart from how they are written.
package grid

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Column is a column: its head, and whether it is of numbers, which stand on the right.
type Column struct {
	Head  string
	Right bool
}

// Grid is a table. All rows have as many cells as there are columns, or fewer.
type Grid struct {
	Columns []Column
	Rows    [][]string
	Foot    []string // a last row that sums up; nil: none
}

// New makes an empty table of columns. A head that begins with ">" is one of numbers.
func New(heads ...string) *Grid {
	g := &Grid{}
	for _, h := range heads {
		g.Column(h)
	}
	return g
}

// Column adds a column.
func (g *Grid) Column(head string) {
	name, right := strings.CutPrefix(head, ">")
	g.Columns = append(g.Columns, Column{name, right})
}

// Row adds a row.
func (g *Grid) Row(cells ...any) { g.Rows = append(g.Rows, texts(cells)) }

// Sum sets the last row, which sums up.
func (g *Grid) Sum(cells ...any) { g.Foot = texts(cells) }

func texts(cells []any) []string {
	list := make([]string, len(cells))
	for i, c := range cells {
		list[i] = fmt.Sprint(c)
	}
	return list
}

// Plain is the table as columns of text. Each line ends in a newline, and none in a space.
func (g *Grid) Plain(indent string) string { return g.render(indent, false) }

// Ruled is Plain with a line below the head, and one above the foot.
func (g *Grid) Ruled(indent string) string { return g.render(indent, true) }

// Fit is Plain, or with a rule Ruled, at most so many columns wide (0: as wide as it is): columns are
// left out as far as needed, those named first; where that is not enough, the table stands on its
// side. Left are the heads of those that were left out.
func (g *Grid) Fit(indent string, ruled bool, width int, spare ...string) (text string, left []string) {
	x := &Grid{slices.Clone(g.Columns), make([][]string, len(g.Rows)), slices.Clone(g.Foot)}
	for i := range g.Rows {
		x.Rows[i] = slices.Clone(g.Rows[i])
	}
	for _, name := range append([]string{""}, spare...) {
		if name != "" {
			at := slices.IndexFunc(x.Columns, func(c Column) bool { return c.Head == name })
			if at < 0 {
				continue
			}
			x.drop(at)
			left = append(left, name)
		}
		if text = x.render(indent, ruled); width <= 0 || widest(text) <= width {
			return text, left
		}
	}
	return g.side(indent), nil
}

func (g *Grid) drop(at int) {
	cut := func(row []string) []string {
		if at < len(row) {
			return slices.Delete(row, at, at+1)
		}
		return row
	}
	g.Columns = slices.Delete(g.Columns, at, at+1)
	for i := range g.Rows {
		g.Rows[i] = cut(g.Rows[i])
	}
	g.Foot = cut(g.Foot)
}

func widest(s string) (n int) {
	for line := range strings.Lines(s) {
		n = max(n, text.StringWidthWithoutEscSequences(strings.TrimRight(line, "\n")))
	}
	return n
}

// side is the table on its side: a row is a paragraph, a cell a line.
func (g *Grid) side(indent string) string {
	wide := 0
	for _, c := range g.Columns[min(1, len(g.Columns)):] {
		wide = max(wide, len([]rune(c.Head)))
	}
	var b strings.Builder
	rows := g.Rows
	if g.Foot != nil {
		rows = append(slices.Clone(rows), g.Foot)
	}
	for i, row := range rows {
		if i > 0 {
			b.WriteByte('\n')
		}
		for k, cell := range row {
			switch {
			case k == 0:
				fmt.Fprintf(&b, "%s%s\n", indent, cell)
			case cell != "":
				fmt.Fprintf(&b, "%s  %-*s  %s\n", indent, wide, g.Columns[k].Head, cell)
			}
		}
	}
	return b.String()
}

func (g *Grid) render(indent string, ruled bool) string {
	t := g.writer()
	s := table.StyleDefault
	s.Options = table.OptionsNoBordersAndSeparators
	if ruled {
		s.Options = table.Options{SeparateHeader: true, SeparateFooter: true}
	}
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "  "
	s.Box.MiddleHorizontal, s.Box.MiddleSeparator = "-", "-"
	s.Format = table.FormatOptions{Header: text.FormatDefault, Footer: text.FormatDefault, Row: text.FormatDefault}
	t.SetStyle(s)
	var b strings.Builder
	for line := range strings.SplitSeq(t.Render(), "\n") {
		b.WriteString(strings.TrimRight(indent+line, " ") + "\n")
	}
	return b.String()
}

// Markdown is the table in Markdown; escape keeps a cell from being read as such.
func (g *Grid) Markdown(escape func(string) string) string {
	var b strings.Builder
	line := func(cells []string) {
		for i := range g.Columns {
			cell := ""
			if i < len(cells) {
				cell = escape(cells[i])
			}
			b.WriteString("| " + cell + " ")
		}
		b.WriteString("|\n")
	}
	var heads []string
	rule := ""
	for _, c := range g.Columns {
		heads = append(heads, c.Head)
		if rule += "|---"; c.Right {
			rule += ":"
		}
	}
	line(heads)
	b.WriteString(rule + "|\n")
	for _, r := range g.Rows {
		line(r)
	}
	return b.String()
}

func (g *Grid) writer() table.Writer {
	t := table.NewWriter()
	row := func(cells []string) (r table.Row) {
		for _, c := range cells {
			r = append(r, c)
		}
		return r
	}
	var heads []string
	var configs []table.ColumnConfig
	for i, c := range g.Columns {
		heads = append(heads, c.Head)
		if c.Right {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight,
				AlignFooter: text.AlignRight})
		}
	}
	t.AppendHeader(row(heads))
	t.SetColumnConfigs(configs)
	for _, r := range g.Rows {
		t.AppendRow(row(r))
	}
	if g.Foot != nil {
		t.AppendFooter(row(g.Foot))
	}
	return t
}

// CSV writes the table as CSV (RFC 4180), its foot left out.
func (g *Grid) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	var heads []string
	for _, c := range g.Columns {
		heads = append(heads, c.Head)
	}
	out.Write(heads) // the first error stays, and is told by Error
	out.WriteAll(g.Rows)
	return out.Error()
}
