package crowd

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"
)

// Pos is a place in the crowd file; lines and columns count from 1. The zero
// Pos is the file as a whole.
type Pos struct{ Line, Column int }

// Problem is one mistake in a crowd file.
type Problem struct {
	Pos  Pos
	Text string // what is wrong and what was expected
}

// Problems is the error for a crowd file: every mistake, in the file's order,
// each with its place and its line.
type Problems struct {
	Path  string
	List  []Problem
	lines []string
}

// NewProblems is an empty list for a file with this text.
func NewProblems(path string, source []byte) *Problems {
	return &Problems{Path: path, lines: strings.Split(string(source), "\n")}
}

// Problems gathers mistakes in a crowd file that has been read.
func (c *Crowd) Problems() *Problems {
	p := NewProblems(c.Path, c.Source)
	if c.Changed {
		p.Path += " (as changed)" // the places are not those of the file
	}
	return p
}

// Hide takes secrets out of what is shown of the file and out of the texts.
// Each keeps its length, so that the columns stay right.
func (p *Problems) Hide(secrets []string) {
	for _, s := range secrets {
		dots := strings.Repeat("•", utf8.RuneCountInString(s))
		for i := range p.lines {
			p.lines[i] = strings.ReplaceAll(p.lines[i], s, dots)
		}
		for i := range p.List {
			p.List[i].Text = strings.ReplaceAll(p.List[i].Text, s, dots)
		}
	}
}

// Add notes a mistake; the same one at the same place is noted once, whatever is said behind a
// semicolon: a text is read anew for each group of devices, and each has other names.
func (p *Problems) Add(at Pos, format string, args ...any) {
	problem := Problem{at, fmt.Sprintf(format, args...)}
	what, _, _ := strings.Cut(problem.Text, "; ")
	for _, q := range p.List {
		if before, _, _ := strings.Cut(q.Text, "; "); q.Pos == at && before == what {
			return
		}
	}
	p.List = append(p.List, problem)
}

// Err is p as an error, or nil when it is empty.
func (p *Problems) Err() error {
	if len(p.List) == 0 {
		return nil
	}
	sort.SliceStable(p.List, func(i, j int) bool {
		a, b := p.List[i].Pos, p.List[j].Pos
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return p
}

// shown is how many mistakes one message holds at most.
const shown = 25

// Tell is every entry with its place, what it is called ("warning: ", or nothing)
// and its line; of a long list the first ones.
func (p *Problems) Tell(what string) string {
	var b strings.Builder
	for i, q := range p.List {
		if i == shown {
			fmt.Fprintf(&b, "… and %d more\n", len(p.List)-shown)
			break
		}
		if q.Pos.Line == 0 {
			fmt.Fprintf(&b, "%s: %s%s\n", p.Path, what, q.Text)
			continue
		}
		fmt.Fprintf(&b, "%s:%d:%d: %s%s\n", p.Path, q.Pos.Line, q.Pos.Column, what, q.Text)
		b.WriteString(p.excerpt(q.Pos))
	}
	return b.String()
}

func (p *Problems) Error() string {
	var b strings.Builder
	b.WriteString(p.Tell(""))
	n := "1 mistake"
	if len(p.List) != 1 {
		n = fmt.Sprintf("%d mistakes", len(p.List))
	}
	fmt.Fprintf(&b, "%s in %s; nothing was sent.", n, p.Path)
	return b.String()
}

// excerpt is the line with a mark under the column; a long line is cut around it.
func (p *Problems) excerpt(at Pos) string {
	if at.Line > len(p.lines) {
		return ""
	}
	line := []rune(strings.TrimRight(p.lines[at.Line-1], "\r"))
	for i, r := range line {
		if r < ' ' || r == 0x7f {
			line[i] = ' '
		}
	}
	col := min(max(at.Column-1, 0), len(line))
	const width = 100
	if len(line) > width {
		from := max(0, min(col-width/2, len(line)-width))
		line, col = line[from:from+width], col-from
	}
	number := fmt.Sprintf("%5d | ", at.Line)
	return fmt.Sprintf("%s%s\n%s^\n", number, string(line), strings.Repeat(" ", len(number)+col))
}
