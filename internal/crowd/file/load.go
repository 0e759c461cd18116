package file

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// linkNode is what a link says that is compiled for each group of devices.
type linkNode struct {
	source                                                        *yaml.Node // the mapping it was read from
	query, signing                                                *yaml.Node
	clientID, username, password, headers, cert, key, token, path *yaml.Node
	expiredCert, expiredKey                                       *yaml.Node
}

type kindNode struct {
	properties, readings, commands []entry
	will, presence                 *yaml.Node
	what                           string
}

// Sources are where a crowd file's surroundings come from.
type Sources struct {
	Getenv func(string) (string, bool)
	// Open reads a file that the crowd file names; nil reads it from the disk,
	// seen from the crowd file's folder.
	Open func(name string) ([]byte, error)
	// WithoutValues leaves recorded values unread: for judging a run, which has
	// sent them already.
	WithoutValues bool
	// WithoutCertificates leaves certificates unread: they may not be made yet.
	WithoutCertificates bool
	// OnlyRead: nobody is sent anything, and nothing outside the crowd file and what Open gives is
	// needed. A variable that is not set stands for itself; certificates and recorded values stay
	// unread.
	OnlyRead bool
	// Tell, if not nil, is told what takes long, every few seconds.
	Tell func(text string)
}

// Load reads the crowd file at path, and the files that it names. The error is a
// *crowd.Problems when the file could be read but has mistakes.
func Load(path string) (*crowd.Crowd, error) { return LoadChanged(path, nil, nil) }

// Parse is Load for a text.
func Parse(path string, source []byte, from Sources) (*crowd.Crowd, error) {
	if from.OnlyRead {
		from.WithoutValues, from.WithoutCertificates = true, true
	}
	if from.Getenv == nil {
		from.Getenv = func(string) (string, bool) { return "", false }
	}
	c := &crowd.Crowd{Path: path, Source: source, Env: formula.Secrets{}}
	r := &reader{Problems: crowd.NewProblems(path, source), missing: map[string]bool{}, open: map[string]bool{},
		from: from, crowd: c,
		files: map[string]*crowd.File{}, recordings: map[string]*recordedFile{}, links: map[*crowd.Link]*linkNode{},
		kinds:  map[*crowd.Kind]*kindNode{},
		layers: map[*crowd.Cast][]layer{}, changed: map[*crowd.Cast]map[*change]*crowd.Cast{}}
	if root := r.document(source); root != nil {
		r.root(root)
	}
	if len(r.List) == 0 {
		r.members()
		r.guests()
		r.befall()
	}
	r.Hide(c.Secrets())
	if err := r.Err(); err != nil {
		return nil, err
	}
	return c, nil
}

// nameRE is the pattern of names of crowds, links, kinds, readings and the like.
const nameRE = `^[\p{L}\p{N}][\p{L}\p{N}._-]*$`

var (
	namePattern  = regexp.MustCompile(nameRE)
	placePattern = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]*(\.[\p{L}_][\p{L}\p{N}_]*)*$`)
	fieldPattern = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]*$`)
)

// name checks a name that appears in marks, paths of the run folder and reports.
func (r *reader) name(n *yaml.Node, what, name string) string {
	if !namePattern.MatchString(name) || len(name) > 100 {
		r.Add(pos(n), "%s: %q is not a name; a name has letters, digits, - _ and . and begins with a letter or digit", what,
			name)
	}
	return name
}

