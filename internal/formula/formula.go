package formula

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/vm"

	"runcrowd/internal/quantity"
)

// Env maps each name that a formula may use to its value; for compiling, to a
// sample of its type.
type Env map[string]any

// Secrets is the type of the name env: what it holds is never printed.
type Secrets map[string]string

// Request is the type of the name request: what is about to be sent over HTTP.
type Request struct {
	Method string    `expr:"method"`
	Host   string    `expr:"host"`
	Path   string    `expr:"path"`
	Query  string    `expr:"query"`
	Body   string    `expr:"body"` // its bytes
	Time   time.Time `expr:"time"`
}

// Error is a mistake in a formula, at a column (from 0) of its source.
type Error struct {
	Column int
	Text   string
}

func (e *Error) Error() string { return e.Text }

// Formula is one compiled formula. It is immutable; a Machine runs it.
type Formula struct {
	source string
	prog   *vm.Program
	names  []string
	env    []string
}

// Machine is the memory a formula runs in; reuse one per goroutine.
type Machine struct{ vm vm.VM }

// MostFormula is how long a formula may be, in bytes: it is read by a parser that goes down for
// each sign, and a deeper one would end the program.
const MostFormula = 10_000

// Compile compiles a formula against the names and types of env.
func Compile(source string, env Env) (*Formula, error) {
	if strings.TrimSpace(source) == "" {
		return nil, &Error{0, "the formula is empty"}
	}
	if len(source) > MostFormula {
		return nil, &Error{0, fmt.Sprintf("a formula has at most %d characters", MostFormula)}
	}
	tree, err := parser.Parse(source)
	if err != nil {
		return nil, compileError(err)
	}
	v := &visitor{names: map[string]int{}, env: map[string]int{}, at: map[string]int{}}
	ast.Walk(&tree.Node, v)
	if v.wrong != nil {
		return nil, v.wrong
	}
	for _, name := range sorted(v.names) {
		if _, known := env[name]; !known {
			// Several are told one by one; the first in the text comes first.
			if at := v.at[name]; v.wrong == nil || at < v.wrong.Column {
				v.wrong = &Error{at, notKnown(name, env)}
			}
		}
	}
	if v.wrong != nil {
		return nil, v.wrong
	}
	prog, err := expr.Compile(source, append(slices.Clone(options), expr.Env(map[string]any(env)))...)
	if err != nil {
		return nil, compileError(err)
	}
	typed := prog.Node()
	ast.Walk(&typed, (*methods)(v))
	if v.wrong != nil {
		return nil, v.wrong
	}
	return &Formula{source: source, prog: prog, names: sorted(v.names), env: sorted(v.env)}, nil
}

func sorted(set map[string]int) []string {
	list := make([]string, 0, len(set))
	for k, used := range set {
		if used > 0 {
			list = append(list, k)
		}
	}
	sort.Strings(list)
	return list
}

// visitor collects the names that a formula uses, and finds what the expression library
// knows and our language does not.
type visitor struct {
	names, env map[string]int // how often each is used
	at         map[string]int // and the column of a name's first use
	wrong      *Error
}

func (v *visitor) refuse(n ast.Node, format string, args ...any) {
	// The innermost is visited first; the first in the text is told.
	if at := n.Location().From; v.wrong == nil || at < v.wrong.Column {
		v.wrong = &Error{at, fmt.Sprintf(format, args...)}
	}
}

// ourOperators are those of Operators, as the library calls them; others have a word
// of ours.
var (
	ourOperators = []string{"+", "-", "*", "/", "%", "**", "==", "!=", "<", "<=", ">", ">=", "and", "or", "not", "in",
		"contains", "matches", "??"}
	otherOperators = map[string]string{"&&": "write and", "||": "write or", "!": "write not", "^": "write **",
		"..":         "write the list out",
		"startsWith": "write starts_with(text, part)", "endsWith": "write ends_with(text, part)"}
)

func (v *visitor) operator(n ast.Node, name string) {
	if !slices.Contains(ourOperators, name) {
		hint := otherOperators[name]
		if hint == "" {
			hint = "see runcrowd formulas"
		}
		v.refuse(n, "there is no operator %q; %s", name, hint)
	}
}

func (v *visitor) function(n ast.Node, name string) {
	if slices.Contains(functionNames, name) {
		return
	}
	hint := "see runcrowd formulas"
	if near := Nearest(name, functionNames); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	v.refuse(n, "there is no function %q; %s", name, hint)
}

