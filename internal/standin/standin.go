// Package standin is a small simulated device platform: an MQTT broker, an HTTP
// intake, a store and an API that reads it back. It exists to try crowds
// without a platform, and to show that every flaw a platform can have is found:
// it can be told to have them. It shares no code with what it tests.
//
// What comes in over MQTT on a topic, or over HTTP by POST to /in/TOPIC, is
// passed on to subscribers of the topic and stored under the device and the
// reading that are the last two levels of the topic. GET /stored lists the
// devices, GET /stored/DEVICE the rows of one, page by page, as JSON, JSON Lines or CSV; POST
// /stored/search asks with a body.
package standin

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
)

// Config says how a stand-in is.
type Config struct {
	MQTT  string // address to listen on; a port of 0 takes a free one
	HTTP  string
	Flaws []Flaw
	// Token, if not empty, is what every client must show: as the password over MQTT; over
	// HTTP as "Authorization: Bearer TOKEN", as the
	// password of basic authentication, or as access_token in the address. Where other
	// credentials are wanted too, any of them will do.
	Token string
	// TokenAsUser also takes a token as the user name over MQTT, where there is no password.
	TokenAsUser bool
	// JWTKeys is a folder with the certificate or public key of each device, DEVICE.pem;
	// JWTSecret a secret that all share. A device shows a token signed with it, as above.
	// A connection ends when its token runs out.
	JWTKeys, JWTSecret string
	// OAuthSecret is the secret of every client of the authorization server at POST
	// /token, whose tokens are good for TokenLife (1h).
	OAuthSecret string
	TokenLife   time.Duration
	// OwnTopics lets a device publish and subscribe only where a level of the topic is
	// its name; who shows Token may do everything.
	OwnTopics bool
	// Connections is how many clients may be connected over MQTT at most; 0: any number.
	Connections int
	// WS, if not empty, is an address to listen on for MQTT over WebSocket, at any path.
	WS string
	// TLS, if not nil, secures all that the stand-in listens on.
	TLS *tls.Config
	// Registry makes it want its devices registered: by POST to
	// /registry, and show the token they get: as the password beside their name over
	// MQTT, as a bearer token over HTTP. RegistryRate is how many it takes in a second.
	Registry     bool
	RegistryRate int
	// Rules are by what it says something by itself: at AlertTopic/DEVICE ("alerts" if
	// empty), at GET /alerts, and by a POST to Hook, signed with HookSecret (X-Signature, the
	// HMAC-SHA256 of the body in hexadecimal).
	Rules            []Rule
	AlertTopic       string
	Hook, HookSecret string
	// Keep is how many messages are stored at most; more are told and dropped.
	Keep int
	// Network, if not nil, is where it listens, and calls the hook: a test may have one of its
	// own.
	Network interface {
		Listen(network, address string) (net.Listener, error)
		Dial(ctx context.Context, network, address string) (net.Conn, error)
	}
}

// StandIn is a running platform.
type StandIn struct {
	MQTTAddr, HTTPAddr string // host:port that it listens on
	WSAddr             string

	cfg     Config
	broker  *mqtt.Server
	guests  guests
	relay   *mqtt.Client
	web     *http.Server
	store   *store
	chance  *chance
	known   *registry // nil: every device may send
	grants  grants
	orders  orders
	watched watch

	visitors sync.Map // of connections, by *mqtt.Client

	mu     sync.Mutex
	topics map[string]bool     // seen so far, for misfile
	keys   map[string]bool     // idempotency keys of requests that were taken
	held   map[string][]func() // by topic, for reorder
	timers map[*time.Timer]bool
	closed bool
	quit   chan struct{}
}

// defaultKeep bounds the store: about a gigabyte of small messages.
const defaultKeep = 2_000_000

// maxBody is the largest HTTP message, in bytes.
const maxBody = 1 << 20

// holdMost is how long a message is held back for the next one of its topic.
const holdMost = 3 * time.Second