func (r *reader) root(root *yaml.Node) {
	c := r.crowd
	o := r.object(root, "the crowd file", rootMap)
	if n := o.need("crowd", "my-crowd"); n != nil {
		if s, ok := r.scalar(n, "crowd"); ok {
			c.Name = r.name(n, "crowd", s)
		}
	}
	c.Seed = uint64(o.whole("seed"))
	if n := o.need("links", "{sea: {mqtt: mqtt://127.0.0.1:1883}}"); n != nil {
		r.readLinks(n)
	}
	mark := crowd.Mark{Place: crowd.MarkField, Name: "mark"}
	if n := o.get("mark"); n != nil {
		mark = r.mark(n, mark)
	}
	if n := o.get("register"); n != nil {
		r.saves(n)
	}
	if n := o.need("kinds", "{buoy: {link: sea, readings: {…}}}"); n != nil {
		r.readKinds(n, mark)
	}
	if n := o.need("devices", "[{kind: buoy, count: 10}]"); n != nil {
		r.devices(n)
	}
	if n := o.get("register"); n != nil {
		r.registration(n)
	}
	if n := o.need("plan", "{for: 1m}"); n != nil {
		r.plan(n)
	}
	for _, cast := range c.Casts {
		r.sequencesFit(cast)
	}
	if n := o.get("witnesses"); n != nil {
		r.witnesses(n)
	}
	if n := o.get("alerts"); n != nil {
		r.alerts(n)
	}
	r.require(o.get("require"))
	r.results(o.get("results"))
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

// span reads a duration between two bounds.
func (r *reader) span(n *yaml.Node, what string, def, low, high time.Duration) time.Duration {
	return parse(r, n, what, def, func(s string) (time.Duration, error) {
		d, err := quantity.ParseDuration(s)
		if err != nil {
			return def, err
		}
		if d < low {
			if low <= time.Millisecond && d <= 0 {
				return def, fmt.Errorf("must be longer than zero, not %s", s)
			}
			return def, fmt.Errorf("%s is too short; the least is %s", s, quantity.FormatDuration(low))
		}
		if d > high {
			return def, fmt.Errorf("%s is too long; the most is %s", s, quantity.FormatDuration(high))
		}
		return d, nil
	})
}

var (
	secretName = regexp.MustCompile(
		`(?i)(^|-)(passwords?|passwd|passphrase|passcode|pwd|pw|psk|secrets?|tokens?|authorization|auth|bearer|cookie|credentials?|private|sas|signature|api-?key|apikey|keys?|access-?key)($|-)`)
	camel = regexp.MustCompile(`([a-z0-9])([A-Z])`)
)

// LooksSecret tells whether a name is one that secrets have: password, api_key, WriteKey.
func LooksSecret(name string) bool {
	name = camel.ReplaceAllString(name, "$1-$2")
	return secretName.MatchString(strings.NewReplacer("_", "-", ".", "-", " ", "-").Replace(name))
}

// secretText registers a text as secret where it has no placeholder; of a header also what
// stands behind the scheme, and what that is in base64 (RFC 7617).
func (r *reader) secretText(n *yaml.Node, t *formula.Text) {
	if t == nil || !t.Fixed() || t.Source() == "" {
		return
	}
	s := t.Source()
	r.crowd.Literal(pos(n), s)
	scheme, rest, is := strings.Cut(s, " ")
	if !is || rest == "" {
		return
	}
	r.crowd.Secret(rest)
	if plain, err := base64.StdEncoding.DecodeString(rest); err == nil && strings.EqualFold(scheme, "Basic") {
		_, password, _ := strings.Cut(string(plain), ":")
		r.crowd.Secret(password)
	}
}

var queryPart = regexp.MustCompile(`[?&;]([^=&;#?]+)=([^&;#]*)`)

// addressSecrets registers what is secret in an address, as it stands in the file or as it
// was put in: a password, which does not belong there, and parameters such as key.
func (r *reader) addressSecrets(n *yaml.Node, what, s string) {
	host, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(s, "https://"), "http://"), "/")
	if host != s && strings.Contains(host, "@") {
		r.hidePassword(n, s)
		r.Add(pos(n), "%s: user name and password do not belong into the address; write headers: {Authorization: …} beside "+
			"it", what)
	}
	for _, m := range queryPart.FindAllStringSubmatch(s, -1) {
		if value := m[2]; LooksSecret(m[1]) && value != "" && !strings.Contains(value, "${") {
			r.crowd.Literal(pos(n), value)
			if plain, err := url.QueryUnescape(value); err == nil {
				r.crowd.Secret(plain)
			}
		}
	}
}

func (r *reader) noSuch(n *yaml.Node, what, sort, name string, known []string) {
	r.Add(pos(n), "%s: there is no %s %q%s", what, sort, name, formula.Hint(name, known))
}

// parseJoin reads "at once", "spread over 10s" or "20/s".
func parseJoin(s string) (crowd.Join, error) {
	if s == "at once" {
		return crowd.Join{}, nil
	}
	if d, ok := strings.CutPrefix(s, "spread over "); ok {
		over, err := quantity.ParseDuration(d)
		if err == nil && over < 0 {
			err = fmt.Errorf("%q is negative", d)
		}
		return crowd.Join{Over: over}, err
	}
	if strings.Contains(s, "/") {
		rate, err := quantity.ParseRate(s)
		return crowd.Join{Rate: rate}, err
	}
	return crowd.Join{}, fmt.Errorf("%q is not known; write at once, spread over 10s, or a rate such as 20/s", s)
}
