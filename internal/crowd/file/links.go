package file

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

func (r *reader) readLinks(n *yaml.Node) {
	for _, e := range r.entries(n, "links") {
		r.name(e.key, "links", e.key.Value)
		l := r.link(e.key, e.value, fmt.Sprintf("the link %q", e.key.Value))
		r.crowd.Links = append(r.crowd.Links, l)
	}
}

// otherKeys are what people call the address of a link.
var otherKeys = []string{"address", "url", "uri", "broker", "server", "host", "endpoint"}

// named is a link whose address stands under mqtt or http: where it stands under another name,
// that is told, and the rest is read as if it did.
func (r *reader) named(n *yaml.Node, what string) *yaml.Node {
	m := r.resolve(n)
	if m.Kind != yaml.MappingNode || r.has(m, "mqtt") || r.has(m, "http") {
		return n
	}
	for _, k := range otherKeys {
		i := keyIndex(m, k)
		if i < 0 {
			continue
		}
		protocol, example := "mqtt", "mqtt://HOST:1883"
		if strings.HasPrefix(m.Content[i+1].Value, "http") {
			protocol, example = "http", "http://HOST:8080"
		}
		r.Add(pos(m.Content[i]), "%s has no key %q: the address stands under its protocol; write %s: %s", what, k, protocol, example)
		other := *m
		other.Content = slices.Clone(m.Content)
		name := *m.Content[i]
		name.Value = protocol
		other.Content[i] = &name
		return &other
	}
	return n
}

// link reads one link from its mapping.
func (r *reader) link(key, n *yaml.Node, what string) *crowd.Link {
	o := r.object(r.named(n, what), what, linkMap)
	l := &crowd.Link{Name: key.Value, Pos: pos(key), KeepAlive: time.Minute, CleanStart: true, Version: 5,
		ConnectTimeout: 5 * time.Second, BackOff: [2]time.Duration{500 * time.Millisecond, 30 * time.Second}}
	node := &linkNode{source: o.node}
	r.links[l] = node
	switch mqtt, http := o.get("mqtt"), o.get("http"); {
	case mqtt != nil && http != nil:
		r.Add(pos(http), "%s has both mqtt and http; make two links of it", what)
	case mqtt != nil:
		l.Protocol = crowd.MQTT
		l.Address = r.address(l, mqtt, what+": mqtt", r.mqttAddress)
	case http != nil:
		l.Protocol = crowd.HTTP
		l.Address = r.address(l, http, what+": http", r.httpAddress)
	case o.node.Kind == yaml.MappingNode:
		r.Add(pos(key), "%s has no address; write mqtt: mqtt://HOST:1883 or http: http://HOST:PORT", what)
	}
	if l.Protocol != 0 {
		for _, key := range linkMap.notFor(l.Protocol) {
			if k := o.get(key); k != nil {
				r.Add(pos(k), "%s: %q is not for %s links", what, key, l.Protocol)
			}
		}
	}
	l.HTTPVersion = 1
	if l.Protocol == crowd.HTTP {
		l.HTTPVersion = int(r.whole(o.get("version"), what+": version", 1, 1, 2))
	} else {
		l.Version = r.version(o.get("version"), what+": version")
	}
	r.tls(l, o, what)
	l.KeepAlive = o.span("keep_alive")
	l.SessionExpiry = o.span("session_expiry")
	l.CleanStart = o.truth("clean_start")
	l.EndSession = l.CleanStart && o.get("session_expiry") == nil
	if o.get("end_session") != nil {
		l.EndSession = o.truth("end_session")
	}
	l.InFlight = int(o.whole("in_flight"))
	if l.Timeout = o.span("timeout"); o.get("timeout") == nil {
		l.Timeout = 10 * time.Second
		if l.Protocol == crowd.HTTP {
			l.Timeout = 5 * time.Second
		}
	}
	l.Answer = parse(r, o.get("accept_if"), what+": accept_if", "", checkAnswerJQ)
	l.ConnectTimeout = o.span("connect_timeout")
	l.Backlog = int(o.whole("backlog"))
	l.Retries = int(o.whole("retries"))
	if kn := o.get("retry_key"); kn != nil {
		l.RetryKey, _ = r.scalar(kn, what+": retry_key")
		if !tokenPattern.MatchString(l.RetryKey) {
			r.Add(pos(kn), "%s: retry_key: %q is not the name of a header (RFC 9110, section 5.1)", what, l.RetryKey)
		}
	}
	l.Connections = 256
	if cn := o.get("connections"); cn != nil && cn.Value == "per device" {
		l.PerDevice, l.Connections = true, 100_000
	} else {
		l.Connections = int(r.whole(cn, what+": connections", 256, 1, 100_000))
	}
	l.BackOff = parse(r, o.get("back_off"), what+": back_off", l.BackOff, backOff)
	if l.TopicAliases = int(o.whole("topic_aliases")); l.TopicAliases > 0 && l.Version != 5 {
		r.Add(pos(o.get("topic_aliases")), "%s: topic aliases are of MQTT version 5", what)
	}
	l.Redirects = o.word("redirects") == "follow"
	if pn := o.get("path"); pn != nil && l.Scheme != "" && l.Scheme != "ws" && l.Scheme != "wss" {
		r.Add(pos(pn), "%s: path goes with ws:// and wss:// alone; topics and paths of messages belong to the readings", what)
	}
	node.token, node.path = o.get("access_token"), o.get("path")
	node.clientID, node.username, node.password, node.headers = o.get("client_id"), o.get("username"), o.get(
		"password"), o.get("headers")
	node.query, node.signing = o.get("query"), o.get("signing")
	return l
}