// Start starts a stand-in. It serves until Close.
func Start(cfg Config) (*StandIn, error) {
	if cfg.Keep == 0 {
		cfg.Keep = defaultKeep
	}
	listen := net.Listen
	if cfg.Network != nil {
		listen = cfg.Network.Listen
	}
	ml, err := listen("tcp", cfg.MQTT)
	if err != nil {
		return nil, fmt.Errorf("the stand-in cannot listen for MQTT on %s: %w", cfg.MQTT, errors.Unwrap(err))
	}
	hl, err := listen("tcp", cfg.HTTP)
	if err != nil {
		ml.Close()
		return nil, fmt.Errorf("the stand-in cannot listen for HTTP on %s: %w", cfg.HTTP, errors.Unwrap(err))
	}
	s := &StandIn{MQTTAddr: ml.Addr().String(), HTTPAddr: hl.Addr().String(), cfg: cfg, store: newStore(cfg.Keep),
		chance: newChance(cfg.Flaws),
		topics: map[string]bool{}, keys: map[string]bool{}, held: map[string][]func(){}, timers: map[*time.Timer]bool{},
		quit: make(chan struct{})}
	if cfg.Registry {
		s.known = newRegistry(cfg.RegistryRate)
	}
	caps := mqtt.NewDefaultServerCapabilities()
	// A queue for each client, made when it connects: a longer one costs more to look
	// through for the garbage collector than everything else together.
	caps.MaximumClientWritesPending = 1 << 14
	caps.MaximumInflight = 65535
	if cfg.Connections > 0 {
		caps.MaximumClients = int64(cfg.Connections)
	}
	s.watched.beyond = map[string]bool{}
	if s.cfg.AlertTopic == "" {
		s.cfg.AlertTopic = "alerts"
	}
	if cfg.Hook != "" {
		s.watched.posts = make(chan Alert, 10_000)
		go s.post()
	}
	s.grants.tokens = map[[sha256.Size]byte]visitor{}
	s.orders = orders{commands: map[string][]json.RawMessage{}, answers: map[string][]json.RawMessage{}}
	s.broker = mqtt.New(&mqtt.Options{Capabilities: caps, InlineClient: true, Logger: slog.New(slog.DiscardHandler)})
	s.relay = s.broker.NewClient(nil, "local", "stand-in", true)
	if err := s.broker.AddHook(&hook{s: s}, nil); err != nil {
		return nil, err
	}
	if cfg.TLS != nil {
		web := cfg.TLS.Clone()
		web.NextProtos = []string{"h2", "http/1.1"}
		ml, hl = tls.NewListener(ml, cfg.TLS), tls.NewListener(hl, web)
	}
	if err := s.broker.AddListener(&listener{Listener: ml, guests: &s.guests}); err != nil {
		return nil, err
	}
	if cfg.WS != "" {
		wl, err := listen("tcp", cfg.WS)
		if err != nil {
			ml.Close()
			hl.Close()
			return nil, fmt.Errorf("the stand-in cannot listen for WebSocket on %s: %w", cfg.WS, errors.Unwrap(err))
		}
		s.WSAddr = wl.Addr().String()
		if cfg.TLS != nil {
			wl = tls.NewListener(wl, cfg.TLS)
		}
		if err := s.broker.AddListener(&webListener{listener: listener{Listener: wl, guests: &s.guests}}); err != nil {
			return nil, err
		}
	}
	// The broker's count of its clients must never rise from none while Close
	// waits for it: the stand-in is counted, too, until its own have ended.
	s.broker.Listeners.ClientsWg.Add(1)
	if err := s.broker.Serve(); err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	if s.known != nil {
		mux.HandleFunc("POST /registry", s.known.register)
		mux.HandleFunc("GET /registry", s.known.known)
		mux.HandleFunc("DELETE /registry/{device}", s.known.remove)
	}
	mux.HandleFunc("POST /in/{topic...}", s.intake)
	mux.HandleFunc("PUT /in/{topic...}", s.intake)
	mux.HandleFunc("GET /in/{topic...}", s.intake)
	mux.HandleFunc("GET /stored", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"devices": s.store.devices()})
	})
	mux.HandleFunc("GET /stored/{device}", s.store.read)
	mux.HandleFunc("POST /stored/search", s.store.search)
	mux.HandleFunc("GET /alerts", s.alerts)
	mux.HandleFunc("POST /publish/{topic...}", s.publish)
	mux.HandleFunc("POST /commands/{device}", s.orders.put(&s.orders.commands))
	mux.HandleFunc("GET /commands/{device}", s.orders.get(&s.orders.commands, "commands"))
	mux.HandleFunc("POST /answers/{device}", s.orders.put(&s.orders.answers))
	mux.HandleFunc("GET /answers/{device}", s.orders.get(&s.orders.answers, "answers"))
	if cfg.OAuthSecret != "" {
		mux.HandleFunc("POST /token", s.grant)
	}
	s.web = &http.Server{Handler: s.guard(mux), ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		Protocols: new(http.Protocols)}
	s.web.Protocols.SetHTTP1(true)
	s.web.Protocols.SetHTTP2(true)
	s.web.Protocols.SetUnencryptedHTTP2(true)
	go s.web.Serve(hl)
	return s, nil
}

