package file

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
)

// MaxFileSize is the largest crowd file that is read, in bytes.
const MaxFileSize = 4 << 20

// maxDepth and maxNodes bound what aliases in the file may unfold to.
const (
	maxDepth = 64
	maxNodes = 1 << 20
)

// reader walks the YAML nodes and notes every mistake with its place.
type reader struct {
	*crowd.Problems
	nodes   int
	missing map[string]bool // environment variables already told
	open    map[string]bool // environment variables that are addresses, not secrets
	from    Sources
	crowd   *crowd.Crowd
	blind   bool // some witness could not be read: what it proves is not known

	files      map[string]*crowd.File
	recordings map[string]*recordedFile

	// What is compiled again for each group of devices.
	links   map[*crowd.Link]*linkNode
	own     []*crowd.Link // of witnesses that have credentials of their own
	kinds   map[*crowd.Kind]*kindNode
	layers  map[*crowd.Cast][]layer
	changes []*change
	changed map[*crowd.Cast]map[*change]*crowd.Cast
	steps   []castStep
	happens []*object // the events of the plan
}

// castStep compiles what a part of the file outside the kinds says for a cast.
type castStep func(c *crowd.Cast, env formula.Env)

// readSource reads the file, with one clear error for what is no crowd file at all.
func readSource(path string) ([]byte, error) {
	if path == crowd.Stdin {
		source, err := io.ReadAll(io.LimitReader(os.Stdin, MaxFileSize+1))
		switch {
		case err != nil:
			return nil, fmt.Errorf("standard input cannot be read: %w", err)
		case len(source) == 0:
			return nil, errors.New("standard input is empty; - stands for a crowd file that comes from there")
		case len(source) > MaxFileSize:
			return nil, fmt.Errorf("standard input: a crowd file has at most %d MB", MaxFileSize>>20)
		}
		return source, nil
	}
	info, err := os.Stat(path)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("%s: there is no such file; write one with: runcrowd new DIR", path)
		}
		return nil, fmt.Errorf("%s: cannot be read: %w", path, errors.Unwrap(err))
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s: is a folder; name the crowd file inside it, such as %s/crowd.yaml", path,
			strings.TrimRight(path, "/"))
	}
	if info.Size() > MaxFileSize {
		return nil, fmt.Errorf("%s: is %d MB long; a crowd file has at most %d MB, so this is probably another file", path,
			info.Size()>>20, MaxFileSize>>20)
	}
	source, err := folder.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be read: %w", path, err)
	}
	if len(source) > MaxFileSize {
		return nil, fmt.Errorf("%s: has no end; a crowd file has at most %d MB", path, MaxFileSize>>20)
	}
	return source, nil
}

// document parses the YAML and gives its root mapping, or nil after noting why not.
func (r *reader) document(source []byte) *yaml.Node {
	if len(bytes.TrimSpace(source)) == 0 {
		r.Add(crowd.Pos{}, "is empty; write a crowd file with: runcrowd new DIR")
		return nil
	}
	if i := bytes.IndexByte(source, 0); i >= 0 || !utf8.Valid(source) {
		r.Add(crowd.Pos{}, "is not a text file in UTF-8; a crowd file is YAML")
		return nil
	}
	var doc yaml.Node
	err := yaml.Load(source, &doc)
	var one *yaml.LoadError
	switch {
	case errors.As(err, &one):
		r.yamlError(one, source)
		return nil
	case err != nil:
		r.Add(crowd.Pos{}, "is not YAML: %s", err)
		return nil
	}
	root := &doc
	if root.Kind == yaml.DocumentNode && len(root.Content) == 1 {
		root = root.Content[0]
	}
	if root.Kind != yaml.MappingNode {
		r.Add(pos(root), "a crowd file is a YAML mapping that begins with the line \"crowd: NAME\", not %s", describe(root))
		return nil
	}
	return root
}

