package crowd

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
)

// hidden stands where a secret stood.
const hidden = "«secret»"

// clipped ends a text that was cut off.
const clipped = "…"

// start is how the forms of secrets are found: by their first bytes. A roster may bring a
// secret for each of many devices: looking for one after the other would take as long as
// all texts times all secrets.
type start [4]byte

// alike are the forms that begin alike.
type alike struct {
	lengths []int // that they have, the longest first
	forms   map[string]bool
}

// redactor finds secrets, in all their forms. Adding one costs no more than its forms do.
type redactor struct {
	mu     sync.RWMutex
	by     map[start]*alike
	all    []string
	sorted bool // all is
}

// add makes a secret one to be found.
func (r *redactor) add(secret string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.by == nil {
		r.by = map[start]*alike{}
	}
	for _, f := range forms(secret) {
		k := start([]byte(f[:leastForm]))
		x := r.by[k]
		if x == nil {
			x = &alike{forms: map[string]bool{}}
			r.by[k] = x
		}
		if x.forms[f] {
			continue
		}
		x.forms[f] = true
		at := sort.Search(len(x.lengths), func(i int) bool { return x.lengths[i] <= len(f) })
		if at == len(x.lengths) || x.lengths[at] != len(f) {
			x.lengths = slices.Insert(x.lengths, at, len(f))
		}
		r.all, r.sorted = append(r.all, f), false
	}
}

// only makes some secrets those to be found.
func (r *redactor) only(secrets []string) {
	r.mu.Lock()
	r.by, r.all = nil, nil
	r.mu.Unlock()
	for _, s := range secrets {
		r.add(s)
	}
}

// LeastSecret is how long a secret must be, in bytes, to be masked: shorter ones would black
// out half of every text.
const LeastSecret = 4

const leastForm = LeastSecret

// forms are the ways in which a secret is written: plain, escaped for an address (RFC
// 3986), in a JSON text (RFC 8259), as a part of base64 (RFC 4648), as a line of somebody else's
// text, and as the functions of formulas make it; hexadecimal digits in both cases.
func forms(s string) []string {
	list := append(formula.Forms(s), s, url.QueryEscape(s), url.PathEscape(s), foreign.Line(s, 0),
		strings.Trim(foreign.Quote(s), "“”"), strings.Join(strings.Fields(s), " "))
	for _, f := range list[:len(list):len(list)] {
		if escape.MatchString(f) {
			list = append(list, escape.ReplaceAllStringFunc(f, strings.ToLower), escape.ReplaceAllStringFunc(f,
				strings.ToUpper))
		}
	}
	list = append(list, strings.ToUpper(hex.EncodeToString([]byte(s))))
	if quoted, err := json.Marshal(s); err == nil {
		list = append(list, string(quoted[1:len(quoted)-1]))
	}
	var plain strings.Builder
	e := json.NewEncoder(&plain)
	e.SetEscapeHTML(false)
	if e.Encode(s) == nil {
		list = append(list, strings.TrimSuffix(plain.String()[1:], "\"\n"))
	}
	ascii := strconv.QuoteToASCII(s)
	list = append(list, ascii[1:len(ascii)-1])
	for before := range 3 {
		for _, in := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			// The first and last figures depend on what stands beside the secret.
			text := in.EncodeToString(append(make([]byte, before), s...))[[3]int{0, 2, 3}[before]:]
			if (before+len(s))%3 != 0 {
				text = text[:len(text)-1]
			}
			if len(text) >= 2*leastForm {
				list = append(list, text)
			}
		}
	}
	return slices.DeleteFunc(list, func(f string) bool { return len(f) < leastForm })
}

// escape is a byte as %XX (RFC 3986, section 2.1).
var escape = regexp.MustCompile(`%[0-9A-Fa-f]{2}`)

func (r *redactor) redact(text string) string {
	if r.mustSort(text) {
		r.mu.Lock()
		slices.Sort(r.all)
		r.sorted = true
		r.mu.Unlock()
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	if len(r.by) == 0 || len(text) < leastForm {
		return text
	}
	if r.sorted && strings.Contains(text, clipped) {
		text = r.cutOff(text)
	}
	var b strings.Builder
	done := 0
	for i := 0; i+leastForm <= len(text); {
		n := r.match(text[i:])
		if n == 0 {
			i++
			continue
		}
		b.WriteString(text[done:i])
		b.WriteString(hidden)
		i += n
		done = i
	}
	if done > 0 {
		b.WriteString(text[done:])
		text = b.String()
	}
	return text
}

// mustSort tells whether the forms must be put in order first.
func (r *redactor) mustSort(text string) bool {
	if !strings.Contains(text, clipped) {
		return false
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return !r.sorted
}

// match is how long the secret is that a text begins with; 0: it does not.
func (r *redactor) match(text string) int {
	x := r.by[start([]byte(text[:leastForm]))]
	if x == nil {
		return 0
	}
	for _, n := range x.lengths {
		if n <= len(text) && x.forms[text[:n]] {
			return n
		}
	}
	return 0
}

// cutOff takes the beginnings of secrets out that stand where a text was clipped.
func (r *redactor) cutOff(text string) string {
	parts := strings.Split(text, clipped)
	for k, part := range parts[:len(parts)-1] {
		for i := max(0, len(part)-400); i+leastForm <= len(part); i++ {
			if at := sort.SearchStrings(r.all, part[i:]); at < len(r.all) && strings.HasPrefix(r.all[at], part[i:]) {
				parts[k] = part[:i] + hidden
				break
			}
		}
	}
	return strings.Join(parts, clipped)
}
