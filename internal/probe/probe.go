// Package probe goes the way to a platform step by step, as one device would, and
// says of the first step that fails what was seen, what is the likeliest cause,
// and what to try.
package probe

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/outcome"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
	"runcrowd/internal/witness"
)

// Result is how a step ended.
type Result uint8

// The results of a step.
const (
	OK Result = iota
	Failed
	Skipped  // a step before it failed, or there is nothing to do
	Doubtful // it may be the cause of what fails later
)

func (r Result) String() string { return [...]string{"ok", "failed", "skipped", "doubtful"}[r] }

// Step is one step of the way.
type Step struct {
	Name   string
	Result Result
	Took   time.Duration
	Says   string   // what was seen
	Causes []string // of a failure, the likeliest first
}

// Report is the way over one link.
type Report struct {
	Link    string
	Address string
	Device  string // as which it was gone
	Steps   []Step
}

// Failed tells whether some step did.
func (r *Report) Failed() bool {
	for _, s := range r.Steps {
		if s.Result == Failed {
			return true
		}
	}
	return false
}

// stepTime is how long one step of the network may take.
const stepTime = 5 * time.Second

// prober goes one way.
type prober struct {
	*Report
	see      func(Step)
	fail     bool
	measured time.Duration // of the step being made, where it is not the time that looking took
	doubt    bool          // the step being made holds, and is doubtful
	token    string
	skew     time.Duration // of the platform's clock against ours; above zero: it is ahead
}

// do makes one step; f gives what was seen, and on failure the causes.
func (p *prober) do(ctx context.Context, name string, f func(context.Context) (says string, causes []string, ok bool)) {
	s := Step{Name: name, Result: Skipped}
	if !p.fail {
		ctx, cancel := context.WithTimeout(ctx, stepTime)
		defer cancel()
		began := time.Now()
		p.measured, p.doubt = 0, false
		says, causes, ok := f(ctx)
		s.Took, s.Says, s.Causes = time.Since(began), says, causes
		if p.measured > 0 {
			s.Took = p.measured
		}
		if s.Result = OK; !ok {
			s.Result, p.fail = Failed, true
		} else if p.doubt {
			s.Result = Doubtful
		}
	}
	p.Steps = append(p.Steps, s)
	if p.see != nil {
		p.see(s)
	}
}

// Way goes the way over the link of a stream's device: the network, the protocol,
// then one message. See, if not nil, is told of each step as it is made.
func Way(ctx context.Context, c *crowd.Crowd, f *fleet.Fleet, s *fleet.Stream, see func(Step)) Report {
	d := s.Device
	l := d.Cast.Link
	r := Report{Link: l.Name, Address: l.URL(), Device: d.Name}
	p := &prober{Report: &r, see: see}
	address := l.Address
	if l.Protocol == crowd.HTTP {
		u, err := url.Parse(l.Address)
		if err != nil {
			u = &url.URL{}
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
		}
		address = net.JoinHostPort(u.Hostname(), port)
	}
	p.network(ctx, l, d, address)
	p.clock(ctx, c, l, d)
	p.pass(ctx, d)
	if l.Protocol == crowd.MQTT {
		p.broker(ctx, l, d)
	}
	p.message(ctx, c, f, s)
	return r
}

// clockMatters is from where on a difference between the clocks is a likely cause.
const clockMatters = 20 * time.Second

// clock holds our clock against the one in the platform's HTTP answers (RFC 9110,
// section 6.6.1), where it has any: of the link, or of a witness.
func (p *prober) clock(ctx context.Context, c *crowd.Crowd, l *crowd.Link, d *fleet.Device) {
	address := ""
	secure := credential.TLS(l)
	if l.Protocol == crowd.HTTP {
		address = l.Address
	}
	for _, w := range c.Witnesses {
		if address == "" && w.Get != "" && w.Address(d.Cast) != nil {
			env := maps.Clone(d.Env)
			env["from"], env["to"] = time.Now(), time.Now()
			if s, err := w.Address(d.Cast).Expand(&formula.Machine{}, env); err == nil {
				address, secure = s, credential.TLS(w.Link)
			}
		}
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return
	}
	p.do(ctx, "clocks agree", func(ctx context.Context) (string, []string, bool) {
		t := link.Transport(secure, d.Cert)
		t.DisableKeepAlives = true
		client := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		req, err := http.NewRequestWithContext(ctx, http.MethodHead, u.Scheme+"://"+u.Host+"/", nil)
		if err != nil {
			p.doubt = true
			return "not known: " + err.Error(), nil, true
		}
		asked := time.Now()
		resp, err := client.Do(req)
		if err != nil {
			what, _ := link.Explain(err, u.Host)
			p.doubt = true
			return "not known: " + u.Host + ": " + what, nil, true
		}
		resp.Body.Close()
		theirs, err := http.ParseTime(resp.Header.Get("Date"))
		if err != nil {
			p.doubt = true
			return "not known: " + u.Host + " does not tell its time", nil, true
		}
		p.skew = Skew(theirs, asked, time.Now())
		p.doubt = p.skew.Abs() >= time.Second
		return tellSkew(u.Host, p.skew), nil, true
	})
}