// Visit comes to a node after all below it.
func (v *visitor) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		if v.names[n.Value]++; v.names[n.Value] == 1 {
			v.at[n.Value] = n.Location().From
		}
	case *ast.NilNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.StringNode, *ast.ArrayNode, *ast.MapNode, *ast.PairNode:
	case *ast.UnaryNode:
		v.operator(n, n.Operator)
	case *ast.BinaryNode:
		v.operator(n, n.Operator)
	case *ast.ConditionalNode:
		if !n.Ternary {
			v.refuse(n, "there is no if; write condition ? value : other")
		}
	case *ast.MemberNode:
		if n.Optional {
			v.refuse(n, "there is no ?.; write a.b ?? other")
		}
		if id, ok := n.Node.(*ast.IdentifierNode); ok && id.Value == "env" {
			if p, ok := n.Property.(*ast.StringNode); ok {
				v.env[p.Value]++
			}
		}
	case *ast.CallNode:
		id, plain := n.Callee.(*ast.IdentifierNode)
		if !plain {
			v.refuse(n, "there are no methods; a formula calls functions, such as hour(time)")
			return
		}
		v.names[id.Value]-- // it was visited as a name
		v.function(n, id.Value)
	case *ast.BuiltinNode:
		v.function(n, n.Name)
	case *ast.SliceNode:
		v.refuse(n, "there are no slices; write part(text, first, count)")
	default:
		v.refuse(n, "this is not of the formula language; see runcrowd formulas")
	}
}

func compileError(err error) error {
	var fe *file.Error
	if !errors.As(err, &fe) {
		return &Error{0, err.Error()}
	}
	text := fe.Message
	return &Error{fe.Column, plainly(text)}
}

func notKnown(name string, env Env) string {
	if near := Nearest(name, sortedKeys(env)); near != "" {
		return fmt.Sprintf("%q is not known here; did you mean %q?", name, near)
	}
	return fmt.Sprintf("%q is not known here; known are %s", name, List(sortedKeys(env)))
}

// methods finds parts of values that are methods in the library: they are not of the
// language.
type methods visitor

func (v *methods) Visit(node *ast.Node) {
	n, is := (*node).(*ast.MemberNode)
	if !is || kindOf(n) != reflect.Func {
		return
	}
	(*visitor)(v).refuse(n, "%s", plainly(fmt.Sprintf("type %v has no field %s", n.Node.Type(),
		strings.Trim(n.Property.String(), `"`))))
}

// plainly says a message of the expression library in the words of its users.
func plainly(text string) string {
	for _, t := range translations {
		if m := t.from.FindStringSubmatch(text); m != nil {
			args := make([]any, 0, len(m))
			for i, part := range m[1:] {
				if t.types[i] {
					part = inWords(part)
				}
				args = append(args, part)
			}
			return fmt.Sprintf(t.to, args...)
		}
	}
	return text
}

// translations of the library's messages; types says which parts are types of Go.
var translations = []struct {
	from  *regexp.Regexp
	to    string
	types map[int]bool
}{
	{regexp.MustCompile(`^invalid operation: (\S+) \(mismatched types (.+) and (.+)\)`), "%s does not go with %s and %s",
		map[int]bool{1: true, 2: true}},
	{regexp.MustCompile(`^invalid operation: (\S+) \(mismatched type (.+)\)`), "%s does not go with %s",
		map[int]bool{1: true}},
	{regexp.MustCompile(`^invalid operation: (\S+) (\S+) (\S+)$`), "%s %s %s is not possible",
		map[int]bool{0: true, 2: true}},
	{regexp.MustCompile(`^unexpected token EOF`), "the formula ends too early: a bracket is not closed, or a value is " +
		"missing", nil},
	{regexp.MustCompile(`^unexpected token \w+\("(.*)"\)`), "%q is not expected here", nil},
	{regexp.MustCompile(`type quantity.Position has no (?:field|method) (\S+)`), "a position has no part %q; its parts " +
		"are lat and lon", nil},
	{regexp.MustCompile(`type formula.Request has no (?:field|method) (\S+)`), "a request has no part %q; its parts are method, " +
		"host, path, query, body and time", nil},
	{regexp.MustCompile(`type quantity.Axes has no (?:field|method) (\S+)`), "a vector has no part %q; its parts are x, " +
		"y and z", nil},
	{regexp.MustCompile(`type time.Time has no (?:field|method) (\S+)`), "a time has no part %q; take a function, such " +
		"as hour(time)", nil},
	{regexp.MustCompile(`^type (\S+) has no (?:field|method) (\S+)`), "%s has no part %q", map[int]bool{0: true}},
	{regexp.MustCompile(`^cannot use (.+) as argument \(type (.+)\) to call (\w+)`), "%[3]s does not take %[1]s",
		map[int]bool{0: true}},
	{regexp.MustCompile(`^no matching overload for (\w+)`), "%s does not take these arguments", nil},
	{regexp.MustCompile(`^too many arguments to call (\S+)`), "%s has too many arguments", nil},
	{regexp.MustCompile(`^not enough arguments to call (\S+)`), "%s has too few arguments", nil},
	{regexp.MustCompile(`^invalid number of arguments`), "the number of arguments is wrong", nil},
	{regexp.MustCompile(`^non-bool expression \(type (.+)\) used as condition`), "the condition is %s; it must be true " +
		"or false", map[int]bool{0: true}},
	{regexp.MustCompile(`^cannot (?:fetch|get) (\S+) from (.+)$`), "%[2]s has no part %[1]q", map[int]bool{1: true}},
	{regexp.MustCompile(`^index out of range: (-?\d+) \(array length is (\d+)\)`), "the list has no entry %s: it has %s",
		nil},
	{regexp.MustCompile(`^literal not terminated`), "a quote is not closed; a line break within quotes " +
		"is written \\n, and in YAML's double quotes \\\\n", nil},
	{regexp.MustCompile(`^(?:invalid integer literal|integer literal is too large)`), "this number is outside the whole " +
		"numbers of 64 bits", nil},
	{regexp.MustCompile(`^invalid (?:hex|float|binary|octal) literal`), "this is not a number", nil},
	{regexp.MustCompile(`^(?:runtime error: )?integer divide by zero`), "division by zero", nil},
	{regexp.MustCompile(`^operator "in" not defined on (.+)`), "in wants a list, not %s", map[int]bool{0: true}},
	{regexp.MustCompile(`^interface conversion: interface \{\} is (\S+), not (\S+)`), "this is %s, and %s is wanted",
		map[int]bool{0: true, 1: true}},
}

