package listen

import (
	"context"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// callback is a source that the platform calls over HTTP.
//
// Nobody can be asked whether calls still get through. It counts as heard once the platform
// has called at all: silence says nothing before. That it was the platform is known where calls
// must show a header that nobody else knows, or where one came from an address of the platform:
// anybody can call.
type callback struct {
	spec     *crowd.Witness
	at       *crowd.Callback
	listen   func(network, address string) (net.Listener, error)
	crowd    *crowd.Crowd
	rows     *jq.Query // nil: a call brings one message
	listener *listener
	server   *http.Server
	done     chan struct{}

	hearing sync.Mutex // calls are heard one at a time, as they come

	mu     sync.Mutex
	began  time.Time
	first  time.Time // of the calls that were good; zero: none came
	last   time.Time
	calls  int
	sure   bool                // one of them was the platform's
	other  string              // where another came from
	places map[netip.Addr]bool // of the platform
	broken error               // it does not listen any more
	told   map[string]bool
}

func newCallback(spec *crowd.Witness, c *match.Catalog) (*callback, error) {
	s := &callback{spec: spec, at: spec.Callback, crowd: c.Fleet.Crowd, listen: c.Listen, told: map[string]bool{}}
	if s.listen == nil {
		s.listen = net.Listen
	}
	return s, match.Compile(&s.rows, spec.Rows)
}

// start implements source.
func (s *callback) start(ctx hearing.Context, e *listener) error {
	s.listener, s.began = e, clock.Now()
	s.places = s.addresses(ctx)
	l, err := s.listen("tcp", s.at.Address)
	if err != nil {
		why := err
		if inner := errors.Unwrap(err); inner != nil {
			why = inner
		}
		return &link.ReachError{Witness: s.spec.Name, Address: s.at.URL, What: "cannot listen there: " + why.Error(),
			Try: "take an address of this machine and a port that nothing else uses", Err: err}
	}
	if len(s.at.Cert) > 0 {
		pair, err := tls.X509KeyPair(s.at.Cert, s.at.Key)
		if err != nil {
			l.Close()
			return fmt.Errorf("the witness %q: its certificate: %w", s.spec.Name, err)
		}
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}, NextProtos: []string{"h2", "http/1.1"}})
	}
	s.server = &http.Server{Handler: http.HandlerFunc(s.serve), ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout: time.Minute, MaxHeaderBytes: 1 << 16, ErrorLog: log.New(io.Discard, "", 0)}
	s.done = make(chan struct{})
	go func() {
		defer close(s.done)
		err := s.server.Serve(l)
		if errors.Is(err, http.ErrServerClosed) { // stop
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.broken, s.last = err, clock.Now()
	}()
	return nil
}

// serve takes one call.
func (s *callback) serve(w http.ResponseWriter, r *http.Request) {
	at := clock.Now()
	switch {
	case r.URL.Path != s.at.Path:
		http.Error(w, "nothing listens at this path", http.StatusNotFound)
		s.remark(fmt.Sprintf("the witness %q: the platform called the path %s, where nothing listens; it listens at %s",
			s.spec.Name, match.Clip(s.crowd.Redact(r.URL.Path)), s.at.Path))
		return
	case r.Method != http.MethodPost && r.Method != http.MethodPut:
		w.Header().Set("Allow", "POST, PUT")
		http.Error(w, "it takes POST and PUT", http.StatusMethodNotAllowed)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxMessage))
	if err != nil {
		// What it would have said is not known, and not every platform says it again.
		why := "a call broke off before its body had come whole"
		var long *http.MaxBytesError
		if errors.As(err, &long) {
			http.Error(w, "the body is too long", http.StatusRequestEntityTooLarge)
			why = fmt.Sprintf("a call brought more than %d bytes", maxMessage)
		}
		s.listener.gap(&ledger.Gap{From: at, To: clock.Now(), Why: why})
		return
	}
	if lacks := s.lacks(r, body); lacks != "" {
		http.Error(w, "the header "+lacks+" is not as it should be", http.StatusUnauthorized)
		s.remark(fmt.Sprintf("the witness %q: calls came without the right header %s", s.spec.Name, lacks))
		return
	}
	s.hearing.Lock()
	s.called(addressOf(r.RemoteAddr))
	s.mu.Lock()
	s.calls++
	s.last = at
	c := s.at
	fails := c.Status >= 300 && (c.Times == 0 || s.calls <= c.Times) && (c.For == 0 || at.Sub(s.first) < c.For)
	s.mu.Unlock()
	if !fails {
		s.take(r, body, at)
	}
	s.hearing.Unlock()
	if c.Delay > 0 {
		select {
		case <-time.After(c.Delay):
		case <-r.Context().Done():
		}
	}
	switch {
	case fails:
		w.WriteHeader(c.Status)
	case c.Status > 0 && c.Status < 300:
		w.WriteHeader(c.Status)
	}
}

