package file

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// commands reads the commands of a kind for a cast.
func (r *reader) commands(c *crowd.Cast, env formula.Env) {
	c.Commands = nil
	if c.Link == nil {
		return
	}
	own := maps.Clone(env)
	delete(own, crowd.TokenName)
	for _, e := range r.kinds[c.Kind].commands {
		c.Commands = append(c.Commands, r.command(e, c, own, env))
	}
}

// command reads one; env is what a device knows, full the same with its access token.
func (r *reader) command(e entry, c *crowd.Cast, env, full formula.Env) *crowd.Command {
	what := fmt.Sprintf("the command %q", e.key.Value)
	k := &crowd.Command{Name: r.name(e.key, "commands", e.key.Value), Pos: pos(e.key)}
	o := r.object(e.value, what, commandMap)
	r.otherProtocol(o, c, what)
	if c.Link.Protocol == crowd.MQTT {
		k.Topic = r.whereTo(o.need("topic", "harbour/${device}/ask"), what+": topic", env)
		k.QoS = byte(o.whole("qos"))
	} else {
		pn := o.need("path", "/commands/${device}")
		k.Path = r.whereTo(pn, what+": path", full)
		r.alone(pn, what+": path", k.Path)
		if k.Path != nil {
			r.addressSecrets(pn, what+": path", k.Path.Source())
		}
		k.Every = o.span("every")
		k.Rows = parse(r, o.get("rows"), what+": rows", "", checkJQ)
	}
	if n := o.get("match"); n != nil {
		for _, m := range r.entries(n, what+": match") {
			if v, ok := r.plain(m.value, what+": match: "+m.key.Value); ok {
				k.Match = append(k.Match, crowd.Match{Name: m.key.Value, Value: v})
			}
		}
	}
	asked := crowd.AskEnv(env)
	if n := o.get("do"); n != nil && !isNull(n) {
		k.Do = r.actions(n, what+": do", c, []*crowd.Cast{c}, asked, false)
	}
	k.For = o.span("for")
	if n := o.get("reply"); n != nil && !isNull(n) {
		k.Answer = r.answer(n, c, asked, full, what+": reply")
	}
	if n := o.get("request"); n != nil && !isNull(n) {
		k.Request = r.oneRequest(n, what+": request", "POST", c, asked)
	}
	if n := o.get("read_reply"); n != nil && !isNull(n) {
		ho := r.object(n, what+": read_reply", readReplyMap)
		k.ReadReply = &crowd.ReadReply{Rows: parse(r, ho.get("rows"), what+": read_reply: rows", ".", checkJQ),
			Request: &crowd.Request{Pos: pos(n), Method: "GET", Parts: map[*crowd.Cast]*crowd.RequestParts{}}}
		p := &crowd.RequestParts{URL: r.text(ho.need("get", "http://HOST/told/${device}"), what+": read_reply: get", asked),
			Headers: r.headers(ho.get("headers"), what+": read_reply: headers", asked)}
		if p.URL != nil {
			r.wholeAddress(ho.get("get"), what+": read_reply: get", p.URL)
		}
		k.ReadReply.Parts[c] = p
	}
	return k
}

// otherProtocol notes keys that do not go with what the link of a cast speaks.
func (r *reader) otherProtocol(o *object, c *crowd.Cast, what string) {
	for _, key := range o.of.notFor(c.Link.Protocol) {
		if n := o.get(key); n != nil {
			r.Add(pos(n), "%s: %q does not go with the %s link %q%s", what, key, c.Link.Protocol, c.Link.Name, r.otherLink(c))
		}
	}
}

// rateText reads an interval; one without placeholders is checked now.
func (r *reader) rateText(n *yaml.Node, what string, env formula.Env) *formula.Text {
	t := r.text(n, what, env)
	if t != nil && t.Fixed() {
		parse(r, r.resolve(n), what, 0, crowd.ParseInterval)
	}
	return t
}

