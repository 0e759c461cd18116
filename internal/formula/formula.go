// Package formula compiles and runs the formulas of a crowd file and the texts
// with ${…} placeholders, in which each placeholder is a formula.
//
// Formulas are those of the expression library expr: arithmetic in which whole
// and other numbers mix, comparisons, conditions, texts. Names must be known
// when a formula is compiled, with a sample value that gives the type; a wrong
// name or type is an error then, with its place in the source, and not in the
// middle of a run. now() is taken away: a value must not depend on when it is
// computed.
//
// A division by zero gives an infinity, which no message can carry; Number
// reports it as an error.
package formula

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"math"
	"net/url"
	"reflect"
	"regexp"
	"sort"
	"strconv"
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

// Compile compiles a formula against the names and types of env.
func Compile(source string, env Env) (*Formula, error) {
	if strings.TrimSpace(source) == "" {
		return nil, &Error{0, "the formula is empty"}
	}
	prog, err := expr.Compile(source, append(functions, expr.Env(map[string]any(env)))...)
	if err != nil {
		return nil, compileError(err, env)
	}
	f := &Formula{source: source, prog: prog}
	tree, err := parser.Parse(source)
	if err != nil {
		return nil, compileError(err, env)
	}
	v := &nameVisitor{names: map[string]bool{}, env: map[string]bool{}}
	ast.Walk(&tree.Node, v)
	f.names, f.env = sorted(v.names), sorted(v.env)
	return f, nil
}

func sorted(set map[string]bool) []string {
	list := make([]string, 0, len(set))
	for k := range set {
		list = append(list, k)
	}
	sort.Strings(list)
	return list
}

type nameVisitor struct{ names, env map[string]bool }

func (v *nameVisitor) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		v.names[n.Value] = true
	case *ast.MemberNode:
		if id, ok := n.Node.(*ast.IdentifierNode); ok && id.Value == "env" {
			if p, ok := n.Property.(*ast.StringNode); ok {
				v.env[p.Value] = true
			}
		}
	}
}

func compileError(err error, env Env) error {
	var fe *file.Error
	if !errors.As(err, &fe) {
		return &Error{0, err.Error()}
	}
	text := fe.Message
	if name, ok := strings.CutPrefix(text, "unknown name "); ok {
		text = fmt.Sprintf("%q is not known here", name)
		if near := Nearest(name, sortedKeys(env)); near != "" {
			text += fmt.Sprintf("; did you mean %q?", near)
		} else {
			text += "; known are " + List(sortedKeys(env))
		}
	}
	if m := mismatch.FindStringSubmatch(text); m != nil {
		text = fmt.Sprintf("%s does not go with %s and %s", m[1], inWords(m[2]), inWords(m[3]))
	}
	if strings.HasPrefix(text, "unexpected token EOF") {
		text = "the formula ends too early: a bracket is not closed, or a value is missing"
	}
	if _, part, ok := strings.Cut(text, "type quantity.Position has no field "); ok {
		text = fmt.Sprintf("a position has no part %q; its parts are lat and lon", part)
	}
	if _, part, ok := strings.Cut(text, "type quantity.Axes has no field "); ok {
		text = fmt.Sprintf("a vector has no part %q; its parts are x, y and z", part)
	}
	return &Error{fe.Column, text}
}

var mismatch = regexp.MustCompile(`^invalid operation: (\S+) \(mismatched types (\S+) and (\S+)\)`)

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
			return nil, fmt.Errorf("the formula %s: %s", f.source, fe.Message)
		}
		return nil, fmt.Errorf("the formula %s: %w", f.source, err)
	}
	if x, ok := v.(float64); ok && (math.IsNaN(x) || math.IsInf(x, 0)) {
		return nil, fmt.Errorf("the formula %s gives %v, which no message can carry (a division by zero?)", f.source, x)
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
	}
	return fmt.Sprintf("a %T", v)
}

