package file

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// loadRegistered takes in what earlier registrations kept; every value is a secret.
func (r *reader) loadRegistered(at crowd.Pos) {
	c := r.crowd
	c.Registered = map[string]crowd.Registered{}
	if r.from.Open != nil {
		return // this file was never there
	}
	data, err := folder.ReadRegular(c.RegisteredFile())
	if errors.Is(err, os.ErrNotExist) {
		return
	}
	if err != nil {
		r.Add(at, "register: %s cannot be read: %s; it says which devices are registered, and holds their secrets",
			c.RegisteredFile(), folder.Why(err))
		return
	}
	c.Registered = crowd.ReadRegistered(data)
	for _, e := range c.Registered {
		for name, v := range e.Kept {
			if !slices.ContainsFunc(c.Register.Save, func(k crowd.Save) bool { return k.Name == name && k.Public }) {
				c.Secret(v)
			}
		}
	}
}

// saves reads only what is kept: the devices' properties come of it.
func (r *reader) saves(n *yaml.Node) {
	o := r.object(n, "register", registerMap)
	en := &crowd.Register{Pos: pos(n), Pace: 20}
	r.crowd.Register = en
	requests := []*yaml.Node{o.get("request")}
	if several := o.get("requests"); several != nil {
		if several = r.resolve(several); several.Kind == yaml.SequenceNode {
			requests = several.Content
		}
	}
	for i, q := range requests {
		if q == nil || r.resolve(q).Kind != yaml.MappingNode {
			continue
		}
		what := fmt.Sprintf("register: request %d", i+1)
		for _, e := range r.entries(q, what) {
			if e.key.Value == "save" {
				r.save(e.value, what+": save", i)
			}
		}
	}
	if kn := o.get("save"); kn != nil {
		r.save(kn, "register: save", max(0, len(requests)-1))
	}
	en.Pace = parse(r, o.get("pace"), "register: pace", 20, quantity.ParseRate)
	r.loadRegistered(en.Pos)
}

// save reads what is kept of the answer to a request.
func (r *reader) save(n *yaml.Node, what string, request int) {
	en := r.crowd.Register
	for _, e := range r.entries(n, what) {
		if _, taken := crowd.MessageEnv(crowd.DeviceEnv())[e.key.Value]; taken || !fieldPattern.MatchString(e.key.Value) {
			r.Add(pos(e.key), "%s: %q cannot be the name of a property; choose another", what, e.key.Value)
			continue
		}
		if slices.ContainsFunc(en.Save, func(k crowd.Save) bool { return k.Name == e.key.Value }) {
			r.Add(pos(e.key), "%s: %q is kept of another answer already", what, e.key.Value)
			continue
		}
		take, public := r.resolve(e.value), false
		if take.Kind == yaml.MappingNode {
			o := r.object(take, what+": "+e.key.Value, savedMap)
			if take, public = o.get("take"), o.truth("public"); take == nil {
				continue
			}
		}
		if path := parse(r, take, what+": "+e.key.Value, "", checkJQ); path != "" {
			en.Save = append(en.Save, crowd.Save{Name: e.key.Value, Path: path, Request: request, Public: public})
		}
	}
}

// early notes what a request uses and only later answers give.
func (r *reader) early(n *yaml.Node, what string, request int, c *crowd.Cast, p *crowd.RequestParts) {
	texts := []*formula.Text{p.URL, p.Body}
	for _, h := range p.Headers {
		texts = append(texts, h.Value)
	}
	for _, k := range r.crowd.Register.Save {
		given := slices.ContainsFunc(c.Properties, func(p crowd.Property) bool {
			return p.Name == k.Name && (!p.Kept || p.Text != nil || p.Draw != nil || p.Value.Type() != signal.Null)
		})
		for _, t := range texts {
			if t != nil && k.Request >= request && !given && contains(t.Names(), k.Name) {
				r.Add(pos(n), "%s uses %q, which is kept of the answer to request %d only", what, k.Name, k.Request+1)
			}
		}
	}
}