// Hits are the messages that flaws fell on so far.
func (s *StandIn) Hits() []Hit {
	s.chance.mu.Lock()
	defer s.chance.mu.Unlock()
	return append([]Hit(nil), s.chance.hits...)
}

// Stored is how many messages the store holds, and how many it had no room for.
func (s *StandIn) Stored() (kept, dropped int) {
	s.store.mu.Lock()
	defer s.store.mu.Unlock()
	return s.store.total, s.store.dropped
}

// Close stops serving and cuts all connections.
func (s *StandIn) Close() {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return
	}
	s.closed = true
	for t := range s.timers {
		t.Stop()
	}
	s.mu.Unlock()
	close(s.quit)
	s.web.Close()
	s.guests.refuse()
	go func() {
		s.guests.inside.Wait()
		s.broker.Listeners.ClientsWg.Done()
	}()
	// The broker waits for its clients, and one that comes just now may not hear
	// of the end: that must hold nobody up.
	done := make(chan struct{})
	go func() { s.broker.Close(); close(done) }()
	select {
	case <-done:
	case <-time.After(closeWait):
	}
}

// closeWait is how long Close waits for the broker.
const closeWait = 2 * time.Second

// listener serves broker connections. A packet that makes the broker library
// panic ends that connection, not the program.
type listener struct {
	net.Listener
	guests *guests
	once   sync.Once
}

// guests are the connections that the broker serves. When the stand-in closes,
// no more are let in.
type guests struct {
	mu     sync.Mutex
	closed bool
	inside sync.WaitGroup
}

// serve hands a connection to the broker, until it has ended.
func (g *guests) serve(c net.Conn, establish func()) {
	g.mu.Lock()
	if g.closed {
		g.mu.Unlock()
		c.Close()
		return
	}
	g.inside.Add(1)
	g.mu.Unlock()
	defer g.inside.Done()
	defer func() {
		if recover() != nil {
			c.Close()
		}
	}()
	establish()
}

func (g *guests) refuse() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
}

func (l *listener) Init(*slog.Logger) error { return nil }
func (l *listener) ID() string              { return "mqtt" }
func (l *listener) Address() string         { return l.Addr().String() }
func (l *listener) Protocol() string        { return "tcp" }

func (l *listener) Serve(establish listeners.EstablishFn) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go l.guests.serve(c, func() { establish(l.ID(), c) })
	}
}

// webListener serves broker connections over WebSocket (MQTT 5, section 6).
type webListener struct {
	listener
	web *http.Server
}

func (l *webListener) ID() string       { return "websocket" }
func (l *webListener) Protocol() string { return "ws" }

func (l *webListener) Serve(establish listeners.EstablishFn) {
	l.web = &http.Server{ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"mqtt"}})
			if err != nil {
				return
			}
			ws.SetReadLimit(-1)
			c := websocket.NetConn(context.Background(), ws, websocket.MessageBinary)
			defer c.Close()
			l.guests.serve(c, func() { establish(l.ID(), c) })
		})}
	l.web.Serve(l.Listener)
}

func (l *listener) Close(closeClients listeners.CloseFn) {
	l.once.Do(func() {
		closeClients(l.ID())
		l.Listener.Close()
	})
}

// hook sees every message before the broker acknowledges it.
type hook struct {
	mqtt.HookBase
	s *StandIn
}

func (h *hook) ID() string { return "stand-in" }

func (h *hook) Provides(b byte) bool {
	return bytes.Contains([]byte{mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPacketRead, mqtt.OnPublish, mqtt.OnDisconnect},
		[]byte{b})
}

// OnPacketRead takes from a DISCONNECT how long the session is to live, where the broker ended it
// already: it may be looking just now whether that time is over.
func (h *hook) OnPacketRead(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if pk.FixedHeader.Type == packets.Disconnect && cl.Closed() {
		pk.Properties.SessionExpiryIntervalFlag = false
	}
	return pk, nil
}

func (h *hook) OnACLCheck(cl *mqtt.Client, topic string, _ bool) bool {
	if !h.s.cfg.OwnTopics || cl.Net.Inline {
		return true
	}
	x, _ := h.s.visitors.Load(cl)
	v, is := x.(visitor)
	return is && (v.admin || slices.Contains(strings.Split(topic, "/"), v.name))
}

