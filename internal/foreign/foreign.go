// Package foreign shows texts that others made: brokers, servers, databases, programs, and
// whoever filled a roster, a recording or a run folder. Such a text is made harmless where it
// comes in, and in one way: it is one line, moves no cursor, paints nothing, turns no direction
// of writing, is of a bounded length, and stands between quotes where it stands beside words of
// ours.
package foreign

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Most is how many characters of a text are shown where it stands in a sentence.
const Most = 300

// Line is a text as one harmless line: what is no visible character is written as \n, \t, \u202e
// and the like, as in JSON. Beyond most characters it ends with …; 0: it is shown whole.
func Line(s string, most int) string {
	if plain(s, most) {
		return s
	}
	var b strings.Builder
	n := 0
	for len(s) > 0 {
		if n++; most > 0 && n > most {
			b.WriteString("…")
			break
		}
		r, size := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case !Harmless(r) && r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		case !Harmless(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteString(s[:size])
		}
		s = s[size:]
	}
	return b.String()
}

// plain tells whether a text is its own line: most are.
func plain(s string, most int) bool {
	if most > 0 && len(s) > most {
		return false
	}
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return true
}

// Harmless tells of a character that is seen, and does nothing else: no control (Unicode Cc), none
// that turns the direction, no separator of lines, no mark of byte order.
func Harmless(r rune) bool {
	return !unicode.IsControl(r) && !unicode.Is(unicode.Bidi_Control, r) && r != '\u2028' && r != '\u2029' && r != '\ufeff'
}

// Quote is a text as a line of at most Most characters, between quotes: for a place in a sentence
// of ours. White space at its ends is left out, and in it is one space.
func Quote(s string) string {
	return "“" + quotes.Replace(Line(strings.Join(strings.Fields(s), " "), Most)) + "”"
}

// quotes are ours alone.
var quotes = strings.NewReplacer("“", `"`, "”", `"`)

// Said is Quote after a colon; "" for a text with nothing in it.
func Said(s string) string {
	if strings.TrimSpace(s) == "" {
		return ""
	}
	return ": " + Quote(s)
}

// JSON is a JSON text (RFC 8259) in which what is no visible character is escaped: it stands in
// strings alone, so the text stays what it was.
func JSON(b []byte) []byte {
	i := bytes.IndexFunc(b, func(r rune) bool { return r != '\n' && r != '\t' && r != '\r' && !Harmless(r) })
	if i < 0 {
		return b
	}
	out := append(make([]byte, 0, len(b)+32), b[:i]...)
	for b = b[i:]; len(b) > 0; {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == '\n' || r == '\t' || r == '\r' || Harmless(r):
			out = append(out, b[:n]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		b = b[n:]
	}
	return out
}

// Cell is a text for a cell of CSV (RFC 4180): a line, and nothing that a spreadsheet takes for a
// formula. Such a text begins with an apostrophe; a number does not.
func Cell(s string) string {
	s = Line(s, 0)
	if s == "" || !strings.ContainsRune("=@+-", rune(s[0])) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}