// inWords is a type of the expression library as users know it.
func inWords(typ string) string {
	switch typ {
	case "string":
		return "a text"
	case "int", "int64", "float64":
		return "a number"
	case "bool":
		return "true or false"
	case "quantity.Position":
		return "a position"
	case "quantity.Axes":
		return "a vector"
	case "time.Time":
		return "a time"
	case "formula.Request":
		return "a request"
	case "nil", "<nil>":
		return "nothing"
	case "[]string", "[]interface {}", "[]int", "[]float64":
		return "a list"
	case "formula.Secrets", "map[string]interface {}":
		return "a mapping"
	case "interface {}", "unknown":
		return "a value"
	}
	return typ
}

func sortedKeys(env Env) []string {
	keys := make([]string, 0, len(env))
	for k := range env {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// Sample is a value of the type that the formula gives: 0.0 where the type is
// only known when it runs.
func (f *Formula) Sample() any {
	switch t := f.prog.Node().Type(); {
	case t == nil:
		return 0.0
	case t == reflect.TypeFor[quantity.Position]():
		return quantity.Position{}
	case t == reflect.TypeFor[quantity.Axes]():
		return quantity.Axes{}
	default:
		switch t.Kind() {
		case reflect.Int, reflect.Int64:
			return 0
		case reflect.String:
			return ""
		case reflect.Bool:
			return false
		}
		return 0.0
	}
}

// Source is the text the formula was compiled from.
func (f *Formula) Source() string { return f.source }

// Names are the names that the formula uses, in alphabetical order.
func (f *Formula) Names() []string { return f.names }

// EnvNames are the environment variables it reads, as env.NAME.
func (f *Formula) EnvNames() []string { return f.env }

// Any runs the formula.
func (f *Formula) Any(m *Machine, env Env) (any, error) {
	v, err := m.vm.Run(f.prog, map[string]any(env))
	if err != nil {
		var fe *file.Error
		if errors.As(err, &fe) {
			return nil, fmt.Errorf("the formula %s: %s", f.source, plainly(fe.Message))
		}
		return nil, fmt.Errorf("the formula %s: %w", f.source, err)
	}
	if x, ok := v.(float64); ok && (math.IsNaN(x) || math.IsInf(x, 0)) {
		return nil, fmt.Errorf("the formula %s gives %v, which no message can carry", f.source, x)
	}
	if s, is := v.(string); is && len(s) > maxText {
		return nil, fmt.Errorf("the formula %s gives a text of more than %d bytes", f.source, maxText)
	}
	return v, nil
}

// Number runs the formula and wants a finite number.
func (f *Formula) Number(m *Machine, env Env) (float64, error) {
	v, err := f.Any(m, env)
	if err != nil {
		return 0, err
	}
	switch x := v.(type) {
	case float64:
		return x, nil
	case int:
		return float64(x), nil
	case int64:
		return float64(x), nil
	}
	return 0, fmt.Errorf("the formula %s gives %s, not a number", f.source, typeName(v))
}

func typeName(v any) string {
	switch v.(type) {
	case nil:
		return "nothing"
	case string:
		return "a text"
	case bool:
		return "true or false"
	case quantity.Position:
		return "a position"
	case quantity.Axes:
		return "a vector"
	case int, int64, float64:
		return "a number"
	case time.Time:
		return "a time"
	case []string, []any:
		return "a list"
	case map[string]any, Secrets:
		return "a mapping"
	}
	return fmt.Sprintf("a %T", v)
}
