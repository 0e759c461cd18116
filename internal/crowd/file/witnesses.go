package file

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
	"runcrowd/internal/rowfile"
	"runcrowd/internal/sqltext"
)

// sortOfWitness is a way in which a witness looks.
type sortOfWitness struct {
	key, name string
	keys      []string
}

// sortsOfWitness are the ways in which a witness looks: the key that says where, what such a
// witness is called, and the keys that go with it beside those that go with all.
var sortsOfWitness = []sortOfWitness{
	{"subscribe", "a subscription", []string{"link", "username", "password", "cert", "key", "qos", "topic", "queue"}},
	{"callback", "a callback", []string{"rows", "require_headers", "respond", "cert", "key"}},
	{"get", "a query", queryKeys},
	{"post", "a query", append([]string{"query"}, queryKeys...)},
	{"sql", "a database", []string{"query", "zone", "timeout", "row", "limit", "pace", "max_row", "body", "count"}},
	{"file", "files", []string{"form", "row", "max_row", "body", "count"}},
	{"program", "a program", []string{"timeout", "row", "limit", "pace", "max_answer", "max_row", "body", "count"}},
}

var queryKeys = []string{"link", "headers", "signing", "timeout", "form", "rows", "row", "next", "page", "total", "limit", "pace",
	"max_answer", "max_row", "body", "count"}

// everyWitness are the keys that go with all sorts.
var everyWitness = []string{"proves", "who", "shows", "time", "mark", "device", "reading", "values", "fields", "wait",
	"watch_copies", "shift", "cut"}

func (r *reader) witnesses(n *yaml.Node) {
	for _, e := range r.entries(n, "witnesses") {
		name := r.name(e.key, "witnesses", e.key.Value)
		what := fmt.Sprintf("the witness %q", name)
		o := r.object(e.value, what, witnessMap)
		if o.node.Kind != yaml.MappingNode {
			continue
		}
		w := &crowd.Witness{Name: name, Pos: pos(e.key), Topics: map[*crowd.Cast]*formula.Text{},
			Addresses: map[*crowd.Cast]*formula.Text{}, Words: map[*crowd.Cast][]*formula.Text{}}
		r.crowd.Witnesses = append(r.crowd.Witnesses, w)
		before := len(r.List)
		r.proves(w, o, what)
		switch {
		case w.Sees():
			r.misplaced(o, what, "a witness of single messages", "count")
		case w.Hears:
			r.misplaced(o, what, "proves: alerts", "who", "mark", "device", "reading", "values", "fields", "topic", "body",
				"count")
		case w.Counts:
			r.misplaced(o, what, "proves: counts", "subscribe", "callback", "time", "mark", "reading", "values", "fields",
				"topic", "body", "row", "link", "next", "page", "total")
		}
		r.blind = r.blind || len(r.List) > before
		w.Who = r.selections(o.get("who"), what+": who")
		r.place(w, o, what)
		timeNode := o.get("time")
		if timeNode != nil && r.resolve(timeNode).Kind == yaml.MappingNode {
			t := r.object(timeNode, what+": time", rowTimeMap)
			timeNode = t.need("at", ".stored_at")
			w.TimeOf = t.word("of")
		}
		for key, into := range map[string]*string{"rows": &w.Rows, "time": &w.Time, "mark": &w.Mark, "device": &w.Device,
			"reading": &w.Reading, "values": &w.Values, "body": &w.Body, "next": &w.Next, "row": &w.Row, "count": &w.Count,
			"total": &w.Total} {
			jn := o.get(key)
			if key == "time" {
				jn = timeNode
			}
			if jn != nil {
				check := checkJQ
				if key == "next" || key == "total" {
					check = checkPageJQ
				}
				if o.get("sql") != nil || o.get("file") != nil || o.get("program") != nil {
					check = func(s string) (string, error) { return columnOrJQ(w, s) }
				}
				*into = parse(r, jn, what+": "+key, "", check)
			}
		}
		slices.Sort(w.Columns)
		w.Columns = slices.Compact(w.Columns)
		r.pageParams(w, o.get("page"), what+": page")
		if w.Next != "" && len(w.Page) > 0 {
			r.Add(pos(o.get("page")), "%s has both next and page; next gives a whole address, page the value of a parameter: "+
				"leave one out", what)
		}
		w.Pace = parse(r, o.get("pace"), what+": pace", 0, quantity.ParseRate)
		if n := o.get("limit"); n != nil && n.Value == "none" {
			w.Limit = crowd.NoLimit
		} else if n != nil {
			w.Limit = r.whole(n, what+": limit", 0, 1, 1<<40)
		}
		w.MaxAnswer, w.MaxRow = o.size("max_answer"), o.size("max_row")
		r.fieldRules(w, o.get("fields"), what+": fields")
		w.WatchCopies = o.span("watch_copies")
		w.Queue = int(o.whole("queue"))
		w.Latest = o.word("shows") == "latest"
		w.Wait = o.span("wait")
		w.Timeout = o.span("timeout")
		w.Shift = parse(r, o.get("shift"), what+": shift", 0, quantity.ParseDuration)
		if o.get("cut") != nil {
			w.Cut = map[string]time.Duration{"s": time.Second, "ms": time.Millisecond, "us": time.Microsecond}[o.word("cut")]
		}
	}
}