// registration reads the rest, when the devices are known.
func (r *reader) registration(n *yaml.Node) {
	en := r.crowd.Register
	o := &object{r: r, node: r.resolve(n), what: "register", of: registerMap, vals: map[string]*yaml.Node{},
		near: map[string]bool{}}
	for _, e := range r.entries(n, "register") {
		o.vals[e.key.Value] = r.resolve(e.value)
	}
	en.Wait = o.span("wait")
	if ln := o.get("link"); ln != nil {
		if en.Link = r.linkNamed(ln, "register: link"); en.Link != nil && en.Link.Protocol != crowd.HTTP {
			r.Add(pos(ln), "register: link: %q speaks %s; requests may use the TLS of an HTTP link", en.Link.Name,
				en.Link.Protocol)
		}
	}
	if nn := o.get("names"); nn != nil {
		rule := &crowd.NameRule{Pos: pos(nn)}
		if no := r.object(nn, "register: names", nameRuleMap); no.node.Kind == yaml.MappingNode {
			rule.Pattern = parse(r, no.get("pattern"), "register: names: pattern", nil, func(s string) (*regexp.Regexp, error) {
				re, err := regexp.Compile("^(?:" + s + ")$")
				if err != nil {
					return nil, fmt.Errorf("%q is no regular expression: %s", s,
						strings.TrimPrefix(err.Error(), "error parsing regexp: "))
				}
				return re, nil
			})
			if no.get("most") != nil {
				rule.Most = int(no.whole("most"))
			}
			if rule.Pattern == nil && rule.Most == 0 && len(r.List) == 0 {
				r.Add(rule.Pos, "register: names says nothing; write pattern: \"[a-z][a-z0-9-]*\", or most: 32")
			}
			en.Names = rule
		}
	}
	one, several := o.get("request"), o.get("requests")
	switch {
	case one != nil && several != nil:
		r.Add(pos(several), "register has both request and requests; leave one out")
	case one != nil:
		en.Requests = append(en.Requests, r.registerRequest(one, "register: request", "POST", 0))
	case several != nil:
		for i, q := range r.list(several, "register: requests") {
			en.Requests = append(en.Requests, r.registerRequest(q, fmt.Sprintf("register: request %d", i+1), "POST", i))
		}
	case o.node.Kind == yaml.MappingNode:
		r.Add(pos(n), "register does not say how a device is registered; write, for example, request: {url: "+
			"\"http://HOST/devices\", body: {name: \"${device}\"}}")
	}
	if w := o.get("unregister"); w != nil {
		en.Unregister = r.registerRequest(w, "register: unregister", "DELETE", -1)
	}
	if l := o.get("list"); l != nil {
		lo := r.object(l, "register: list", listMap)
		env := formula.Env{"crowd": "", "env": formula.Secrets{}}
		en.List = &crowd.Listing{Headers: r.headers(lo.get("headers"), "register: list: headers", env)}
		if t := r.text(lo.need("get", "http://HOST/devices"), "register: list: get", env); t != nil {
			en.List.Get, _ = t.Expand(&formula.Machine{}, formula.Env{"crowd": r.crowd.Name, "env": r.crowd.Env})
			r.wholeAddress(lo.get("get"), "register: list: get", t)
		}
		en.List.Names = parse(r, lo.need("names", "'.devices[].name'"), "register: list: names", "", checkJQ)
		en.List.Next = parse(r, lo.get("next"), "register: list: next", "", checkJQ)
	}
}

func (r *reader) wholeAddress(n *yaml.Node, what string, t *formula.Text) {
	if s := t.Source(); !strings.HasPrefix(s, "http://") && !strings.HasPrefix(s, "https://") &&
		!strings.HasPrefix(s, "${env.") {
		r.Add(pos(n), "%s must be a whole address that begins with http:// or https://", what)
	}
	r.addressSecrets(n, what, t.Source())
	if m := hostVariable.FindStringSubmatch(t.Source()); m != nil {
		r.addressSecrets(n, what, r.crowd.Env[m[1]])
	}
}