// yamlError tells a syntax error in words of the file.
func (r *reader) yamlError(e *yaml.LoadError, source []byte) {
	text := e.Message
	at := crowd.Pos{Line: e.Mark.Line, Column: e.Mark.Column}
	switch {
	case strings.Contains(text, "no documents"):
		r.Add(crowd.Pos{}, "holds only comments; write a crowd file with: runcrowd new DIR")
		return
	case strings.Contains(text, "found multiple"):
		r.Add(crowd.Pos{}, "holds more than one YAML document; a crowd file is one (take out the line ---)")
		return
	case strings.Contains(text, "cannot start any token") && at.Line >= 1:
		lines := strings.Split(string(source), "\n")
		if at.Line <= len(lines) && strings.Contains(lines[at.Line-1], "\t") {
			text = "a tab cannot indent a line in YAML; use spaces"
		} else {
			text = "this character cannot begin a value in YAML; put the value in quotes"
		}
	case strings.Contains(text, "mapping values are not allowed"):
		text = "a second \": \" in one line, or a line indented too far; put a text that holds \": \" in quotes"
	case strings.Contains(text, "did not find expected ',' or"):
		text = "a bracket opened" + opened(e) + " is not closed before this, or a comma is missing; inside { } a text that " +
			"holds [ ] { } or , must stand in quotes"
	case strings.Contains(text, "expected node content"):
		text = "a value is missing here, or a bracket is not closed"
	case strings.Contains(text, "unexpected end of stream"):
		text = "the file ends inside a quoted text" + opened(e)
	case strings.Contains(text, "could not find expected ':'"):
		text = "a \":\" is missing after the key" + opened(e)
	case strings.Contains(text, "unknown anchor"):
		text = "the anchor " + strings.TrimSuffix(strings.TrimPrefix(text, "unknown anchor "), " referenced") +
			" is not defined; a text that begins with * must stand in quotes"
	case strings.Contains(text, "control characters"):
		text = "holds control characters; a crowd file is YAML, a plain text"
	}
	if at.Line < 1 {
		at = crowd.Pos{}
	}
	r.Add(at, "not YAML: %s", text)
}

func opened(e *yaml.LoadError) string {
	if e.ContextMark.Line < 1 {
		return ""
	}
	return fmt.Sprintf(" in line %d", e.ContextMark.Line)
}

func pos(n *yaml.Node) crowd.Pos { return crowd.Pos{Line: n.Line, Column: n.Column} }

func describe(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	case yaml.ScalarNode:
		if n.Tag == "!!null" {
			return "nothing"
		}
		return strconv.Quote(n.Value)
	}
	return "something else"
}

// resolve follows an alias to what it stands for.
func (r *reader) resolve(n *yaml.Node) *yaml.Node {
	for i := 0; n.Kind == yaml.AliasNode && n.Alias != nil && i < maxDepth; i++ {
		n = n.Alias
	}
	return n
}

// entry is one key of a mapping.
type entry struct{ key, value *yaml.Node }

// entries lists a mapping in the file's order; keys are unique and texts.
func (r *reader) entries(n *yaml.Node, what string) []entry {
	n = r.resolve(n)
	if n.Kind != yaml.MappingNode {
		r.Add(pos(n), "%s must be a mapping (key: value), not %s", what, describe(n))
		return nil
	}
	if r.nodes += len(n.Content); r.nodes > maxNodes {
		r.Add(pos(n), "the file's aliases unfold to more than %d values", maxNodes)
		return nil
	}
	list := make([]entry, 0, len(n.Content)/2)
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if key.Value == "<<" && key.Tag == "!!merge" {
			for _, e := range r.merged(value) {
				if _, own := seen[e.key.Value]; !own {
					seen[e.key.Value] = -1
					list = append(list, e)
				}
			}
			continue
		}
		if key.Kind != yaml.ScalarNode {
			r.Add(pos(key), "a key must be a plain text, not %s", describe(key))
			continue
		}
		if at, double := seen[key.Value]; double && at > 0 {
			r.Add(pos(key), "%q stands twice in %s; the first is in line %d", key.Value, what, at)
			continue
		} else if double { // given here: nearer than what was merged in
			for j := range list {
				if list[j].key.Value == key.Value {
					list[j] = entry{key, value}
				}
			}
		} else {
			list = append(list, entry{key, value})
		}
		seen[key.Value] = key.Line
	}
	return list
}

// merged lists what "<<:" brings in, without unfolding merges inside it again.
func (r *reader) merged(n *yaml.Node) []entry {
	n = r.resolve(n)
	if n.Kind != yaml.MappingNode {
		r.Add(pos(n), "<< takes an alias of a mapping, such as *base")
		return nil
	}
	var list []entry
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Kind == yaml.ScalarNode && n.Content[i].Tag != "!!merge" {
			list = append(list, entry{n.Content[i], n.Content[i+1]})
		}
	}
	return list
}

// object is a mapping with a known set of keys.
type object struct {
	r    *reader
	node *yaml.Node
	what string
	of   *mapping
	vals map[string]*yaml.Node
	near map[string]bool // keys that a misspelt one was probably meant to be
}