func (h *hook) OnConnectAuthenticate(cl *mqtt.Client, pk packets.Packet) bool {
	name, token := string(pk.Connect.Username), string(pk.Connect.Password)
	if token == "" && h.s.cfg.TokenAsUser {
		name, token = pk.Connect.ClientIdentifier, name
	}
	v, err := h.s.admit(name, token)
	if err != nil { // a user name that all share says nothing of the device
		v, err = h.s.admit(pk.Connect.ClientIdentifier, token)
	}
	if err != nil {
		return false
	}
	if v.name == "" {
		v.name = pk.Connect.ClientIdentifier
	}
	h.s.visitors.Store(cl, v)
	if !v.until.IsZero() {
		h.s.later(time.Until(v.until), func() {
			switch {
			case cl.Closed():
			case cl.Properties.ProtocolVersion < 5: // has no DISCONNECT from a server
				cl.Stop(errCut)
			default:
				h.s.broker.DisconnectClient(cl, packets.ErrNotAuthorized)
			}
		})
	}
	return true
}

func (h *hook) OnDisconnect(cl *mqtt.Client, _ error, _ bool) { h.s.visitors.Delete(cl) }

func (h *hook) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if cl.Net.Inline {
		return pk, nil
	}
	if cl.Closed() {
		return pk, packets.ErrRejectPacket // read before the cut, but not taken
	}
	s := h.s
	props := map[string]string{}
	for _, u := range pk.Properties.User {
		props[u.Key] = u.Val
	}
	in := &message{topic: pk.TopicName, payload: bytes.Clone(pk.Payload), kind: pk.Properties.ContentType, props: props,
		qos: pk.FixedHeader.Qos, user: pk.Properties.User}
	switch s.take(in) {
	case passOn:
		if pk.FixedHeader.Qos == 0 {
			return pk, nil
		}
		// The broker acknowledges first, and does not pass on what it could not acknowledge:
		// what a device is told later that it was taken would be nowhere.
		out := pk
		out.Properties.TopicAlias, out.Properties.TopicAliasFlag = 0, false
		s.broker.InjectPacket(s.relay, out)
		return pk, packets.CodeSuccessIgnore
	case accept:
		return pk, packets.CodeSuccessIgnore
	case silent:
		return pk, packets.ErrRejectPacket
	case refuse:
		if cl.Properties.ProtocolVersion != 5 || pk.FixedHeader.Qos == 0 {
			return pk, packets.CodeSuccessIgnore
		}
		kind := byte(packets.Puback)
		if pk.FixedHeader.Qos == 2 {
			kind = packets.Pubrec
		}
		cl.WritePacket(packets.Packet{FixedHeader: packets.FixedHeader{Type: kind}, PacketID: pk.PacketID, ProtocolVersion: 5,
			ReasonCode: packets.ErrQuotaExceeded.Code})
		return pk, packets.ErrRejectPacket
	case hangUp:
		cl.Stop(errCut)
		return pk, packets.ErrRejectPacket
	}
	return pk, nil
}

var errCut = errors.New("cut")

// message is what came in.
type message struct {
	topic   string
	payload []byte
	props   map[string]string
	kind    string // media type
	qos     byte
	user    []packets.UserProperty
}

// response is how the protocol is to answer.
type response int

const (
	passOn response = iota // stored; let the protocol acknowledge and pass on
	accept                 // acknowledge; what is to be passed on has been, or will be
	silent                 // give no answer
	refuse
	hangUp
)

