// Package sqltext reads the text of an SQL query: the named parameters in it, such as
// @from, and whether it only reads. It knows how databases write texts, names and comments
// (ISO/IEC 9075-2, section 5, and what PostgreSQL and MySQL add), so that what stands in
// these is no parameter.
package sqltext

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Dialect is how a database writes what is no standard.
type Dialect struct {
	Backslash bool // \' in a text is a quote (MySQL)
	Hash      bool // # begins a comment (MySQL)
	Spaced    bool // -- begins one only with white space behind it (MySQL)
	Dollar    bool // $tag$ quotes (PostgreSQL)
	Nested    bool // comments nest (PostgreSQL)
}

// Kind is a sort of database.
type Kind uint8

// The databases.
const (
	PostgreSQL Kind = iota + 1
	MySQL           // and MariaDB
	SQLite
)

func (k Kind) String() string { return [...]string{"", "PostgreSQL", "MySQL", "SQLite"}[k] }

// Booleans tells whether the database keeps truth values as such; others keep 0 and 1.
func (k Kind) Booleans() bool { return k == PostgreSQL }

// Dialect is how it writes what is no standard.
func (k Kind) Dialect() Dialect {
	return Dialect{Backslash: k == MySQL, Hash: k == MySQL, Spaced: k == MySQL, Dollar: k == PostgreSQL,
		Nested: k == PostgreSQL}
}

// KindOf is the kind of database at an address. The error does not tell the address: a
// password may stand in it.
func KindOf(address string) (Kind, error) {
	scheme, _, is := strings.Cut(address, ":")
	switch {
	case is && (scheme == "postgres" || scheme == "postgresql"):
		return PostgreSQL, nil
	case is && (scheme == "mysql" || scheme == "mariadb"):
		return MySQL, nil
	case is && scheme == "sqlite":
		return SQLite, nil
	}
	return 0, errors.New("the address has to begin with postgres://, mysql://, mariadb:// or sqlite:, as in sqlite:PATH")
}

// Parameters are the names that a query of a witness may use, without the @.
var Parameters = []string{"from", "to", "from_s", "to_s", "from_ms", "to_ms", "device", "devices"}

// Query is a query that was read.
type Query struct {
	parts []part
}

// part is a stretch of text, or a parameter.
type part struct {
	text  string
	param bool // text is its name
}

// Error is what is wrong with a query, and where in it.
type Error struct {
	At   int // bytes from the beginning
	Text string
}

func (e *Error) Error() string { return e.Text }

// Parse reads a query. Known are the names that parameters may have, without the @. The
// error is an *Error.
func Parse(s string, d Dialect, known []string) (*Query, error) {
	r := reader{s: s, d: d, known: known}
	if err := r.read(); err != nil {
		return nil, err
	}
	return &Query{r.parts}, nil
}

// Names are the parameters that stand in the query, each once, in order.
func (q *Query) Names() (list []string) {
	for _, p := range q.parts {
		if p.param && !slices.Contains(list, p.text) {
			list = append(list, p.text)
		}
	}
	return list
}

// Write writes the query; place gives what stands for a parameter, each time that it comes.
func (q *Query) Write(place func(name string) string) string {
	var b strings.Builder
	for _, p := range q.parts {
		if p.param {
			b.WriteString(place(p.text))
		} else {
			b.WriteString(p.text)
		}
	}
	return b.String()
}

type reader struct {
	s     string
	d     Dialect
	known []string
	at    int // read so far
	from  int // of the stretch
	parts []part
	first string // word
	last  string // word
	ended bool   // a semicolon came
}

func (r *reader) wrong(at int, format string, args ...any) error {
	return &Error{at, fmt.Sprintf(format, args...)}
}

func (r *reader) rest() string { return r.s[r.at:] }

func (r *reader) read() error {
	if i := strings.IndexByte(r.s, 0); i >= 0 {
		return r.wrong(i, "it has a zero byte in it")
	}
	for r.at < len(r.s) {
		c := r.s[r.at]
		rest := r.rest()
		var err error
		switch {
		case strings.HasPrefix(rest, "--") && (!r.d.Spaced || len(rest) == 2 || rest[2] <= ' '), c == '#' && r.d.Hash:
			if i := strings.IndexByte(rest, '\n'); i >= 0 {
				r.at += i + 1
			} else {
				r.at = len(r.s)
			}
			continue
		case strings.HasPrefix(rest, "/*"):
			err = r.comment()
			if err != nil {
				return err
			}
			continue
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			r.at++
			continue
		}
		if r.ended {
			return r.wrong(r.at, "it has more than one statement; leave out what comes after the semicolon")
		}
		switch {
		case c == '\'':
			err = r.quoted('\'', r.d.Backslash || r.escapes())
		case c == '"' || c == '`':
			err = r.quoted(c, c == '"' && r.d.Backslash)
		case c == ';':
			r.flush()
			r.ended = true
			r.at++
			continue
		case c == '$' && r.d.Dollar:
			err = r.dollar()
		case c == '@':
			err = r.parameter()
		case letter(rest):
			if err := r.word(); err != nil {
				return err
			}
			if r.first == "select" || r.first == "with" || r.first == "values" || r.first == "table" {
				continue
			}
			err = r.wrong(r.at-len(r.first), "it begins with %s; a witness only reads: write a SELECT", strings.ToUpper(r.first))
		default:
			if r.first == "" && c != '(' {
				return r.wrong(r.at, "it does not begin with SELECT")
			}
			_, n := utf8.DecodeRuneInString(rest)
			r.at += n
		}
		if err != nil {
			return err
		}
	}
	if !r.ended {
		r.flush()
	}
	if r.first == "" {
		return r.wrong(0, "it is empty; write a SELECT")
	}
	return nil
}