// functions are what formulas know beside the library's own.
var functions = []expr.Option{
	expr.DisableBuiltin("now"),
	expr.Function("pad", func(p ...any) (any, error) {
		width, ok := p[1].(int)
		if !ok || width < 0 || width > 64 {
			return nil, fmt.Errorf("pad: the width must be a whole number from 0 to 64")
		}
		s := String(p[0])
		if strings.HasPrefix(s, "-") {
			return "-" + strings.Repeat("0", max(0, width-len(s))) + s[1:], nil
		}
		return strings.Repeat("0", max(0, width-len(s))) + s, nil
	}, new(func(any, int) string)),
	expr.Function("text", func(p ...any) (any, error) { return String(p[0]), nil }, new(func(any) string)),
	expr.Function("hex", func(p ...any) (any, error) {
		n, ok := whole(p[0])
		width, ok2 := whole(p[1])
		if !ok || !ok2 || n < 0 || width < 0 || width > 16 {
			return nil, fmt.Errorf("hex: a whole number that is not negative and a width from 0 to 16 are wanted")
		}
		return fmt.Sprintf("%0*x", int(width), n), nil
	}, new(func(any, int) string)),
	expr.Function("hmac", func(p ...any) (any, error) {
		make, known := digests[String(p[0])]
		if !known {
			return nil, fmt.Errorf("hmac: %q is not known; it is one of md5, sha1, sha256, sha384, sha512", p[0])
		}
		h := hmac.New(make, []byte(String(p[1])))
		h.Write([]byte(String(p[2])))
		return string(h.Sum(nil)), nil
	}, new(func(string, string, any) string)),
	expr.Function("digest", func(p ...any) (any, error) {
		make, known := digests[String(p[0])]
		if !known {
			return nil, fmt.Errorf("digest: %q is not known; it is one of md5, sha1, sha256, sha384, sha512", p[0])
		}
		h := make()
		h.Write([]byte(String(p[1])))
		return string(h.Sum(nil)), nil
	}, new(func(string, any) string)),
	textual("base64", func(s string) (string, error) { return base64.StdEncoding.EncodeToString([]byte(s)), nil }),
	textual("base64url", func(s string) (string, error) { return base64.RawURLEncoding.EncodeToString([]byte(s)), nil }),
	textual("unbase64", func(s string) (string, error) {
		b, err := base64.StdEncoding.DecodeString(s)
		if err != nil {
			b, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
		}
		if err != nil {
			return "", errors.New("this is not base64 (RFC 4648)")
		}
		return string(b), nil
	}),
	textual("url_escape", func(s string) (string, error) { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20"), nil }),
	textual("bytes_hex", func(s string) (string, error) { return hex.EncodeToString([]byte(s)), nil }),
	checkDigits("luhn", luhn), checkDigits("gs1", gs1), checkDigits("mod97", mod97),
	expr.Function("unix", timeFunc(time.Time.Unix), new(func(time.Time) int64)),
	expr.Function("unix_ms", timeFunc(time.Time.UnixMilli), new(func(time.Time) int64)),
	math1("sin", math.Sin), math1("cos", math.Cos), math1("tan", math.Tan),
	math1("sqrt", math.Sqrt), math1("exp", math.Exp), math1("ln", math.Log), math1("log10", math.Log10),
}

// digests are the hash functions of hmac (RFC 2104) and digest. The old ones are there
// because platforms want them.
var digests = map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New}

// textual is a function from a text to a text.
func textual(name string, f func(string) (string, error)) expr.Option {
	return expr.Function(name, func(p ...any) (any, error) {
		s, err := f(String(p[0]))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return s, nil
	}, new(func(any) string))
}

func whole(v any) (int64, bool) {
	switch x := v.(type) {
	case int:
		return int64(x), true
	case int64:
		return x, true
	}
	return 0, false
}

// checkDigits is a function from a text to its check digits.
func checkDigits(name string, f func(string) (string, error)) expr.Option {
	return expr.Function(name, func(p ...any) (any, error) {
		s := strings.NewReplacer(" ", "", "-", "").Replace(String(p[0]))
		d, err := f(s)
		if err != nil || s == "" {
			return nil, fmt.Errorf("%s: digits are wanted, not %q", name, s)
		}
		return d, nil
	}, new(func(any) string))
}

var errDigits = errors.New("not digits")

// luhn is the check digit of ISO/IEC 7812-1, annex B: from the right, every
// second digit is doubled.
func luhn(s string) (string, error) {
	return weighted(s, func(d, fromRight int) int {
		if fromRight%2 == 0 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		return d
	})
}

// gs1 is the check digit of the GS1 General Specifications, section 7.9: weights
// 3 and 1 from the right.
func gs1(s string) (string, error) {
	return weighted(s, func(d, fromRight int) int {
		if fromRight%2 == 0 {
			d *= 3
		}
		return d
	})
}

func weighted(s string, weight func(d, fromRight int) int) (string, error) {
	sum := 0
	for i := range len(s) {
		c := s[len(s)-1-i]
		if c < '0' || c > '9' {
			return "", errDigits
		}
		sum += weight(int(c-'0'), i)
	}
	return strconv.Itoa((10 - sum%10) % 10), nil
}

// mod97 is the pair of check digits of ISO/IEC 7064, MOD 97-10, behind a text of
// digits and letters, in which A stands for 10 and Z for 35.
func mod97(s string) (string, error) {
	rest := 0
	for _, c := range strings.ToUpper(s) {
		switch {
		case c >= '0' && c <= '9':
			rest = (rest*10 + int(c-'0')) % 97
		case c >= 'A' && c <= 'Z':
			rest = (rest*100 + int(c-'A') + 10) % 97
		default:
			return "", errDigits
		}
	}
	return fmt.Sprintf("%02d", 98-rest*100%97), nil
}

func timeFunc(f func(time.Time) int64) func(...any) (any, error) {
	return func(p ...any) (any, error) {
		t, ok := p[0].(time.Time)
		if !ok {
			return nil, fmt.Errorf("a time is wanted, not %s", typeName(p[0]))
		}
		return f(t), nil
	}
}

func math1(name string, f func(float64) float64) expr.Option {
	return expr.Function(name, func(p ...any) (any, error) {
		switch x := p[0].(type) {
		case float64:
			return f(x), nil
		case int:
			return f(float64(x)), nil
		case int64:
			return f(float64(x)), nil
		}
		return nil, fmt.Errorf("%s: a number is wanted, not %s", name, typeName(p[0]))
	}, new(func(float64) float64), new(func(int) float64), new(func(int64) float64))
}

// String is how a value stands in a text: numbers shortest, times as RFC 3339
// in UTC, positions as "lat,lon".
func String(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case int:
		return strconv.Itoa(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case uint64:
		return strconv.FormatUint(x, 10)
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case time.Time:
		return x.UTC().Format(time.RFC3339Nano)
	case fmt.Stringer:
		return x.String()
	}
	return fmt.Sprint(v)
}

// Text is a text with placeholders: literal parts and formulas in turn.
// "$${" stands for a literal "${".
type Text struct {
	source string
	parts  []part
}

type part struct {
	literal string
	formula *Formula
}

// ParseText compiles a text. Error columns count from the text's first byte.
func ParseText(source string, env Env) (*Text, error) {
	t := &Text{source: source}
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			t.parts = append(t.parts, part{literal: literal.String()})
			literal.Reset()
		}
	}
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], "$${"):
			literal.WriteString("${")
			i += 3
		case strings.HasPrefix(source[i:], "${"):
			end := placeholderEnd(source, i+2)
			if end < 0 {
				return nil, &Error{i, "the placeholder ${ is never closed by }"}
			}
			f, err := Compile(source[i+2:end], env)
			if err != nil {
				var fe *Error
				if errors.As(err, &fe) {
					return nil, &Error{i + 2 + fe.Column, fe.Text}
				}
				return nil, err
			}
			flush()
			t.parts = append(t.parts, part{formula: f})
			i = end + 1
		default:
			literal.WriteByte(source[i])
			i++
		}
	}
	flush()
	return t, nil
}