// take decides what becomes of a message and does it.
func (s *StandIn) take(m *message) response {
	f, hit, again := s.chance.strike(m.topic, m.payload, func(f Flaw) bool { return s.fits(f, m) })
	s.mu.Lock()
	s.topics[m.topic] = true
	var held []func()
	if !hit || f.Name != "reorder" { // one that is held itself lets nothing go
		held = s.held[m.topic]
		delete(s.held, m.topic)
	}
	s.mu.Unlock()
	if len(held) > 0 {
		// Shortly after this message: the broker passes it on first.
		s.later(50*time.Millisecond, func() {
			for _, release := range held {
				release()
			}
		})
	}
	if again == "mute" || again == "ignore" {
		return silent // it keeps to what it did
	}
	if again == "refuse" {
		return refuse
	}
	if !hit {
		s.store.keep(m.topic, m.payload, m.kind, m.props)
		s.watch(m.topic, m.payload)
		return passOn
	}
	switch f.Name {
	case "lose", "stale":
		return accept
	case "forget":
		s.watch(m.topic, m.payload)
		return passOn
	case "refuse":
		return refuse
	case "ignore":
		return silent
	case "cut":
		return hangUp
	case "mute":
		s.deliver(m)
		return silent
	case "delay":
		s.later(f.Delay, func() { s.deliver(m) })
	case "repeat":
		s.deliver(m)
		s.deliver(m)
	case "reorder":
		s.hold(m)
	case "alter":
		m.payload, _ = alter(m.payload)
		s.deliver(m)
	case "misfile":
		m.topic = s.otherTopic(m.topic)
		s.deliver(m)
	}
	return accept
}

// fits tells whether a flaw can fall on a message at all.
func (s *StandIn) fits(f Flaw, m *message) bool {
	switch f.Name {
	case "alter":
		_, ok := alter(m.payload)
		return ok
	case "misfile":
		return s.otherTopic(m.topic) != ""
	case "admit", "alert-none", "alert-twice", "alert-late", "alert-wrong-device", "alert-flood": // no matter of messages
		return false
	case "stale":
		return old(m.payload)
	}
	return true
}

// staleAge is how old a message may be by its own time stamp, for the flaw stale.
const staleAge = 2 * time.Second

// old tells whether a message is older than that.
func old(payload []byte) bool {
	var body struct {
		At time.Time `json:"at"`
	}
	return json.Unmarshal(payload, &body) == nil && !body.At.IsZero() && time.Since(body.At) > staleAge
}

// deliver stores a message and passes it on.
func (s *StandIn) deliver(m *message) {
	s.store.keep(m.topic, m.payload, m.kind, m.props)
	s.watch(m.topic, m.payload)
	s.broker.InjectPacket(s.relay, packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: m.qos},
		TopicName: m.topic, Payload: m.payload, PacketID: uint16(m.qos),
		Properties: packets.Properties{User: m.user, ContentType: m.kind}})
}

func (s *StandIn) later(d time.Duration, f func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	var t *time.Timer
	t = time.AfterFunc(d, func() {
		s.mu.Lock()
		delete(s.timers, t)
		closed := s.closed
		s.mu.Unlock()
		if !closed {
			f()
		}
	})
	s.timers[t] = true
}

// hold keeps a message back until the next one of its topic has passed.
func (s *StandIn) hold(m *message) {
	var once sync.Once
	release := func() { once.Do(func() { s.deliver(m) }) }
	s.mu.Lock()
	s.held[m.topic] = append(s.held[m.topic], release)
	s.mu.Unlock()
	s.later(holdMost, release)
}

// otherTopic is a topic seen before, of another device and the same shape.
func (s *StandIn) otherTopic(topic string) string {
	device, reading := file(topic)
	s.mu.Lock()
	defer s.mu.Unlock()
	best := ""
	for t := range s.topics {
		d, r := file(t)
		if d != device && r == reading && (best == "" || t < best) {
			best = t
		}
	}
	return best
}

// guard asks for credentials. A device shows its own where it sends, and fetches its
// commands; the rest is for whoever shows any that are good.
func (s *StandIn) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		device := ""
		if topic, intake := strings.CutPrefix(r.URL.Path, "/in/"); intake {
			device, _ = file(topic)
		} else if name, own := strings.CutPrefix(r.URL.Path, "/commands/"); own && r.Method == http.MethodGet {
			device = name
		} else if name, own := strings.CutPrefix(r.URL.Path, "/answers/"); own && r.Method == http.MethodPost {
			device = name
		}
		_, err := s.admit(device, shown(r))
		c := &s.cfg
		if r.URL.Path == "/token" && c.OAuthSecret != "" || device == "" &&
			c.Token+c.OAuthSecret+c.JWTKeys+c.JWTSecret == "" {
			err = nil // the one asks for credentials of its own, the other is of a platform that has only its registry's
		}
		if err != nil {
			w.Header().Set("WWW-Authenticate", `Bearer realm="stand-in"`)
			answer(w, http.StatusUnauthorized, map[string]any{"error": err.Error()})
			return
		}
		next.ServeHTTP(w, r)
	})
}