// tls reads how a link secures its connections.
func (r *reader) tls(l *crowd.Link, o *object, what string) {
	n := o.get("tls")
	secure := l.Scheme == "mqtts" || l.Scheme == "wss" || l.Scheme == "https"
	if n == nil {
		if secure {
			l.TLS = &crowd.TLS{}
		}
		return
	}
	what += ": tls"
	to := r.object(n, what, tlsMap)
	if !secure && l.Scheme != "" {
		r.Add(pos(n), "%s goes with %ss://, not with %s://", what, l.Scheme, l.Scheme)
	}
	l.TLS = &crowd.TLS{NoVerify: !to.truth("verify")}
	if sn := to.get("server_name"); sn != nil {
		l.TLS.ServerName, _ = r.scalar(sn, what+": server_name")
	}
	for _, a := range r.list(to.get("alpn"), what+": alpn") {
		if s, ok := r.scalar(a, what+": alpn"); ok {
			l.TLS.ALPN = append(l.TLS.ALPN, s)
		}
	}
	switch r.word(to.get("min_version"), what+": min_version", "1.2", "1.2", "1.3") {
	case "1.3":
		l.TLS.MinVersion = tls.VersionTLS13
	default:
		l.TLS.MinVersion = tls.VersionTLS12
	}
	if ca := to.get("ca"); ca != nil && !r.from.WithoutCertificates {
		if name, ok := r.scalar(ca, what+": ca"); ok {
			if f := r.file(ca, what+": ca", name); f != nil {
				l.TLS.CA = f.Data
				if !x509.NewCertPool().AppendCertsFromPEM(f.Data) {
					r.Add(pos(ca), "%s: ca: %s holds no certificate in PEM (-----BEGIN CERTIFICATE-----)", what, name)
				}
			}
		}
	}
	node := r.links[l]
	node.cert, node.key = to.get("cert"), to.get("key")
	node.expiredCert, node.expiredKey = to.get("expired_cert"), to.get("expired_key")
	if (node.cert == nil) != (node.key == nil) {
		r.Add(pos(n), "%s: a certificate needs its key: give both cert and key", what)
	}
}

