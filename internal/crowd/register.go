package crowd

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// Register says how devices are registered with the platform and removed, and what is
// kept of its answers.
type Register struct {
	Pos        Pos
	Requests   []*Request
	Save       []Save
	Names      *NameRule // that the platform has for names; nil: none is known
	Pace       quantity.Rate
	Wait       time.Duration // how long the list may take to show what was done
	Unregister *Request      // nil: devices cannot be removed
	List       *Listing      // nil: the platform cannot be asked whom it knows
	Link       *Link         // HTTP: whose TLS, user or access token the requests use; nil: none
}

// NameRule is what names a platform takes: they cannot be changed later.
type NameRule struct {
	Pos     Pos
	Pattern *regexp.Regexp // that the whole name matches; nil: any
	Most    int            // characters; 0: any number
}

// Check tells what is wrong with a name.
func (r *NameRule) Check(name string) error {
	if n := utf8.RuneCountInString(name); r.Most > 0 && n > r.Most {
		return fmt.Errorf("%q has %d characters, and the platform takes %d at most", name, n, r.Most)
	}
	if r.Pattern != nil && !r.Pattern.MatchString(name) {
		return fmt.Errorf("%q is no name that the platform takes", name)
	}
	return nil
}

// Request is a request that is made for a device; its texts are compiled for each
// group of devices.
type Request struct {
	Pos      Pos
	Method   string
	OKStatus []int
	Parts    map[*Cast]*RequestParts // by group of devices
}

// RequestParts are the texts of a request for the devices of a cast.
type RequestParts struct {
	URL     *formula.Text
	Headers []Header
	Body    *formula.Text // nil: none
}

// For gives the texts for the devices of a cast.
func (q *Request) For(c *Cast) *RequestParts { return q.Parts[c] }

// Save is a value of the answer to a request, by its place among the requests, that
// becomes a property of the device: a secret, unless it is public.
type Save struct {
	Name, Path string
	Request    int
	Public     bool
}

// Listing says how the platform tells whom it knows.
type Listing struct {
	Get     string
	Headers []Header
	Names   string // jq: the names in an answer
	Next    string // jq: the address of the next page; empty: there is one page
}

// Registered is what is known of one device that was registered: it is kept in a file
// beside the crowd file that its owner alone can read.
type Registered struct {
	Device string     `json:"device"`
	Made   *time.Time `json:"made,omitempty"`
	// Asked is when it was asked for, where no answer told whether it was made.
	Asked *time.Time `json:"asked,omitempty"`
	// Removed is when the platform agreed to remove it, which was not proven yet.
	Removed *time.Time        `json:"removed,omitempty"`
	Gone    *time.Time        `json:"gone,omitempty"`
	Kept    map[string]string `json:"kept,omitempty"`
	// Steps is how many of the requests were answered, where not all were.
	Steps int `json:"requests_answered,omitempty"`
}

// Stdin is the path of a crowd file that is read from standard input.
const Stdin = "-"

// RegisteredFile is the path of that file. Of a crowd file from standard input it has the
// crowd's name, and is in the current folder.
func (c *Crowd) RegisteredFile() string {
	if c.Path == Stdin {
		return c.Name + ".registered.jsonl"
	}
	base := filepath.Base(c.Path)
	for _, ext := range []string{".yaml", ".yml"} {
		base = strings.TrimSuffix(base, ext)
	}
	return filepath.Join(filepath.Dir(c.Path), base+".registered.jsonl")
}

// ReadRegistered reads which devices were registered; later lines win, and a torn last line is
// that of a process that was killed.
func ReadRegistered(data []byte) map[string]Registered {
	book := map[string]Registered{}
	for line := range bytes.Lines(data) {
		var e Registered
		if json.Unmarshal(line, &e) != nil || e.Device == "" {
			continue
		}
		if e.Gone != nil {
			delete(book, e.Device)
		} else {
			book[e.Device] = e
		}
	}
	return book
}