// proves reads what a witness looks for. Where that cannot be read, it is taken for a
// witness of messages, so that the mistake is told once.
func (r *reader) proves(w *crowd.Witness, o *object, what string) {
	n := o.need("proves", "received")
	if n != nil {
		list := []*yaml.Node{n}
		if n.Kind == yaml.SequenceNode {
			list = n.Content
		}
		seen := map[string]bool{}
		for _, x := range list {
			name := r.word(x, what+": proves", "", provable...)
			if name != "" && seen[name] {
				r.Add(pos(x), "%s: proves: %s stands there twice", what, name)
			}
			seen[name] = true
			switch name {
			case "received":
				w.Proves = proof.Received
			case "stored":
				w.Proves = proof.Stored
			case "alerts":
				w.Hears = true
			case "counts":
				w.Counts = true
			}
		}
		switch asked := slices.ContainsFunc([]string{"get", "post", "sql", "file", "program"},
			func(k string) bool { return o.get(k) != nil }); {
		case len(list) == 0:
			r.Add(pos(n), "%s: proves: the list is empty; write one or more of %s", what, strings.Join(provable, ", "))
		case seen["received"] && seen["stored"]:
			r.Add(pos(n), "%s: proves: what comes out of the platform is no proof that it is stored; make a witness of each",
				what)
		case len(seen) > 1 && (asked || w.Counts):
			r.Add(pos(n), "%s: proves: only a witness that listens can prove two things, received or stored, and alerts; make "+
				"a witness of each", what)
			w.Hears, w.Counts = w.Hears && !w.Sees(), w.Counts && !w.Sees()
		}
	}
	if !w.Sees() && !w.Hears && !w.Counts {
		w.Proves = proof.Received
	}
}

// place reads where a witness looks.
func (r *reader) place(w *crowd.Witness, o *object, what string) {
	sort, names := -1, ""
	for i, s := range sortsOfWitness {
		if names += ", " + s.key; o.get(s.key) == nil {
			continue
		}
		if sort >= 0 {
			r.Add(pos(o.get(s.key)), "%s has both %s and %s; make a witness of each", what, sortsOfWitness[sort].key, s.key)
			return
		}
		sort = i
	}
	if sort < 0 {
		if !slices.ContainsFunc(sortsOfWitness, func(s sortOfWitness) bool { return o.near[s.key] }) {
			r.Add(w.Pos, "%s does not say where it looks; write subscribe: TOPIC-FILTER, callback: ADDRESS, get: ADDRESS, "+
				"post: ADDRESS, sql: ADDRESS, file: NAME or program: COMMAND", what)
		}
		return
	}
	s := &sortsOfWitness[sort]
	for _, k := range witnessMap.keys {
		if k.name != s.key && !contains(s.keys, k.name) && !contains(everyWitness, k.name) &&
			!slices.ContainsFunc(sortsOfWitness, func(x sortOfWitness) bool { return x.key == k.name }) {
			r.misplaced(o, what, s.name, k.name)
		}
	}
	switch s.key {
	case "subscribe":
		r.subscription(w, o, what)
	case "callback":
		r.callback(w, o, what)
	case "get", "post":
		r.query(w, o, s.key, what)
	case "sql":
		r.database(w, o, what)
	case "file":
		r.exported(w, o, what)
	case "program":
		r.program(w, o, what)
	}
	if !w.Asks() {
		return
	}
	if w.Hears {
		o.need("row", ".id")
		o.need("time", ".at")
	}
	if !w.PerDevice && o.get("device") == nil && w.Sees() {
		r.Add(pos(o.get(s.key)), "%s: it is asked about all devices at once; say where a row names its device, for example "+
			"device: .device", what)
	}
	if ln := o.get("link"); ln != nil {
		if w.Link = r.linkNamed(ln, what+": link"); w.Link != nil && w.Link.Protocol != crowd.HTTP {
			r.Add(pos(ln), "%s: link: %q speaks %s; a query may use the TLS of an HTTP link", what, w.Link.Name, w.Link.Protocol)
		} else if w.Link != nil {
			r.witnessCredentials(w, what)
		}
	}
}