// backOff reads "500ms to 30s".
func backOff(s string) ([2]time.Duration, error) {
	a, b, ok := strings.Cut(s, " to ")
	if !ok {
		return [2]time.Duration{}, fmt.Errorf("%q is not a back-off; write the first and the longest wait, such as 500ms "+
			"to 30s", s)
	}
	from, err := quantity.ParseDuration(a)
	if err != nil {
		return [2]time.Duration{}, err
	}
	to, err := quantity.ParseDuration(b)
	if err != nil {
		return [2]time.Duration{}, err
	}
	if from <= 0 || to < from {
		return [2]time.Duration{}, fmt.Errorf("%q: the first wait must be above zero, and the longest not below it", s)
	}
	return [2]time.Duration{from, to}, nil
}

func (r *reader) version(n *yaml.Node, what string) int {
	return parse(r, n, what, 5, func(s string) (int, error) {
		switch s {
		case "5", "5.0":
			return 5, nil
		case "3.1.1", "3":
			return 4, nil
		}
		return 5, fmt.Errorf("%q is not known; write 5 or 3.1.1", s)
	})
}

// address expands environment variables and checks the result.
func (r *reader) address(l *crowd.Link, n *yaml.Node, what string,
	check func(*crowd.Link, *yaml.Node, string, string) string) string {
	t := r.text(n, what, formula.Env{"env": formula.Secrets{}})
	if t == nil {
		return ""
	}
	for _, name := range t.EnvNames() {
		if _, set := r.crowd.Env[name]; !set {
			return "" // told already
		}
		if slices.Contains(r.crowd.Unset, name) { // it is only read
			return n.Value
		}
	}
	s, err := t.Expand(&formula.Machine{}, formula.Env{"env": r.crowd.Env})
	if err != nil {
		r.Add(pos(n), "%s: %s", what, err)
		return ""
	}
	address := check(l, n, what, s)
	if address == "" {
		return "" // whatever the environment has there, it is shown nowhere
	}
	// A host name from the environment is an address, not a secret. What a formula takes out of
	// a value there leaves the rest of it a secret.
	t.Walk(func(_ string, f *formula.Formula) {
		if f == nil {
			return
		}
		m := bareVariable.FindStringSubmatch(f.Source())
		if m == nil {
			if v, err := f.Any(&formula.Machine{}, formula.Env{"env": r.crowd.Env}); err == nil {
				r.crowd.Shown(formula.String(v), address)
			}
			return
		}
		r.open[m[1]] = true
		r.crowd.NotSecret(r.crowd.Env[m[1]])
		r.crowd.ShortSecrets = slices.DeleteFunc(r.crowd.ShortSecrets, func(n string) bool { return n == m[1] })
	})
	return address
}

// bareVariable is a placeholder that is a variable of the environment as it is.
var bareVariable = regexp.MustCompile(`^\s*env\.(\w+)\s*$`)

// hidePassword registers the password of an address as a secret, also where the
// address cannot be parsed and will be shown in a message.
func (r *reader) hidePassword(n *yaml.Node, s string) {
	at := strings.LastIndexByte(s, '@')
	if at < 0 {
		return
	}
	_, userinfo, _ := strings.Cut(s[:at], "://")
	if _, password, set := strings.Cut(userinfo, ":"); set && password != "" {
		r.crowd.Literal(pos(n), password)
	}
}

// noAddress says that a text is no address. It is not shown: people paste connection texts with
// a key in them.
func (r *reader) noAddress(n *yaml.Node, what, s, example string) string {
	if keys, values := formula.Pairs(s); len(keys) > 1 {
		for _, v := range values {
			r.crowd.Secret(v)
		}
		r.crowd.Secret(s)
		from := "env.NAME"
		if m := bareVariable.FindStringSubmatch(strings.Trim(n.Value, "${} ")); m != nil {
			from = "env." + m[1]
		}
		scheme, _, _ := strings.Cut(example, "://")
		r.Add(pos(n), "%s: what stands there is a connection text with the keys %s; take it apart, for example \"%s://${lookup(%s, "+
			"'%s')}\", and the same for username and password beside it", what, strings.Join(keys, ", "), scheme, from, keys[0])
	} else if strings.ContainsAny(s, "=;@, \t\n") {
		r.crowd.Secret(s)
		for _, part := range strings.FieldsFunc(s, func(c rune) bool { return strings.ContainsRune("=;@,& \t\n", c) }) {
			r.crowd.Secret(part)
		}
		r.Add(pos(n), "%s: what stands there is not an address (it is not shown, as it may hold a key); write one such as "+
			"%s, with username and password beside it", what, example)
	} else {
		r.Add(pos(n), "%s: %q is not an address; write one such as %s", what, s, example)
	}
	return ""
}