// object reads a mapping and notes each key that is not known.
func (r *reader) object(n *yaml.Node, what string, m *mapping) *object {
	known := m.names()
	o := &object{r: r, node: r.resolve(n), what: what, of: m, vals: map[string]*yaml.Node{}, near: map[string]bool{}}
	for _, e := range r.entries(n, what) {
		if !contains(known, e.key.Value) {
			r.unknown(pos(e.key), e.key.Value, what, known)
			o.near[formula.Nearest(e.key.Value, known)] = true
			continue
		}
		o.vals[e.key.Value] = r.resolve(e.value)
	}
	return o
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

func (r *reader) unknown(at crowd.Pos, key, what string, known []string) {
	if near := formula.Nearest(key, known); near != "" {
		r.Add(at, "%s has no key %q; did you mean %q?", what, key, near)
		return
	}
	r.Add(at, "%s has no key %q; its keys are %s", what, key, strings.Join(known, ", "))
}

func (o *object) get(key string) *yaml.Node { return o.vals[o.of.key(key).name] }

// value is get, or need where the table says that the key must be there.
func (o *object) value(key string) *yaml.Node {
	if example := o.of.key(key).need; example != "" {
		return o.need(key, example)
	}
	return o.get(key)
}

// need is get, and notes it when the key is missing.
func (o *object) need(key, example string) *yaml.Node {
	n := o.vals[key]
	if n == nil && o.node.Kind == yaml.MappingNode && !o.near[key] {
		o.r.Add(pos(o.node), "%s lacks %q; write, for example, %s: %s", o.what, key, key, example)
	}
	return n
}

// parse reads a scalar with a parser of its own; def stands where n is nil or wrong.
func parse[T any](r *reader, n *yaml.Node, what string, def T, parser func(string) (T, error)) T {
	if n == nil {
		return def
	}
	s, ok := r.scalar(n, what)
	if !ok {
		return def
	}
	v, err := parser(s)
	if err != nil {
		r.Add(pos(n), "%s: %s", what, err)
		return def
	}
	return v
}

// scalar is the plain text of a scalar.
func (r *reader) scalar(n *yaml.Node, what string) (string, bool) {
	n = r.resolve(n)
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.Add(pos(n), "%s must be a single value, not %s", what, describe(n))
		return "", false
	}
	return n.Value, true
}

func (r *reader) number(n *yaml.Node, what string, def float64) float64 {
	return parse(r, n, what, def, func(s string) (float64, error) {
		v, err := strconv.ParseFloat(strings.ReplaceAll(s, "_", ""), 64)
		if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
			return 0, fmt.Errorf("%q is not a number", s)
		}
		return v, nil
	})
}

func (r *reader) whole(n *yaml.Node, what string, def, low, high int64) int64 {
	return parse(r, n, what, def, func(s string) (int64, error) {
		digits, base := strings.ReplaceAll(s, "_", ""), 10
		if hex, is := strings.CutPrefix(digits, "0x"); is {
			digits, base = hex, 16
		}
		v, err := strconv.ParseInt(digits, base, 64)
		if err != nil {
			return def, fmt.Errorf("%q is not a whole number", s)
		}
		if v < low || v > high {
			return def, fmt.Errorf("%d is outside %d to %d", v, low, high)
		}
		return v, nil
	})
}

func (r *reader) boolean(n *yaml.Node, what string, def bool) bool {
	return parse(r, n, what, def, func(s string) (bool, error) {
		switch s {
		case "true", "True", "TRUE": // as YAML has them
			return true, nil
		case "false", "False", "FALSE":
			return false, nil
		}
		return def, fmt.Errorf("must be true or false, not %q", s)
	})
}

func (r *reader) word(n *yaml.Node, what string, def string, words ...string) string {
	return parse(r, n, what, def, func(s string) (string, error) {
		if contains(words, s) {
			return s, nil
		}
		if near := formula.Nearest(s, words); near != "" {
			return def, fmt.Errorf("%q is not known; did you mean %q?", s, near)
		}
		return def, fmt.Errorf("%q is not known; it is one of %s", s, strings.Join(words, ", "))
	})
}