// Skew is how far a clock that tells whole seconds is ahead of ours, at least: it told
// the time between asked and answered.
func Skew(theirs, asked, answered time.Time) time.Duration {
	switch {
	case theirs.After(answered):
		return theirs.Sub(answered)
	case theirs.Add(time.Second).Before(asked):
		return theirs.Add(time.Second).Sub(asked)
	}
	return 0
}

func tellSkew(host string, skew time.Duration) string {
	switch r := skew.Round(time.Second); {
	case r > 0:
		return fmt.Sprintf("they do not: that of %s is %s ahead of this machine's", host, r)
	case r < 0:
		return fmt.Sprintf("they do not: that of %s is %s behind this machine's", host, -r)
	}
	return "to the second, with " + host
}

// late puts the clock first among the causes of a refusal, where the clocks differ.
func (p *prober) late(causes []string) []string {
	if p.skew.Abs() < clockMatters {
		return causes
	}
	return append([]string{"the clocks differ (see above): what is only good for a time is too old, or not good yet; set this machine's clock"}, causes...)
}

// pass makes the device's access token.
func (p *prober) pass(ctx context.Context, d *fleet.Device) {
	if d.Pass == nil {
		return
	}
	p.do(ctx, "access token made", func(ctx context.Context) (string, []string, bool) {
		token, renew, err := d.Pass.Token(ctx)
		if err != nil {
			what, try := link.Explain(err, "")
			return what, p.late([]string{try}), false
		}
		p.token = token
		says := fmt.Sprintf("%d characters", len(token))
		if !renew.IsZero() {
			says += ", to be renewed in " + quantity.FormatDuration(time.Until(renew).Round(time.Second))
		}
		return says, nil, true
	})
}

func (p *prober) network(ctx context.Context, l *crowd.Link, d *fleet.Device, address string) {
	host := link.Host(address)
	if net.ParseIP(host) == nil {
		p.do(ctx, "name resolved", func(ctx context.Context) (string, []string, bool) {
			list, err := net.DefaultResolver.LookupHost(ctx, host)
			if err != nil {
				what, _ := link.Explain(err, address)
				return what, []string{"the host name is mistyped, or it is the other of two hosts", "this machine's DNS does not know it: is a VPN needed?"}, false
			}
			return strings.Join(list[:min(3, len(list))], ", "), nil, true
		})
	}
	var nc net.Conn
	p.do(ctx, "TCP open", func(ctx context.Context) (string, []string, bool) {
		var dialer net.Dialer
		var err error
		if nc, err = dialer.DialContext(ctx, "tcp", address); err != nil {
			what, _ := link.Explain(err, address)
			causes := []string{"the port is wrong: " + usualPorts(l), "the platform is not up, or this is the other of two hosts", "a firewall is in the way"}
			if errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err) {
				causes = []string{"a firewall swallows the packets", "this is the other of two hosts, or the port is wrong: " + usualPorts(l)}
			}
			return what, causes, false
		}
		return nc.RemoteAddr().String(), nil, true
	})
	if nc != nil {
		defer nc.Close()
	}
	if l.TLS == nil {
		return
	}
	p.do(ctx, "TLS", func(ctx context.Context) (string, []string, bool) {
		cfg := credential.TLS(l).Config(host, d.Cert)
		t := tls.Client(nc, cfg)
		began := time.Now()
		err := t.HandshakeContext(ctx)
		p.measured = time.Since(began)
		if err == nil {
			// In TLS 1.3 the platform says no to a client behind the handshake.
			t.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
			var b [1]byte
			if _, readErr := t.Read(b[:]); readErr != nil && link.IsTLS(readErr) {
				err = readErr
			}
		}
		if err != nil {
			what, try := link.Explain(err, address)
			causes := []string{try}
			if speaks := Speaks(ctx, address); speaks != "" && speaks != "TLS" {
				causes = append([]string{"this port speaks " + speaks + " without TLS: write " + plainScheme(l.Scheme) + "://, or take the port of TLS: " + usualPorts(l)}, causes...)
			}
			if d.Cert != nil {
				causes = append(causes, "the device's certificate is not of the authority that the platform trusts, has expired, or was revoked")
			}
			return what, causes, false
		}
		return certificateSays(t.ConnectionState()), nil, true
	})
}