// registerRequest reads a request of a registration by its place among them; -1 is that
// which unregisters.
func (r *reader) registerRequest(n *yaml.Node, what, method string, place int) *crowd.Request {
	m := requestMap
	if place >= 0 {
		m = registerRequestMap
	}
	q, o := r.requestHead(n, what, method, m)
	r.perCast(func(c *crowd.Cast, env formula.Env) {
		q.Parts[c] = r.requestParts(o, what, env)
		if place >= 0 {
			r.early(n, what, place, c, q.Parts[c])
		}
	})
	return q
}

// oneRequest reads a request for the devices of one cast.
func (r *reader) oneRequest(n *yaml.Node, what, method string, c *crowd.Cast, env formula.Env) *crowd.Request {
	q, o := r.requestHead(n, what, method, requestMap)
	q.Parts[c] = r.requestParts(o, what, env)
	return q
}

func (r *reader) requestHead(n *yaml.Node, what, method string, m *mapping) (*crowd.Request, *object) {
	o := r.object(n, what, m)
	q := &crowd.Request{Pos: pos(n), OKStatus: r.okStatus(o.get("ok_status"), what),
		Parts: map[*crowd.Cast]*crowd.RequestParts{}}
	q.Method = parse(r, o.get("method"), what+": method", method, parseMethod)
	return q, o
}

func (r *reader) requestParts(o *object, what string, env formula.Env) *crowd.RequestParts {
	url := o.need("url", "http://HOST/devices/${device}")
	p := &crowd.RequestParts{URL: r.text(url, what+": url", env)}
	if p.URL != nil {
		r.wholeAddress(url, what+": url", p.URL)
	}
	p.Headers = r.headers(o.get("headers"), what+": headers", env)
	if b := o.get("body"); b != nil {
		p.Body = r.body(b, what+": body", env)
	}
	return p
}

// body reads a body: a text, or a mapping that is sent as JSON with its
// placeholders filled in. A text that is one placeholder keeps its type.
func (r *reader) body(n *yaml.Node, what string, env formula.Env) *formula.Text {
	n = r.resolve(n)
	if n.Kind == yaml.ScalarNode {
		return r.text(n, what, env)
	}
	source, ok := r.bodyJSON(n, what, env, 0)
	if !ok {
		return nil
	}
	t, err := formula.ParseText(source, env)
	if err != nil {
		r.formulaError(n, what, err)
		return nil
	}
	r.environment(pos(n), t.EnvNames())
	return t
}

// bodyJSON writes a node as the source of a text that gives its JSON.
func (r *reader) bodyJSON(n *yaml.Node, what string, env formula.Env, depth int) (string, bool) {
	n = r.resolve(n)
	if depth > maxDepth {
		r.Add(pos(n), "%s is nested too deeply", what)
		return "", false
	}
	switch n.Kind {
	case yaml.MappingNode:
		var parts []string
		for _, e := range r.entries(n, what) {
			v, ok := r.bodyJSON(e.value, what, env, depth+1)
			if !ok {
				return "", false
			}
			key, _ := json.Marshal(e.key.Value)
			parts = append(parts, string(key)+": "+v)
		}
		return "{" + strings.Join(parts, ", ") + "}", true
	case yaml.SequenceNode:
		var parts []string
		for _, item := range r.list(n, what) {
			v, ok := r.bodyJSON(item, what, env, depth+1)
			if !ok {
				return "", false
			}
			parts = append(parts, v)
		}
		return "[" + strings.Join(parts, ", ") + "]", true
	}
	if isNull(n) {
		return "null", true
	}
	v, ok := r.plain(n, what)
	if !ok {
		return "", false
	}
	s, isText := v.Any().(string)
	if !isText {
		out, _ := json.Marshal(v.Any()) // numbers and truth values always marshal
		return string(out), true
	}
	t, err := formula.ParseText(s, env)
	if err != nil {
		r.formulaError(n, what, err)
		return "", false
	}
	return t.JSON(), true
}