// columnPattern is a name that stands for a column of its own.
var columnPattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// columnOrJQ takes the name of a column, or a jq expression.
func columnOrJQ(w *crowd.Witness, s string) (string, error) {
	if columnPattern.MatchString(s) {
		w.Columns = append(w.Columns, s)
		return fmt.Sprintf(".[%q]", s), nil
	}
	return checkJQ(s)
}

// perDevice notes of which names a text is made, for each group of devices: one that names
// the device is asked for each.
func (r *reader) perDevice(w *crowd.Witness, n *yaml.Node, what string, more []string,
	see func(c *crowd.Cast, t *formula.Text)) {
	names := map[string]bool{}
	r.perCast(func(c *crowd.Cast, env formula.Env) {
		delete(env, "reading")
		for _, name := range more {
			env[name] = time.Time{}
		}
		t := r.text(n, what, env)
		see(c, t)
		if t == nil {
			return
		}
		for _, name := range t.Names() {
			names[name] = true
		}
	})
	for _, name := range []string{"from", "to", "crowd", "env"} {
		delete(names, name)
	}
	for _, f := range formula.Functions() {
		delete(names, f.Name)
	}
	w.PerDevice = w.PerDevice || len(names) > 0
}

func (r *reader) query(w *crowd.Witness, o *object, key, what string) {
	get := o.get(key)
	if m := hostVariable.FindStringSubmatch(get.Value); m != nil {
		r.open[m[1]] = true
		r.crowd.NotSecret(r.crowd.Env[m[1]])
	}
	r.perDevice(w, get, what+": "+key, []string{"from", "to"}, func(c *crowd.Cast, t *formula.Text) {
		if w.Addresses[c] = t; t == nil {
			return
		}
		if s := t.Source(); !strings.HasPrefix(s, "http://") && !strings.HasPrefix(s, "https://") &&
			!strings.HasPrefix(s, "${env.") {
			r.Add(pos(get), "%s: %s must be a whole address that begins with http:// or https://", what, key)
		}
	})
	w.Get = get.Value
	r.addressSecrets(get, what+": "+key, get.Value)
	if m := hostVariable.FindStringSubmatch(get.Value); m != nil {
		r.addressSecrets(get, what+": "+key, r.crowd.Env[m[1]])
	}
	env := formula.Env{"crowd": "", "env": formula.Secrets{}}
	w.Signing = r.signing(o.get("signing"), nil, env)
	w.Headers = r.signed(r.headers(o.get("headers"), what+": headers", w.Signing.Env(env)), &w.Signing, &w.Signing.Headers)
	if o.get("form") != nil {
		w.FileForm = o.word("form")
	} else {
		o.need("rows", ".rows[]")
	}
	if key != "post" {
		return
	}
	w.Post, w.Asked = true, map[*crowd.Cast]*formula.Text{}
	if qn := o.need("query", `'{"device": "${device}", "from": "${from}", "to": "${to}"}'`); qn != nil {
		r.perDevice(w, qn, what+": query", []string{"from", "to"}, func(c *crowd.Cast, t *formula.Text) { w.Asked[c] = t })
	}
}