func certificateSays(st tls.ConnectionState) string {
	says := tls.VersionName(st.Version) + ", " + tls.CipherSuiteName(st.CipherSuite)
	if st.NegotiatedProtocol != "" {
		says += ", ALPN " + st.NegotiatedProtocol
	}
	if len(st.PeerCertificates) > 0 {
		c := st.PeerCertificates[0]
		left := time.Until(c.NotAfter)
		says += fmt.Sprintf("; certificate for %s by %s, valid until %s", formula.List(link.CertNames(c)), c.Issuer.CommonName, c.NotAfter.UTC().Format("2006-01-02"))
		if left < 14*24*time.Hour {
			says += fmt.Sprintf(" (%d days left)", int(left.Hours()/24))
		}
		switch {
		case len(st.VerifiedChains) == 0:
			says += "; not checked: verify is false"
		default:
			says += fmt.Sprintf("; trusted by way of %s", chain(st.VerifiedChains[0]))
		}
	}
	return says
}

// chain names the authorities above a certificate, the nearest first.
func chain(list []*x509.Certificate) string {
	var names []string
	for _, c := range list[1:] {
		names = append(names, c.Subject.CommonName)
	}
	if len(names) == 0 {
		return "itself"
	}
	return strings.Join(names, ", ")
}

func usualPorts(l *crowd.Link) string {
	if l.Protocol == crowd.HTTP {
		return "80 and 8080 are usual for http, 443 for https"
	}
	return "1883 is usual for mqtt, 8883 for mqtts, 80 and 443 for ws and wss"
}

func plainScheme(s string) string { return strings.TrimSuffix(s, "s") }

