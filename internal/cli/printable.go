package cli

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"sync"
	"unicode/utf8"

	"runcrowd/internal/foreign"
)

// printer writes text for people, and is a second line of defence: what others say is made
// harmless where it comes in (see the package foreign). What still holds characters that move the
// cursor, repaint the screen or turn the direction of writing shows them as \u001b and the like.
// Our own colours pass where there are any. Data (JSON, CSV, bodies) does not come through here.
type printer struct {
	w       io.Writer
	colored func() bool

	mu  sync.Mutex
	cut []byte // the beginning of a character, whose rest is still to come
	err error  // the first that kept a text from being written
}

// Write implements io.Writer. Whole texts are written at once.
func (p *printer) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	text := append(p.cut, b...)
	whole := len(text)
	for i := 1; i < utf8.UTFMax && i <= len(text); i++ {
		if utf8.RuneStart(text[len(text)-i]) {
			if !utf8.FullRune(text[len(text)-i:]) {
				whole -= i
			}
			break
		}
	}
	p.cut = bytes.Clone(text[whole:])
	if _, err := p.w.Write(printableBytes(text[:whole], p.colored())); err != nil {
		if p.err == nil {
			p.err = err
		}
		return 0, err
	}
	return len(b), nil
}

// end writes what was held back as the beginning of a character that never ended.
func (p *printer) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.cut) > 0 {
		p.w.Write(printableBytes(p.cut, false))
		p.cut = nil
	}
}

// failed is why something could not be written; nil: all was.
func (p *printer) failed() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.err
}

// rawWriter writes bodies as they are, to where a printer writes, and lets it know of errors.
type rawWriter struct{ p *printer }

// Write implements io.Writer.
func (r rawWriter) Write(b []byte) (int, error) {
	n, err := r.p.w.Write(b)
	if err != nil {
		r.p.mu.Lock()
		defer r.p.mu.Unlock()
		if r.p.err == nil {
			r.p.err = err
		}
	}
	return n, err
}

// ourColors are the sequences that colours of ours are made of (ECMA-48, section
// 8.3.117).
var ourColors = regexp.MustCompile(`^\x1b\[(0|1|2|22|31|32|33|90)(;(1|2|31|32|33|90))*m`)

// printableBytes makes foreign characters visible.
func printableBytes(b []byte, colored bool) []byte {
	clean := true
	for i := 0; i < len(b) && clean; i++ {
		clean = b[i] == '\n' || b[i] == '\t' || b[i] >= ' ' && b[i] <= '~'
	}
	if clean {
		return b
	}
	out := make([]byte, 0, len(b)+32)
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, b[0])
		case r == 0x1b && colored && ourColors.Match(b):
			n = len(ourColors.Find(b))
			out = append(out, b[:n]...)
		case r == '\n' || r == '\t' || foreign.Harmless(r):
			out = append(out, b[:n]...)
		case r > 0xffff:
			out = fmt.Appendf(out, `\U%08x`, r)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		b = b[n:]
	}
	return out
}
