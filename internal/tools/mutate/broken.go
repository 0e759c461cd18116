package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"slices"
	"strings"
)

// variable names the mutant that is switched on.
const variable = "RUNCROWD_MUTANT"

// switches is what the room's sources call.
const switches = `

import (
	"os"
	"strconv"
)

var mutantOn = func() int { n, _ := strconv.Atoi(os.Getenv("` + variable + `")); return n }()

type mutantNumber interface {
	~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64 | ~float32 | ~float64
}

func mutantSum[T mutantNumber](on int, a, b T) T {
	if mutantOn == on {
		return a - b
	}
	return a + b
}

func mutantDifference[T mutantNumber](on int, a, b T) T {
	if mutantOn == on {
		return a + b
	}
	return a - b
}
`

// others are the conditions that are put in a condition's place.
var others = map[token.Token][]token.Token{
	token.LSS: {token.LEQ, token.GEQ}, token.LEQ: {token.LSS, token.GTR}, token.GTR: {token.GEQ, token.LEQ},
	token.GEQ: {token.GTR, token.LSS},
	token.EQL: {token.NEQ}, token.NEQ: {token.EQL}, token.LAND: {token.LOR}, token.LOR: {token.LAND},
}

// broken is a source with all of its mutants, numbered from first; lines may be left out.
func broken(src []byte, first int, without func(line int) bool) (pkg string, source []byte, list []*mutant, err error) {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, "", src, parser.ParseComments)
	if err != nil {
		return "", nil, nil, err
	}
	b := &breaker{set: set, first: first, without: without}
	ast.Inspect(tree, b.visit)
	out := b.apply(src)
	if _, err = format.Source(out); err != nil {
		return "", nil, nil, fmt.Errorf("%w in\n%s", err, out)
	}
	return tree.Name.Name, out, b.list, nil
}

// breaker collects the places of a source.
type breaker struct {
	set     *token.FileSet
	first   int
	without func(int) bool
	list    []*mutant
	edits   []edit
}

// edit puts texts before and after a stretch of the source; what stands inside may be edited, too.
type edit struct {
	from, to      int
	before, after string
	nth           int // order of those at one place
}

func (b *breaker) offset(p token.Pos) int { return b.set.Position(p).Offset }

// mutant makes one more; 0: its line is left out.
func (b *breaker) mutant(at token.Pos, what string) int {
	line := b.set.Position(at).Line
	if b.without(line) {
		return 0
	}
	m := &mutant{line: line, what: what, n: b.first + len(b.list)}
	b.list = append(b.list, m)
	return m.n
}

func (b *breaker) around(x ast.Node, before, after string) {
	b.edits = append(b.edits, edit{from: b.offset(x.Pos()), to: b.offset(x.End()), before: before, after: after, nth: len(b.edits)})
}

func (b *breaker) visit(node ast.Node) bool {
	switch x := node.(type) {
	case *ast.GenDecl:
		return x.Tok != token.CONST && x.Tok != token.TYPE
	case *ast.ArrayType:
		return false
	case *ast.BinaryExpr:
		b.binary(x)
	case *ast.IfStmt:
		if n := b.mutant(x.If, "the condition is the other way round"); n > 0 {
			b.around(x.Cond, fmt.Sprintf("(mutantOn == %d) != (", n), ")")
		}
	case *ast.CaseClause:
		for _, c := range x.List {
			if _, is := c.(*ast.BinaryExpr); is {
				if n := b.mutant(x.Pos(), "the case never applies"); n > 0 {
					b.around(c, "(", fmt.Sprintf(") && mutantOn != %d", n))
				}
			}
		}
	case *ast.ReturnStmt:
		for _, r := range x.Results {
			id, is := r.(*ast.Ident)
			if is && (id.Name == "true" || id.Name == "false") {
				if n := b.mutant(x.Pos(), "it returns the opposite of "+id.Name); n > 0 {
					b.around(id, fmt.Sprintf("(mutantOn == %d) != ", n), "")
				}
			}
		}
	}
	return true
}

func (b *breaker) binary(x *ast.BinaryExpr) {
	switch x.Op {
	case token.ADD, token.SUB:
		if text(x) {
			return
		}
		name, other := "mutantSum", token.SUB
		if x.Op == token.SUB {
			name, other = "mutantDifference", token.ADD
		}
		if n := b.mutant(x.OpPos, fmt.Sprintf("%s is %s", x.Op, other)); n > 0 {
			b.around(x, fmt.Sprintf("%s(%d, ", name, n), ")")
			at := b.offset(x.OpPos)
			b.edits = append(b.edits, edit{from: at, to: at + 1, before: ",/*", after: "*/", nth: len(b.edits)})
		}
		return
	}
	left, right := b.plain(x.X), b.plain(x.Y)
	if strings.Contains(left+right, "\n") { // lines have to stay where they are
		return
	}
	off, on := "", ""
	for _, other := range others[x.Op] {
		if n := b.mutant(x.OpPos, fmt.Sprintf("%s is %s", x.Op, other)); n > 0 {
			off += fmt.Sprintf("mutantOn != %d && ", n)
			on += fmt.Sprintf(" || mutantOn == %d && (%s %s %s)", n, left, other, right)
		}
	}
	if on != "" {
		b.around(x, "("+off+"(", ")"+on+")")
	}
}

// plain is an expression on one line.
func (b *breaker) plain(x ast.Expr) string {
	var out bytes.Buffer
	_ = format.Node(&out, b.set, x)
	return out.String()
}

// apply makes the edits.
func (b *breaker) apply(src []byte) []byte {
	type insert struct {
		at, rank, size int
		text           string
	}
	var list []insert
	for _, e := range b.edits {
		// Of those that begin at one place, the longer is outside; of those that end at one, too.
		list = append(list, insert{e.from, 1, -(e.to-e.from)*1000 + e.nth, e.before}, insert{e.to, 0, (e.to-e.from)*1000 - e.nth, e.after})
	}
	slices.SortStableFunc(list, func(x, y insert) int {
		if x.at != y.at {
			return x.at - y.at
		}
		if x.rank != y.rank {
			return x.rank - y.rank
		}
		return x.size - y.size
	})
	var out bytes.Buffer
	last := 0
	for _, i := range list {
		out.Write(src[last:i.at])
		out.WriteString(i.text)
		last = i.at
	}
	out.Write(src[last:])
	return out.Bytes()
}

// text tells whether an expression puts texts together.
func text(x *ast.BinaryExpr) bool {
	found := false
	ast.Inspect(x, func(n ast.Node) bool {
		l, is := n.(*ast.BasicLit)
		found = found || is && l.Kind == token.STRING
		return !found
	})
	return found
}