// broker exchanges CONNECT and CONNACK.
func (p *prober) broker(ctx context.Context, l *crowd.Link, d *fleet.Device) {
	at := mqtt.Endpoint{Scheme: l.Scheme, Address: l.Address, Path: l.Path}
	if secure := credential.TLS(l); secure != nil {
		at.TLS = secure.Config(link.Host(l.Address), d.Cert)
	}
	if d.Path != "" {
		at.Path = link.Fill(d.Path, p.token)
	}
	var nc net.Conn
	if l.Scheme == "ws" || l.Scheme == "wss" {
		p.do(ctx, "WebSocket", func(ctx context.Context) (string, []string, bool) {
			var err error
			if nc, err = at.Dial(ctx); err != nil {
				e := mqtt.ReachError(l.Name, l.Scheme, l.Address, d.Name, err)
				var reach *link.ReachError
				if !errors.As(e, &reach) {
					return err.Error(), nil, false
				}
				causes := []string{reach.Try}
				if speaks := Speaks(ctx, l.Address); speaks != "" && speaks != "HTTP" {
					causes = append([]string{"this port speaks " + speaks + ", not HTTP"}, causes...)
				}
				return reach.What, causes, false
			}
			return "upgraded at " + link.Hide(at.Path, p.token), nil, true
		})
	}
	var line *mqtt.Line
	var refused *mqtt.RefusedError
	said := "" // of the credentials, where the broker does not take them
	version := map[int]string{4: "3.1.1", 5: "5"}[l.Version]
	p.do(ctx, "MQTT "+version+" accepted", func(ctx context.Context) (string, []string, bool) {
		var err error
		if nc == nil {
			if nc, err = at.Dial(ctx); err != nil {
				what, try := link.Explain(err, l.Address)
				return what, []string{try}, false
			}
		}
		nc.SetDeadline(time.Now().Add(l.ConnectTimeout))
		id := d.Identity()
		id.Will = nil // nobody is to hear that the probe has left
		connect := mqtt.Connect(l.Version, id, p.token)
		connect.KeepAlive, connect.CleanStart = 30, true
		line, err = mqtt.Handshake(nc, connect, mqtt.Sizes{Buffer: 4096, Packet: 1 << 20})
		if err == nil {
			return limits(l, line.Ack), nil, true
		}
		e := mqtt.ReachError(l.Name, l.Scheme, l.Address, d.Name, err)
		var reach *link.ReachError
		if !errors.As(e, &reach) {
			return err.Error(), nil, false
		}
		if errors.As(err, &refused) && ofCredentials(refused.Code) {
			said = link.Hide(reach.What, p.token)
			return "the broker speaks it", nil, true
		}
		if refused != nil {
			return link.Hide(reach.What, p.token), p.late(refusedCauses(refused.Code, d)), false
		}
		var causes []string
		if !errors.Is(err, mqttwire.ErrMalformed) && !link.IsTLS(err) {
			reach.What = "CONNECT got no answer: " + reach.What
		}
		if speaks := Speaks(ctx, l.Address); speaks != "" && speaks != "MQTT" {
			causes = append(causes, "this port speaks "+speaks+": the port of another protocol, or the scheme should be mqtts, ws or wss")
		}
		return reach.What, append(causes, reach.Try, "the broker closes the connection where it does not like user name, password or client id"), false
	})
	p.do(ctx, "credentials accepted", func(context.Context) (string, []string, bool) {
		if said != "" {
			return said, p.late(refusedCauses(refused.Code, d)), false
		}
		return shown(d), nil, true
	})
	p.do(ctx, "connection kept", func(context.Context) (string, []string, bool) {
		nc.SetReadDeadline(time.Now().Add(400 * time.Millisecond))
		var pk mqttwire.Packet
		err := line.Reader.Read(&pk)
		if err == nil && pk.Type == mqttwire.DISCONNECT {
			reason := mqttwire.Because(mqttwire.Reason(pk.Reason), pk.ReasonString)
			causes := []string{"see the broker's log"}
			if pk.Reason == 0x8e {
				causes = []string{fmt.Sprintf("another client connected with the same client id, %q: a real device, another run, or a second device of the same id", d.ClientID)}
			}
			return "the broker disconnected: " + reason, causes, false
		}
		if err != nil && !os.IsTimeout(err) {
			what, _ := link.Explain(err, l.Address)
			return what, []string{fmt.Sprintf("another client has the client id %q, and the broker lets the newer one win", d.ClientID), "the broker closes connections of clients it does not know"}, false
		}
		return "as client id " + d.ClientID, nil, true
	})
	if nc != nil {
		nc.SetDeadline(time.Now().Add(time.Second))
		nc.Write(mqttwire.AppendDisconnect(nil, byte(l.Version), false))
		nc.Close()
	}
}

// ofCredentials tells whether a code of CONNACK speaks of credentials (MQTT 5, section
// 3.2.2.2; MQTT 3.1.1, section 3.2.2.3).
func ofCredentials(code byte) bool {
	return code == 0x86 || code == 0x87 || code == 0x8c || code == 4 || code == 5
}

// shown is what a device showed of itself.
func shown(d *fleet.Device) string {
	var list []string
	if d.Cert != nil && d.Cert.Leaf != nil {
		list = append(list, "the certificate of "+d.Cert.Leaf.Subject.CommonName)
	}
	switch {
	case d.Pass != nil:
		list = append(list, "its access token")
	case d.Username != "" && d.Password != "":
		list = append(list, "user name and password")
	case d.Username != "":
		list = append(list, "a user name")
	case d.Password != "":
		list = append(list, "a password")
	}
	if len(list) == 0 {
		return "none were shown, and none were wanted"
	}
	return strings.Join(list, ", ")
}

// limits are what a broker announces.
func limits(l *crowd.Link, ack *mqttwire.Packet) string {
	if l.Version != 5 {
		return "the broker announces no limits in this version"
	}
	qos := byte(2)
	if ack.MaximumQoSSet {
		qos = ack.MaximumQoS
	}
	list := []string{fmt.Sprintf("QoS up to %d", qos)}
	if ack.MaximumPacket > 0 {
		list = append(list, fmt.Sprintf("packets up to %d bytes", ack.MaximumPacket))
	}
	if ack.ReceiveMaximum > 0 {
		list = append(list, fmt.Sprintf("%d in flight", ack.ReceiveMaximum))
	}
	if ack.TopicAliasMaximum > 0 {
		list = append(list, fmt.Sprintf("%d topic aliases", ack.TopicAliasMaximum))
	}
	if ack.KeepAliveSet {
		list = append(list, fmt.Sprintf("keep-alive %ds", ack.ServerKeepAlive))
	}
	if ack.NoRetain {
		list = append(list, "no retained messages")
	}
	return strings.Join(list, ", ")
}