// addresses are those of the hosts of all links. A host of this machine has all addresses of its
// own.
func (s *callback) addresses(ctx hearing.Context) map[netip.Addr]bool {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	set := map[netip.Addr]bool{}
	for _, l := range s.crowd.AllLinks() {
		host := link.Host(l.Address)
		if u, err := url.Parse(l.Address); err == nil && u.Host != "" {
			host = u.Hostname()
		}
		list := []netip.Addr{}
		if ip, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
			list = append(list, ip)
		} else if found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host); err == nil {
			list = found
		}
		for _, ip := range list {
			set[ip.Unmap().WithZone("")] = true
		}
	}
	return set
}

// called notes that a good call came from an address.
func (s *callback) called(from netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.first.IsZero() {
		s.first = clock.Now()
	}
	if s.sure = s.sure || len(s.at.RequireHeaders) > 0 || s.places[from] || from.IsLoopback() && s.local(); !s.sure {
		s.other = from.String()
	}
}

// local tells whether the platform is on this machine.
func (s *callback) local() bool {
	for ip := range s.places {
		if ip.IsLoopback() {
			return true
		}
	}
	return false
}

// addressOf is the address of a connection's other side.
func addressOf(remote string) netip.Addr {
	at, err := netip.ParseAddrPort(remote)
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap().WithZone("")
}

// take hands what a call brings to the listener.
func (s *callback) take(r *http.Request, body []byte, at time.Time) {
	m := &message{at: at, body: body, beside: func(name string) (string, bool) {
		v := r.Header.Get(
			name)
		return v, v != ""
	}}
	if s.rows == nil {
		s.listener.take(m)
		return
	}
	v, err := strictjson.Decode(body)
	if err != nil {
		s.remark(fmt.Sprintf("the witness %q: a call brought a body that is no JSON: rows could not be taken out of it",
			s.spec.Name))
		return
	}
	rows, err := s.rows.All(v)
	if err != nil {
		s.remark(fmt.Sprintf("the witness %q: rows: %s", s.spec.Name, err))
		return
	}
	for _, row := range rows {
		m.body = []byte(match.Text(row))
		s.listener.take(m)
	}
}

// lacks is the header that a call should show, and does not; empty: it shows all.
func (s *callback) lacks(r *http.Request, body []byte) string {
	env := formula.Env{"crowd": s.crowd.Name, "env": s.crowd.Env, "body": string(body)}
	for _, h := range s.at.RequireHeaders {
		want, err := h.Value.Expand(&formula.Machine{}, env)
		if got := r.Header.Get(h.Name); err != nil || subtle.ConstantTimeCompare([]byte(got), []byte(want)) == 0 {
			return h.Name
		}
	}
	return ""
}

// remark tells something once.
func (s *callback) remark(what string) {
	s.mu.Lock()
	known := s.told[what] || len(s.told) >= 20
	s.told[what] = true
	s.mu.Unlock()
	if !known {
		s.listener.remark(what)
	}
}

// fence implements source.
func (s *callback) fence(hearing.Context) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.broken == nil && s.sure
}

// state implements source.
func (s *callback) state() (last, down time.Time, why string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.broken != nil:
		return s.last, s.last, s.broken.Error()
	case s.first.IsZero():
		return s.last, s.began, "the platform has not called " + s.at.URL + " in this run; can it reach this machine?"
	case !s.sure:
		return s.last, s.began, "calls came from " + s.other + ", which is no address of the platform, and nothing shows " +
			"that they were its own; say what its calls show with require_headers"
	}
	return s.last, time.Time{}, ""
}

// lost implements source.
func (*callback) lost() string { return "" }

// stop implements source.
func (s *callback) stop() {
	if s.server == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.server.Shutdown(ctx) != nil {
		s.server.Close()
	}
	<-s.done
}