func (r *reader) readingNames(c *crowd.Cast) []string {
	var names []string
	if r.kinds[c.Kind] == nil { // the file was read before
		for _, rd := range c.Readings {
			names = append(names, rd.InFile())
		}
		return slices.Compact(names)
	}
	for _, e := range r.kinds[c.Kind].readings {
		names = append(names, e.key.Value)
	}
	for _, l := range r.layers[c] {
		for _, e := range l.readings {
			if !contains(names, e.key.Value) {
				names = append(names, e.key.Value)
			}
		}
	}
	return names
}

func (r *reader) answer(n *yaml.Node, c *crowd.Cast, env, full formula.Env, what string) *crowd.Answer {
	o := r.object(n, what, replyMap)
	a := &crowd.Answer{Method: "POST", OKStatus: r.okStatus(nil, what), ContentType: "application/json"}
	r.otherProtocol(o, c, what)
	if c.Link.Protocol == crowd.MQTT {
		if a.Topic = r.whereTo(o.get("topic"), what+": topic", env); a.Topic == nil && c.Link.Version != 5 {
			o.need("topic", "harbour/${device}/told")
		}
		a.QoS = byte(o.whole("qos"))
	} else {
		tokened := crowd.AskEnv(full)
		pn := o.need("path", "/answers/${device}")
		a.Path = r.whereTo(pn, what+": path", tokened)
		r.alone(pn, what+": path", a.Path)
		if a.Path != nil {
			r.addressSecrets(pn, what+": path", a.Path.Source())
		}
		a.Method = parse(r, o.get("method"), what+": method", "POST", parseMethod)
		a.Headers = append(append([]crowd.Header(nil), c.Headers...),
			r.signed(r.headers(o.get("headers"), what+": headers", c.Signing.Env(tokened)), &c.Signing, &a.Signed)...)
	}
	a.Body = r.said(o.get("body"), what+": body", c, env, &a.ContentType)
	if a.Body == nil {
		a.Body, _ = formula.ParseText(`{"ok": ${done}}`, env)
	}
	a.After = parse(r, o.get("after"), what+": after", a.After, parseAfter)
	if w := o.get("wrong"); w != nil {
		wo := r.object(w, what+": wrong", wrongMap)
		a.Wrong = wo.share("chance")
		a.WrongBody = r.said(wo.need("body", "{ok: false}"), what+": wrong: body", c, env, nil)
	}
	a.Never = o.share("never")
	return a
}

// said reads the body of an answer; a plain text is not JSON.
func (r *reader) said(n *yaml.Node, what string, c *crowd.Cast, env formula.Env, contentType *string) *formula.Text {
	if n == nil {
		return nil
	}
	t := r.body(n, what, env)
	if t != nil && usesSecret(t.Names(), c.Secrets) {
		r.Add(pos(n), "%s carries a secret, and what a device says is recorded in the run folder", what)
	}
	if contentType != nil && r.resolve(n).Kind == yaml.ScalarNode {
		*contentType = "text/plain; charset=utf-8"
	}
	return t
}

// parseAfter reads how long after a command an answer comes, up to an hour.
func parseAfter(s string) ([2]time.Duration, error) { return parseBetween(s, time.Hour) }

// parseFor reads how long an event lasts, up to a year.
func parseFor(s string) ([2]time.Duration, error) { return parseBetween(s, year) }

// parseBetween reads "200ms" or "100ms to 2s".
func parseBetween(s string, most time.Duration) ([2]time.Duration, error) {
	from, to, both := strings.Cut(s, " to ")
	a, err := quantity.ParseDuration(from)
	b := a
	if err == nil && both {
		b, err = quantity.ParseDuration(to)
	}
	switch {
	case err != nil:
	case a < 0 || b < a:
		err = fmt.Errorf("%q: the first time must not be above the second", s)
	case b > most:
		err = fmt.Errorf("%q is too long; at most %s", s, quantity.FormatDuration(most))
	}
	return [2]time.Duration{a, b}, err
}