// tokenCause is the likeliest cause where an access token is refused.
const tokenCause = "the access token is not what the platform wants: its key or secret, what it says of the device (sub, aud), or how long it is good"

func refusedCauses(code byte, d *fleet.Device) []string {
	switch code {
	case 0x86, 0x87, 4, 5:
		list := []string{"user name or password is mistyped, or has expired", "the device's secret is used where the platform's is wanted, or the other way round",
			fmt.Sprintf("this secret belongs to another client id than %q", d.ClientID), "this client may not connect: a permission is missing on the platform"}
		if d.Username == "" && d.Password == "" {
			list = append([]string{"the platform wants credentials, and the link has none: username, password"}, list...)
		}
		if d.Pass != nil {
			list = append([]string{tokenCause}, list...)
		}
		return list
	case 0x84, 1:
		return []string{"the broker speaks the other version: write version: 3.1.1, or 5"}
	case 0x85, 2:
		return []string{fmt.Sprintf("the client id %q is not one that the platform gave out, or is too long for it", d.ClientID)}
	case 0x9c, 0x9d:
		return []string{"the platform has another broker for this device: write its address, or let the link follow: redirects: follow"}
	case 0x97, 0x9f, 0x89, 3:
		return []string{"a limit of the platform is reached: connections, or their rate"}
	}
	return []string{"see the broker's log"}
}

// message sends one message of the stream and looks for it.
func (p *prober) message(ctx context.Context, c *crowd.Crowd, f *fleet.Fleet, s *fleet.Stream) {
	var m *ledger.Message
	var book *ledger.Book
	var took time.Duration
	if !p.fail {
		began := time.Now()
		var err error
		book, err = p.play(ctx, f, s)
		took = time.Since(began)
		if err != nil {
			var reach *link.ReachError
			says, cause := err.Error(), "see above"
			if errors.As(err, &reach) {
				says, cause = reach.Error(), reach.Try
			}
			p.do(ctx, "witnesses ready", func(context.Context) (string, []string, bool) { return c.Redact(says), p.late([]string{cause}), false })
		} else if list := book.Messages[s.Index]; len(list) > 0 {
			m = &list[len(list)-1]
		}
	}
	if over := s.Device.Cast.Link.Protocol; over == crowd.HTTP && (p.fail || m != nil && (m.Outcome == outcome.Accepted || m.Code == 401 || m.Code == 403)) {
		p.do(ctx, "credentials accepted", func(context.Context) (string, []string, bool) {
			p.measured = 1 // of the request below
			if m.Outcome != outcome.Accepted {
				return c.Redact(m.Outcome.String() + ": " + m.Text), p.late(messageCauses(s, m)), false
			}
			return shownOverHTTP(s), nil, true
		})
	}
	p.do(ctx, "message acknowledged", func(context.Context) (string, []string, bool) {
		switch {
		case m == nil:
			return "no message was made", nil, false
		case m.Outcome == outcome.Accepted:
			p.measured = m.At.Sub(m.Sent)
			return fmt.Sprintf("%s of %s", s.Reading.Name, s.Device.Name), nil, true
		case m.Outcome == outcome.NotAsked:
			return "not asked: QoS 0", nil, true
		}
		return c.Redact(m.Outcome.String() + ": " + m.Text), p.late(messageCauses(s, m)), false
	})
	for i, w := range c.Witnesses {
		if !f.Sees(i, s.Device) {
			continue
		}
		what := "own subscription hears it"
		if w.Get != "" {
			what = "store finds it"
			p.do(ctx, "read-back answers", func(context.Context) (string, []string, bool) {
				p.measured = 1 // of the questions below
				h := book.Witnesses[i].Heard[1]
				if book.Sighting(i, s.Index, m.Seq) == nil && !h.Complete && h.Why != "" && !strings.HasPrefix(h.Why, witness.Unmarked) {
					return w.Name + ": " + c.Redact(h.Why), []string{"see what is said there"}, false
				}
				return "the witness " + w.Name + " could ask", nil, true
			})
		}
		p.do(ctx, what, func(context.Context) (string, []string, bool) {
			if x := book.Sighting(i, s.Index, m.Seq); x != nil {
				p.measured = max(1, x.Seen.Sub(m.Sent))
				return "the witness " + w.Name, nil, true
			}
			h := book.Witnesses[i].Heard[1]
			if !h.Complete && h.Why != "" {
				return w.Name + ": " + c.Redact(h.Why), []string{"see what is said there"}, false
			}
			p.measured = took
			return "the witness " + w.Name + " did not find it", p.late(missingCauses(w)), false
		})
	}
}