// placeholderEnd finds the } that closes a placeholder, minding quotes and
// inner braces; -1 if there is none.
func placeholderEnd(s string, from int) int {
	depth := 0
	for i := from; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'', '`':
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' && c != '`' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}

// Source is the text as it was written.
func (t *Text) Source() string { return t.source }

// Single is the formula of a text that is one placeholder and nothing else, or nil.
func (t *Text) Single() *Formula {
	if len(t.parts) == 1 {
		return t.parts[0].formula
	}
	return nil
}

// Formula is a formula that gives the text with its placeholders filled in.
func (t *Text) Formula(env Env) (*Formula, error) {
	f, err := Compile(t.joined(), env)
	if err == nil {
		f.source = t.source
	}
	return f, err
}

// joined is the source of a formula that gives the text.
func (t *Text) joined() string {
	terms := make([]string, len(t.parts))
	for i, p := range t.parts {
		if p.formula != nil {
			terms[i] = "text(" + p.formula.source + ")"
		} else {
			terms[i] = strconv.Quote(p.literal)
		}
	}
	return strings.Join(terms, " + ")
}

// JSON is the source of a text that gives this one as JSON. One that is a single
// placeholder keeps the type of what that gives: "${n}" is a number.
func (t *Text) JSON() string {
	if f := t.Single(); f != nil {
		return "${toJSON(" + f.source + ")}"
	}
	if !t.Fixed() {
		return "${toJSON(" + t.joined() + ")}"
	}
	literal := ""
	for _, p := range t.parts {
		literal += p.literal
	}
	out, _ := json.Marshal(literal) // a text always marshals
	return strings.ReplaceAll(string(out), "${", "$${")
}

// Walk calls f for each part of the text in turn: a literal, or a placeholder's
// formula.
func (t *Text) Walk(f func(literal string, placeholder *Formula)) {
	for _, p := range t.parts {
		f(p.literal, p.formula)
	}
}

// Fixed tells whether the text has no placeholder.
func (t *Text) Fixed() bool {
	for _, p := range t.parts {
		if p.formula != nil {
			return false
		}
	}
	return true
}

// Names are the names used in any placeholder.
func (t *Text) Names() []string { return t.collect((*Formula).Names) }

// EnvNames are the environment variables read in any placeholder.
func (t *Text) EnvNames() []string { return t.collect((*Formula).EnvNames) }

func (t *Text) collect(get func(*Formula) []string) []string {
	set := map[string]bool{}
	for _, p := range t.parts {
		if p.formula != nil {
			for _, n := range get(p.formula) {
				set[n] = true
			}
		}
	}
	return sorted(set)
}

// Expand fills in the placeholders.
func (t *Text) Expand(m *Machine, env Env) (string, error) {
	if len(t.parts) == 1 && t.parts[0].formula == nil {
		return t.parts[0].literal, nil
	}
	var b strings.Builder
	for _, p := range t.parts {
		if p.formula == nil {
			b.WriteString(p.literal)
			continue
		}
		v, err := p.formula.Any(m, env)
		if err != nil {
			return "", err
		}
		if v == nil {
			return "", fmt.Errorf("the placeholder ${%s} gives nothing", p.formula.source)
		}
		b.WriteString(String(v))
	}
	return b.String(), nil
}

// List joins names for a message and cuts a long list short.
func List(names []string) string {
	const most = 16
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

// Hint is what to add to a message about a name that is none: what it may have
// meant, or else what there is.
func Hint(name string, known []string) string {
	if near := Nearest(name, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	if len(known) > 0 {
		return "; there is " + List(known)
	}
	return ""
}

// Nearest is the known name most like the given one, or "" if none is close:
// at most a third of its letters may differ (Levenshtein distance in which
// neighbours that changed places count once).
func Nearest(name string, known []string) string {
	best, bestDistance := "", max(1, len(name)/3)+1
	for _, k := range known {
		if d := distance(strings.ToLower(name), strings.ToLower(k)); d < bestDistance {
			best, bestDistance = k, d
		}
	}
	return best
}

func distance(a, b string) int {
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}