func (r *reader) mqttAddress(l *crowd.Link, n *yaml.Node, what, s string) string {
	r.hidePassword(n, s)
	u, err := url.Parse(s)
	if err != nil || u.Host == "" && !strings.Contains(s, "://") {
		return r.noAddress(n, what, s, "mqtt://127.0.0.1:1883")
	}
	port, known := map[string]string{"mqtt": "1883", "mqtts": "8883", "ws": "80", "wss": "443"}[u.Scheme]
	switch {
	case !known && strings.ContainsAny(s, "=;@"):
		return r.noAddress(n, what, s, "mqtt://127.0.0.1:1883")
	case !known:
		r.Add(pos(n), "%s: %q does not begin with mqtt://, mqtts://, ws:// or wss://", what, s)
		return ""
	case u.User != nil:
		if m := bareVariable.FindStringSubmatch(strings.Trim(n.Value, "${} ")); m != nil {
			r.Add(pos(n), "%s: user name and password do not belong into the address; write \"%s://${lookup(env.%s, 'host')}\", "+
				"and beside it username: \"${lookup(env.%s, 'user')}\" and password: \"${lookup(env.%s, 'password')}\"", what,
				u.Scheme, m[1], m[1], m[1])
			return ""
		}
		r.Add(pos(n), "%s: user name and password do not belong into the address; write username: and password: "+
			"${env.NAME} beside it", what)
		return ""
	case u.Hostname() == "":
		r.Add(pos(n), "%s: the host is missing; write one such as mqtt://127.0.0.1:1883", what)
		return ""
	case !isPort(u.Port()):
		r.noPort(n, what, u.Port())
		return ""
	case u.Path != "" && u.Path != "/" && (u.Scheme == "mqtt" || u.Scheme == "mqtts"):
		r.Add(pos(n), "%s: an MQTT address has no path %q; topics belong to the readings", what, u.Path)
		return ""
	}
	l.Scheme, l.Path = u.Scheme, u.RequestURI()
	r.addressSecrets(n, what, l.Path)
	return hostPort(u, port)
}

// isPort tells whether an address names a port that there is, or none.
func isPort(s string) bool {
	n, err := strconv.ParseUint(s, 10, 16)
	return s == "" || err == nil && n > 0
}

func (r *reader) noPort(n *yaml.Node, what, port string) {
	r.Add(pos(n), "%s: there is no port %s; ports are 1 to 65535", what, port)
}

func hostPort(u *url.URL, port string) string {
	if p := u.Port(); p != "" {
		port = p
	}
	host := u.Hostname()
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + port
}

func (r *reader) httpAddress(l *crowd.Link, n *yaml.Node, what, s string) string {
	r.hidePassword(n, s)
	u, err := url.Parse(s)
	switch {
	case err != nil, u.Scheme != "http" && u.Scheme != "https" && strings.ContainsAny(s, "=;@"):
		return r.noAddress(n, what, s, "http://127.0.0.1:8080")
	case u.Scheme != "http" && u.Scheme != "https":
		r.Add(pos(n), "%s: %q does not begin with http:// or https://", what, s)
		return ""
	case u.Hostname() == "":
		r.Add(pos(n), "%s: the host is missing; write one such as http://127.0.0.1:8080", what)
		return ""
	case u.User != nil:
		r.Add(pos(n), "%s: user name and password do not belong into the address; write headers: {Authorization: …} beside "+
			"it", what)
		return ""
	}
	if !isPort(u.Port()) {
		r.noPort(n, what, u.Port())
		return ""
	}
	l.Scheme = u.Scheme
	r.addressSecrets(n, what, s)
	return strings.TrimRight(s, "/")
}

// tokenPattern is the token of RFC 9110, section 5.6.2.
var tokenPattern = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")