// flush ends a stretch of text.
func (r *reader) flush() {
	if r.from < r.at {
		r.parts = append(r.parts, part{text: r.s[r.from:r.at]})
	}
	r.from = r.at
}

// letter tells whether a word begins.
func letter(s string) bool {
	c, _ := utf8.DecodeRuneInString(s)
	return c == '_' || unicode.IsLetter(c)
}

// word reads a word, and refuses those that write in a SELECT: a transaction that only reads
// does not keep MySQL from writing files, nor from locking rows.
func (r *reader) word() error {
	begin := r.at
	for r.at < len(r.s) {
		c, n := utf8.DecodeRuneInString(r.rest())
		if c != '_' && c != '$' && !unicode.IsLetter(c) && !unicode.IsDigit(c) {
			break
		}
		r.at += n
	}
	word := strings.ToLower(r.s[begin:r.at])
	last := r.last
	if r.last = word; r.first == "" {
		r.first = word
	}
	switch {
	case word == "into":
		return r.wrong(begin, "INTO writes, and a witness only reads")
	case last == "for" && (word == "update" || word == "share" || word == "no" || word == "key"):
		return r.wrong(begin, "FOR %s locks rows, and a witness only reads", strings.ToUpper(word))
	}
	return nil
}

// escapes tells whether the quote that begins here is of a text in which a backslash
// escapes, as E'…' is in PostgreSQL.
func (r *reader) escapes() bool {
	if r.at == 0 || r.s[r.at-1] != 'E' && r.s[r.at-1] != 'e' {
		return false
	}
	return r.at == 1 || !letter(r.s[r.at-2:]) && (r.s[r.at-2] < '0' || r.s[r.at-2] > '9')
}

func (r *reader) quoted(quote byte, backslash bool) error {
	begin := r.at
	for r.at++; r.at < len(r.s); r.at++ {
		switch c := r.s[r.at]; {
		case c == '\\' && backslash:
			r.at++
		case c == quote && r.at+1 < len(r.s) && r.s[r.at+1] == quote:
			r.at++
		case c == quote:
			r.at++
			return nil
		}
	}
	r.at = len(r.s)
	return r.wrong(begin, "a text or name that begins with %c does not end", quote)
}

func (r *reader) comment() error {
	begin := r.at
	if strings.HasPrefix(r.rest(), "/*!") || strings.HasPrefix(r.rest(), "/*M!") {
		return r.wrong(begin, "a comment that the database executes may do anything; leave it out")
	}
	depth := 0
	for r.at < len(r.s) {
		switch rest := r.rest(); {
		case strings.HasPrefix(rest, "/*") && (depth == 0 || r.d.Nested):
			depth++
			r.at += 2
		case strings.HasPrefix(rest, "*/"):
			r.at += 2
			if depth--; depth == 0 {
				return nil
			}
		default:
			r.at++
		}
	}
	return r.wrong(begin, "a comment does not end")
}

// dollar reads a text between $tag$ and $tag$ (PostgreSQL).
func (r *reader) dollar() error {
	rest := r.rest()
	end := strings.IndexByte(rest[1:], '$')
	if end < 0 || strings.ContainsFunc(rest[1:1+end], func(c rune) bool {
		return c != '_' && !unicode.IsLetter(c) &&
			!unicode.IsDigit(c)
	}) || end > 0 && !letter(rest[1:]) {
		return r.wrong(r.at, "$ stands for a parameter of the database; write one of %s", r.list())
	}
	tag := rest[:end+2]
	close := strings.Index(rest[len(tag):], tag)
	if close < 0 {
		return r.wrong(r.at, "a text that begins with %s does not end", tag)
	}
	r.at += len(tag) + close + len(tag)
	return nil
}

func (r *reader) list() string { return "@" + strings.Join(r.known, ", @") }

// parameter reads @name. Other things that begin so, such as the operator @>, stay.
func (r *reader) parameter() error {
	begin := r.at
	if strings.HasPrefix(r.rest(), "@@") {
		r.at += 2
		return nil
	}
	if !letter(r.s[r.at+1:]) {
		r.at++
		return nil
	}
	end := r.at + 1
	for end < len(r.s) {
		c, n := utf8.DecodeRuneInString(r.s[end:])
		if c != '_' && !unicode.IsLetter(c) && !unicode.IsDigit(c) {
			break
		}
		end += n
	}
	name := r.s[begin+1 : end]
	if !slices.Contains(r.known, name) {
		return r.wrong(begin, "there is no parameter @%s; there are %s", name, r.list())
	}
	r.flush()
	r.parts = append(r.parts, part{name, true})
	r.at, r.from = end, end
	return nil
}