// publish serves POST /publish/TOPIC: what comes in is published at TOPIC, for a device that
// subscribed to it, and not stored.
func (s *StandIn) publish(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	topic := r.PathValue("topic")
	if err != nil || topic == "" || strings.ContainsAny(topic, "+#\x00") {
		answer(w, http.StatusBadRequest, map[string]any{"error": "this path is no topic, or the body is too long"})
		return
	}
	s.announce(topic, body)
	w.WriteHeader(http.StatusAccepted)
}

// announce publishes something of the stand-in's own.
func (s *StandIn) announce(topic string, body []byte) {
	s.broker.InjectPacket(s.relay, packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1},
		TopicName: topic, Payload: body, PacketID: 1})
}

// unzip decompresses a body of bounded size.
func unzip(body []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	plain, err := io.ReadAll(io.LimitReader(z, maxBody+1))
	if err == nil && len(plain) > maxBody {
		err = fmt.Errorf("it unpacks to more than %d bytes", maxBody)
	}
	return plain, err
}

// urlEncoded is the media type of names and values (URL Standard, section 5).
const urlEncoded = "application/x-www-form-urlencoded"

// fromForm is the JSON object of names and values; a number and a truth value are of their own type.
func fromForm(text string) ([]byte, error) {
	q, err := url.ParseQuery(text)
	if err != nil {
		return nil, fmt.Errorf("these are no names and values: %w", err)
	}
	object := map[string]any{}
	for name, list := range q {
		if len(list) > 1 {
			return nil, fmt.Errorf("%q stands %d times", name, len(list))
		}
		text := list[0]
		switch object[name] = text; {
		case text == "true" || text == "false":
			object[name] = text == "true"
		case text != "" && strings.Trim(text, "0123456789.eE+-") == "" && json.Valid([]byte(text)):
			object[name] = json.Number(text)
		}
	}
	return json.Marshal(object)
}

// intake serves POST /in/TOPIC, and GET /in/TOPIC?NAME=VALUE&…, whose query is the message.
func (s *StandIn) intake(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		answer(w, http.StatusRequestEntityTooLarge, map[string]any{"error": fmt.Sprintf("a message has at most %d bytes",
			maxBody)})
		return
	}
	topic := r.PathValue("topic")
	if topic == "" || strings.ContainsAny(topic, "+#\x00") {
		answer(w, http.StatusBadRequest, map[string]any{"error": "this path is no topic"})
		return
	}
	if r.Header.Get("Content-Encoding") == "gzip" {
		if body, err = unzip(body); err != nil {
			answer(w, http.StatusBadRequest, map[string]any{"error": "the body is not gzip: " + err.Error()})
			return
		}
	}
	m := &message{topic: topic, payload: body, kind: r.Header.Get("Content-Type"), props: map[string]string{}, qos: 1}
	for name := range r.Header {
		if strings.HasPrefix(name, "X-") {
			m.props[name] = r.Header.Get(name)
			m.user = append(m.user, packets.UserProperty{Key: name, Val: r.Header.Get(name)})
		}
	}
	if len(body) == 0 && r.URL.RawQuery != "" {
		body, m.kind = []byte(r.URL.RawQuery), urlEncoded
	}
	if strings.HasPrefix(m.kind, urlEncoded) {
		if body, err = fromForm(string(body)); err != nil {
			answer(w, http.StatusBadRequest, map[string]any{"error": err.Error()})
			return
		}
		m.payload, m.kind = body, "application/json"
	}
	// A request that was taken before is answered, and not taken again.
	key := r.Header.Get("Idempotency-Key")
	s.mu.Lock()
	known := key != "" && s.keys[key]
	s.mu.Unlock()
	if known {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	how := s.take(m)
	if key != "" && (how == passOn || how == accept) {
		s.mu.Lock()
		s.keys[key] = true
		s.mu.Unlock()
	}
	switch how {
	case passOn:
		s.broker.InjectPacket(s.relay, packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1},
			TopicName: topic, Payload: body, PacketID: 1, Properties: packets.Properties{User: m.user, ContentType: m.kind}})
		w.WriteHeader(http.StatusAccepted)
	case accept:
		w.WriteHeader(http.StatusAccepted)
	case refuse:
		answer(w, http.StatusUnprocessableEntity, map[string]any{"error": "the value is not plausible"})
	case silent:
		select {
		case <-r.Context().Done():
		case <-s.quit:
		}
		panic(http.ErrAbortHandler)
	case hangUp:
		panic(http.ErrAbortHandler)
	}
}