// database reads where a database is, and what it is asked.
func (r *reader) database(w *crowd.Witness, o *object, what string) {
	n, qn := o.get("sql"), o.need("query", "select device, mark, body, at from reports where at >= @from and at < @to")
	t := r.text(n, what+": sql", formula.Env{"crowd": "", "env": formula.Secrets{}})
	w.SQL = &crowd.SQL{Zone: "UTC"}
	if zn := o.get("zone"); zn != nil {
		w.SQL.Zone = parse(r, zn, what+": zone", "UTC", func(s string) (string, error) {
			if _, err := time.LoadLocation(s); err != nil || s == "" || s == "Local" {
				return "", fmt.Errorf("%q is no time zone; write a name of the IANA database, such as Europe/London or UTC", s)
			}
			return s, nil
		})
	}
	if t == nil || qn == nil {
		return
	}
	for _, name := range t.EnvNames() {
		if _, set := r.crowd.Env[name]; !set {
			return // told already
		}
		if slices.Contains(r.crowd.Unset, name) { // it is only read: what the database is, nobody knows
			return
		}
	}
	address, err := t.Expand(&formula.Machine{}, formula.Env{"crowd": r.crowd.Name, "env": r.crowd.Env})
	kind, unknown := sqltext.KindOf(address)
	if err = errors.Join(err, unknown); err != nil {
		r.Add(pos(n), "%s: sql: %s", what, err)
		return
	}
	if u, err := url.Parse(address); err == nil && kind != sqltext.SQLite {
		if password, set := u.User.Password(); set && password != "" {
			if len(t.EnvNames()) == 0 {
				r.crowd.Literal(pos(n), password)
				r.Add(pos(n), "%s: sql: a password does not belong into the file; write sql: ${env.DATABASE_URL}, and set that "+
					"variable", what)
				return
			}
			r.crowd.Secret(password)
		}
		if u.Host == "" && u.Query().Get("host") == "" && u.Query().Get("socket") == "" {
			r.Add(pos(n), "%s: sql: the host is missing; write one such as postgres://USER@127.0.0.1:5432/DATABASE", what)
			return
		}
	}
	w.SQL.Address = address
	w.SQL.Query, _ = r.scalar(qn, what+": query")
	q, err := sqltext.Parse(w.SQL.Query, kind.Dialect(), sqltext.Parameters)
	if err != nil {
		r.Add(pos(qn), "%s: query: %s", what, err)
		return
	}
	names := q.Names()
	w.PerDevice, w.SQL.InGroups = contains(names, "device"), contains(names, "devices")
	if w.PerDevice && w.SQL.InGroups {
		r.Add(pos(qn), "%s: query: it has both @device and @devices: it is asked once a device, or for many at a time", what)
	}
}

// exported reads which files are looked through.
func (r *reader) exported(w *crowd.Witness, o *object, what string) {
	n := o.get("file")
	w.File = n.Value
	r.perDevice(w, n, what+": file", nil, func(c *crowd.Cast, t *formula.Text) { w.Addresses[c] = t })
	if w.FileForm = string(rowfile.FormOf(n.Value)); o.get("form") != nil {
		w.FileForm = o.word("form")
	} else if w.FileForm == "" {
		r.Add(pos(n), "%s: file: the ending of %q tells no form; say which: form: csv, json, senml or line-protocol", what,
			n.Value)
	}
}

// program reads which program is run.
func (r *reader) program(w *crowd.Witness, o *object, what string) {
	n := o.get("program")
	list := r.list(n, what+": program")
	if len(list) == 0 {
		r.Add(pos(n), "%s: program: names none; write, for example, program: [./read-back.sh, \"${from}\", \"${to}\"]", what)
		return
	}
	for i, word := range list {
		s, ok := r.scalar(word, what+": program")
		if !ok {
			return
		}
		w.Program = append(w.Program, s)
		r.perDevice(w, word, what+": program", []string{"from", "to"}, func(c *crowd.Cast, t *formula.Text) {
			if i == 0 {
				w.Words[c] = nil
			}
			w.Words[c] = append(w.Words[c], t)
		})
	}
}