// play sends the message in a run folder that is gone afterwards.
func (p *prober) play(ctx context.Context, f *fleet.Fleet, s *fleet.Stream) (*ledger.Book, error) {
	dir, err := os.MkdirTemp("", "runcrowd-probe-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	session, err := run.Open(ctx, f, run.Options{Out: dir, File: f.Crowd.Path, Only: []*fleet.Device{s.Device}})
	if err != nil {
		return nil, err
	}
	if err := session.Send(ctx, &engine.Single{Stream: s.Index, Unretained: true}); err != nil {
		return nil, err
	}
	return run.ReadLedger(session.Folder)
}

// shownOverHTTP is shown for a device whose credentials ride in headers.
func shownOverHTTP(s *fleet.Stream) string {
	for _, h := range s.Headers {
		if strings.EqualFold(h.Name, "Authorization") && s.Device.Pass == nil {
			return "the header " + h.Name
		}
	}
	return shown(s.Device)
}

func messageCauses(s *fleet.Stream, m *ledger.Message) []string {
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		return []string{"this client may not publish to " + s.Target + ": a permission is missing on the platform", "the platform takes another topic, QoS or size"}
	}
	switch {
	case m.Code == 401 || m.Code == 403:
		list := []string{"the token or password is mistyped or has expired", "the device's secret is used where the platform's is wanted, or the other way round", "a permission is missing on the platform"}
		if s.Device.Pass != nil {
			list = append([]string{tokenCause}, list...)
		}
		return list
	case m.Code == 404 || m.Code == 405:
		return []string{"the path or the method is wrong: " + s.Reading.Method + " " + s.Target, "the device is not known to the platform yet", "this is the other of two hosts"}
	case m.Code == 400 || m.Code == 415 || m.Code == 422:
		return []string{"the platform wants another payload: compare with its documentation, and with: runcrowd preview", "the content type is not the one it takes"}
	case m.Code == 429 || m.Code == 503:
		return []string{"a limit of the platform is reached; try again later"}
	case m.Code >= 300 && m.Code < 400:
		return []string{"the platform sends elsewhere: take the address it names"}
	}
	return []string{"see the platform's log"}
}

func missingCauses(w *crowd.Witness) []string {
	if w.Get == "" {
		return []string{"the filter " + w.Filter + " does not match where the message comes out", "this client may not subscribe there, and the broker says so to nobody", "the platform passes messages on elsewhere, or not at all"}
	}
	return []string{"the platform acknowledged and did not store it: is the device known to it, are the fields declared?", "it stores later than the witness waits: raise wait:", "the mark is elsewhere in a row than mark: says, or was dropped as an unknown field", "get: asks for another device or another time; is the clock right?"}
}

// Speaks finds out what a port speaks: TLS, HTTP or MQTT; empty if none of them.
func Speaks(ctx context.Context, address string) string {
	// It is asked when the step's own time may be over.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stepTime)
	defer cancel()
	for _, try := range []struct {
		name string
		ask  func(net.Conn) bool
	}{
		{"TLS", func(nc net.Conn) bool {
			err := tls.Client(nc, &tls.Config{InsecureSkipVerify: true}).Handshake() // only to see whether it is TLS
			var header tls.RecordHeaderError
			return err == nil || link.IsTLS(err) && !errors.As(err, &header)
		}},
		{"MQTT", func(nc net.Conn) bool {
			nc.Write(mqttwire.AppendConnect(nil, &mqttwire.Connect{Version: mqttwire.V311, ClientID: "runcrowd-probe", CleanStart: true}))
			var b [2]byte
			n, _ := nc.Read(b[:])
			return n == 2 && b[0] == mqttwire.CONNACK<<4 && b[1] == 2
		}},
		{"HTTP", func(nc net.Conn) bool {
			fmt.Fprintf(nc, "HEAD / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", address)
			resp, err := http.ReadResponse(bufio.NewReader(nc), &http.Request{Method: http.MethodHead})
			return err == nil && resp.ProtoMajor > 0
		}},
	} {
		var d net.Dialer
		nc, err := d.DialContext(ctx, "tcp", address)
		if err != nil {
			return ""
		}
		nc.SetDeadline(time.Now().Add(time.Second))
		is := try.ask(nc)
		nc.Close()
		if is {
			return try.name
		}
	}
	return ""
}