func (r *reader) linkNamed(n *yaml.Node, what string) *crowd.Link {
	s, ok := r.scalar(n, what)
	if !ok {
		return nil
	}
	if l := r.crowd.Link(s); l != nil {
		return l
	}
	var names []string
	for _, l := range r.crowd.Links {
		names = append(names, l.Name)
	}
	r.noSuch(n, what, "link", s, names)
	return nil
}

func (r *reader) headers(n *yaml.Node, what string, env formula.Env) []crowd.Header {
	if n == nil || isNull(n) {
		return nil
	}
	var list []crowd.Header
	for _, e := range r.entries(n, what) {
		if !tokenPattern.MatchString(e.key.Value) {
			r.Add(pos(e.key), "%s: %q is not the name of a header (RFC 9110, section 5.1)", what, e.key.Value)
			continue
		}
		if t := r.text(e.value, what+": "+e.key.Value, env); t != nil {
			r.alone(e.value, what+": "+e.key.Value, t)
			if LooksSecret(e.key.Value) {
				r.secretText(r.resolve(e.value), t)
			}
			list = append(list, crowd.Header{Name: e.key.Value, Value: t})
		}
	}
	return list
}

// stepName is a name that a formula can use.
var stepName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

// signing reads what is computed for each request of a link.
func (r *reader) signing(n, query *yaml.Node, env formula.Env) (s crowd.Signing) {
	if n != nil && !isNull(n) {
		r.signingSteps(n, env, &s)
	}
	if query != nil && !isNull(query) {
		for _, e := range r.entries(query, "query") {
			if t := r.text(e.value, "query: "+e.key.Value, s.Env(env)); t != nil {
				if LooksSecret(e.key.Value) {
					r.secretText(r.resolve(e.value), t)
				}
				s.Query = append(s.Query, crowd.Header{Name: e.key.Value, Value: t})
			}
		}
	}
	return s
}

// signingSteps reads the values that are computed for each request, and puts each behind those that it
// uses.
func (r *reader) signingSteps(n *yaml.Node, env formula.Env, s *crowd.Signing) {
	all := crowd.Signing{}
	var entries []entry
	for _, e := range r.entries(n, "signing") {
		name := e.key.Value
		_, taken := crowd.AskEnv(crowd.MessageEnv(all.Env(env)))[name]
		taken = taken || slices.ContainsFunc(formula.Functions(), func(f formula.Function) bool { return f.Name == name })
		switch {
		case !stepName.MatchString(name):
			r.Add(pos(e.key), "signing: %q cannot be used in a formula; write small letters, digits and _", name)
		case taken:
			r.Add(pos(e.key), "signing: %q is the name of something else already; choose another name", name)
		default:
			entries, all.Steps = append(entries, e), append(all.Steps, crowd.Header{Name: name})
		}
	}
	known, ready := all.Env(env), s.Env(env)
	var waiting []int
	for i, e := range entries {
		t := r.text(e.value, "signing: "+e.key.Value, known)
		if t == nil { // told already; those that use it are not to blame
			t, _ = formula.ParseText("", nil)
		}
		all.Steps[i].Value = t
		waiting = append(waiting, i)
	}
	for len(waiting) > 0 {
		k := slices.IndexFunc(waiting, func(i int) bool {
			return !slices.ContainsFunc(all.Steps[i].Value.Names(), func(n string) bool { _, is := ready[n]; return !is })
		})
		if k < 0 {
			first := entries[waiting[0]].key
			r.Add(pos(first), "signing: %q depends on itself; use values in it that do not use it", first.Value)
			return
		}
		step := all.Steps[waiting[k]]
		s.Steps, ready[step.Name] = append(s.Steps, step), ""
		waiting = slices.Delete(waiting, k, k+1)
	}
}

// signed takes the headers that are computed for each request out of a list.
func (r *reader) signed(list []crowd.Header, s *crowd.Signing, into *[]crowd.Header) (rest []crowd.Header) {
	for _, h := range list {
		if s.Uses(h.Value) {
			*into = append(*into, h)
		} else {
			rest = append(rest, h)
		}
	}
	return rest
}