// plain is a scalar as a value of its YAML type.
func (r *reader) plain(n *yaml.Node, what string) (signal.Value, bool) {
	n = r.resolve(n)
	s, ok := r.scalar(n, what)
	if !ok {
		return signal.Value{}, false
	}
	switch n.Tag {
	case "!!int":
		if v, err := strconv.ParseInt(s, 0, 64); err == nil {
			return signal.OfInt(v).Written(asWritten(s)), true
		}
		r.Add(pos(n), "%s: %s is too large for a whole number of 64 bits", what, s)
		return signal.Value{}, false
	case "!!float":
		if v, err := strconv.ParseFloat(s, 64); err == nil && !math.IsInf(v, 0) && !math.IsNaN(v) {
			return signal.OfFloat(v).Written(asWritten(s)), true
		}
		r.Add(pos(n), "%s: %s is not a number that a message can carry", what, s)
		return signal.Value{}, false
	case "!!bool":
		return signal.OfBool(s == "true" || s == "True" || s == "TRUE"), true
	}
	return signal.OfText(s), true
}

// isNumber tells whether a text is a number of JSON (RFC 8259, section 6).
func isNumber(s string) bool {
	_, is := crowd.Number(s)
	return is
}

// asWritten is a number's text where JSON can carry it as it stands.
func asWritten(s string) string {
	if isNumber(s) {
		return s
	}
	return ""
}

// list is a sequence; a single value stands for a list of one.
func (r *reader) list(n *yaml.Node, what string) []*yaml.Node {
	if n == nil {
		return nil
	}
	n = r.resolve(n)
	if n.Kind == yaml.SequenceNode {
		if r.nodes += len(n.Content); r.nodes > maxNodes {
			r.Add(pos(n), "the file's aliases unfold to more than %d values", maxNodes)
			return nil
		}
		return n.Content
	}
	if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		return []*yaml.Node{n}
	}
	r.Add(pos(n), "%s must be a list, not %s", what, describe(n))
	return nil
}

// text compiles a text with placeholders; nil where n is nil or wrong.
func (r *reader) text(n *yaml.Node, what string, env formula.Env) *formula.Text {
	if n == nil {
		return nil
	}
	s, ok := r.scalar(n, what)
	if !ok {
		return nil
	}
	t, err := formula.ParseText(s, env)
	if err != nil {
		r.formulaError(n, what, err)
		return nil
	}
	r.environment(pos(n), t.EnvNames())
	return t
}

// whereTo reads a text that says where something goes, such as a topic: a placeholder of another
// language in it is a mistake.
func (r *reader) whereTo(n *yaml.Node, what string, env formula.Env) *formula.Text {
	t := r.text(n, what, env)
	if t == nil {
		return nil
	}
	if found, write := t.Foreign(env); found != "" {
		at := pos(n)
		if i := strings.Index(n.Value, found); i >= 0 && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 {
			if at.Column += i; n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
				at.Column++
			}
		}
		r.Add(at, "%s: %s is sent as it stands; write %s", what, found, write)
	}
	return t
}

// formula compiles a formula; nil where it is wrong.
func (r *reader) formula(n *yaml.Node, what string, env formula.Env) *formula.Formula {
	s, ok := r.scalar(n, what)
	if !ok {
		return nil
	}
	f, err := formula.Compile(s, env)
	if err != nil {
		r.formulaError(n, what, err)
		return nil
	}
	r.environment(pos(n), f.EnvNames())
	return f
}

func (r *reader) formulaError(n *yaml.Node, what string, err error) {
	at := pos(n)
	var fe *formula.Error
	if errors.As(err, &fe) {
		// Inside a text of one line the column is exact; in a block text it is not known.
		if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 {
			at.Column += fe.Column
			if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
				at.Column++
			}
		}
	}
	r.Add(at, "%s: %s", what, err)
}

// environment takes the values of environment variables in as secrets.
func (r *reader) environment(at crowd.Pos, names []string) {
	for _, name := range names {
		value, set := r.from.Getenv(name)
		if !set && r.from.OnlyRead {
			if r.crowd.Env[name] = name; !slices.Contains(r.crowd.Unset, name) {
				r.crowd.Unset = append(r.crowd.Unset, name)
			}
			continue
		}
		if !set {
			if !r.missing[name] {
				r.missing[name] = true
				r.Add(at, "the environment variable %s is not set; set it, for example: export %s=…", name, name)
			}
			continue
		}
		r.crowd.Env[name] = value
		if !r.open[name] {
			r.crowd.Secret(value)
			if value != "" && len(value) < crowd.LeastSecret && !slices.Contains(r.crowd.ShortSecrets, name) {
				r.crowd.ShortSecrets = append(r.crowd.ShortSecrets, name)
			}
		}
	}
}
