// Package crowd reads the crowd file: what a fleet is, what it says, when, and
// how we know that it arrived.
//
// Load gives either a whole, valid Crowd or a *Problems error that lists every
// mistake with file, line and column. Texts and formulas are compiled here, for
// each group of devices with the types of its properties, so that nothing that
// can be known beforehand fails in a run.
package crowd

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Crowd is one crowd file.
type Crowd struct {
	Path      string
	Source    []byte
	Name      string
	Seed      uint64
	Links     []*Link
	Kinds     []*Kind
	Casts     []*Cast
	Plan      Plan
	Witnesses []*Witness
	Require   []Requirement
	Env       formula.Secrets // the environment variables that the file reads
	Changes   []*Change
	Enroll    *Enroll // nil: the file says nothing of it
	Enrolled  map[string]Enrolled
	Files     []*File // the files beside the crowd file that it reads

	pairs   map[string]*tls.Certificate
	passes  passes
	derived []*Link // links with settings of some devices' own
	reader  *reader

	secretMu sync.Mutex // guards secrets
	secrets  map[string]bool
	redactor atomic.Pointer[strings.Replacer] // of secrets; nil: to be made anew
	literal  []literal
}

// File is a file that the crowd file names: a roster, recorded values, a
// description of messages.
type File struct {
	Name   string // as it stands in the crowd file
	Data   []byte
	SHA256 string
	// Copy is what a run folder keeps of it: without secrets.
	Copy []byte

	parsed *payload.Descriptors
}

// Protocol is what a link speaks.
type Protocol uint8

// The protocols of links.
const (
	MQTT Protocol = iota + 1
	HTTP
)

func (p Protocol) String() string { return [...]string{"", "MQTT", "HTTP"}[p] }

// Link says how devices reach the platform.
type Link struct {
	Name     string
	Pos      Pos
	Protocol Protocol
	Scheme   string    // of the address: mqtt, mqtts, ws, wss, http, https
	Address  string    // host:port for MQTT, a base URL without trailing slash for HTTP
	Path     string    // of a WebSocket
	TLS      *link.TLS // nil without TLS

	Version       int // MQTT protocol version as on the wire: 4 (3.1.1) or 5
	KeepAlive     time.Duration
	CleanStart    bool
	SessionExpiry time.Duration // version 5: how long the broker keeps the session of a lost connection
	InFlight      int           // most messages of one device that wait for their acknowledgement

	Timeout        time.Duration // HTTP: for one request
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration // first and longest wait before connecting again
	Backlog        int              // most messages that wait in one device for the link
	Connections    int              // HTTP: most requests under way at once

	Retries      int  // HTTP: how often one message is sent again at most
	TopicAliases int  // version 5: most topics of a device that are sent as a number
	Redirects    bool // version 5: go where the broker refers to

	RetryKey    string // HTTP: header for the mark, by which the platform knows a request again
	PerDevice   bool   // HTTP: a connection of its own for every device
	HTTPVersion int    // 1 or 2

	node   linkNode
	source *yaml.Node // the mapping it was read from
}

// URL is the address with its scheme.
func (l *Link) URL() string {
	if l.Protocol == MQTT {
		return l.Scheme + "://" + l.Address
	}
	return l.Address
}

// Kind is a sort of device.
type Kind struct {
	Name string
	Pos  Pos
	Link *Link // of devices that use no other
	Mark Mark
	Tags []string
	node kindNode
}

// Cast is a group of devices of one kind, with everything compiled for it: what
// the kind says, what the group says, and the changes made for some of it.
type Cast struct {
	Kind       *Kind
	Link       *Link
	Pos        Pos
	Count      int
	First      int           // the number n of the first device
	Name       *formula.Text // of n, kind and the roster's columns
	NamePos    Pos
	Roster     *Roster // nil for a group by count
	Tags       []string
	Properties []Property
	Secrets    map[string]bool // properties that are never printed
	Readings   []*Reading

	layers  []layer
	derived map[*Change]*Cast

	ClientID           *formula.Text // MQTT
	Username, Password *formula.Text // MQTT; HTTP: basic authentication
	Cert, Key          *formula.Text // names of PEM files
	Headers            []Header      // HTTP
	Path               *formula.Text // of a WebSocket; nil: that of the address
	Token              *AccessToken  // nil: none
	Will               *Will         // MQTT; nil: none
	Commands           []*Command
}

// Header is one header line of requests.
type Header struct {
	Name  string
	Value *formula.Text
}

// Property is how one property of a device comes to its value: by Text, by Draw,
// from a Column of the roster, or else it is Value.
type Property struct {
	Name   string
	Pos    Pos
	Value  signal.Value
	Text   *formula.Text
	Draw   Draw
	Column []signal.Value // of the roster, by row
	Secret bool           // never printed, never in a message
	Kept   bool           // of the platform's answer when the device was enrolled
	Sample any            // of its type
}

// Draw makes the value of a property for the index-th (from 0) of count devices
// of a group; key is that of seed, device and property. A whole number is an int.
type Draw func(key uint64, index, count int) (any, error)

// Reading is a bundle of fields that is sent at an interval.
type Reading struct {
	Name    string
	Pos     Pos
	Every   time.Duration
	Jitter  float64 // share of Every by which a message may be early or late
	Turns   Turns
	Batch   int // samples in one message; 1 is none
	Payload Payload
	Gzip    bool
	Target  *formula.Text // topic or path
	QoS     byte
	Retain  bool
	Method  string
	Accept  []int
	Headers []Header
	Fields  []Field

	Expires time.Duration // MQTT 5: how long a message lasts; 0: for ever
	User    []Header      // MQTT 5: user properties
}

// Will is what the broker publishes when it loses a device.
type Will struct {
	Pos         Pos
	Topic, Body *formula.Text
	QoS         byte
	Retain      bool
	Delay       time.Duration // version 5
	ContentType string
}

// Field is one value of a reading: from a signal or a formula.
type Field struct {
	Name      string
	Pos       Pos
	Spec      *signal.Spec
	Args      map[string]Arg
	Formula   *formula.Formula
	Finish    signal.Finish
	Tolerance float64 // how far a found number may be from the sent one
	Unit      string
	Follows   string // the field that a signal follows
	Previous  bool   // its formula uses the message before
	Sample    any    // of the type it gives
}

// Turns says which of the devices with a reading speak at each of its ticks.
type Turns struct {
	How   TurnsHow
	Some  int     // AtRandom: so many, or
	Share float64 // this share of them
}

// TurnsHow is a way of taking turns.
type TurnsHow uint8

// The ways of taking turns.
const (
	Staggered TurnsHow = iota // every device at every tick, on a schedule shifted by a time of its own
	Together                  // every device at every tick, all at the same time
	InOrder                   // one device a tick, in the fleet's order
	AtRandom                  // some devices a tick, drawn from the seed
)

// Payload says what a message's body is made like. Texts are compiled for the
// devices of a cast.
type Payload struct {
	Form        string // one of PayloadForms
	Pos         Pos
	ContentType string // empty: that of the form
	Unlabelled  bool   // no content type is sent
	Nested      bool   // json: a dot in a field's name makes an object or a list

	Template  *formula.Text  // template
	BaseName  *formula.Text  // senml
	Separator byte           // csv
	Head      bool           // csv: a line of names in front
	Series    *formula.Text  // lines: the measurement
	Tags      []Header       // lines
	Precision string         // lines: s, ms, us, ns
	Message   string         // protobuf
	File      *File          // protobuf: the descriptor set
	Layout    []payload.Slot // raw
	Order     string         // raw: big or little
}

// PayloadForms are the forms a body can have.
var PayloadForms = []string{"json", "template", "senml", "senml-cbor", "cbor", "csv", "line-protocol", "protobuf", "bytes"}

// Arg is a parameter of a signal: a value, or a formula over the device's
// properties that gives a number or a position.
type Arg struct {
	Value   any
	Formula *formula.Formula
}

// Mark says where the mark of a message rides.
type Mark struct {
	Place MarkPlace
	Name  string // of the field, user property or header
}

// MarkPlace is a place for the mark.
type MarkPlace uint8

// The places a mark can ride in.
const (
	MarkField        MarkPlace = iota // a text in a field of the payload
	MarkSequence                      // a whole number in a field, beside the device's name
	MarkUserProperty                  // a user property of MQTT 5
	MarkHeader                        // a header of an HTTP request
)

var markKeys = []string{"field", "sequence", "user_property", "header"}

// Plan says what happens in a run and when.
type Plan struct {
	Join   Join
	For    time.Duration
	Rounds int
	Every  time.Duration // from the beginning of one round to that of the next
	Settle time.Duration // how long the end of a round waits for acknowledgements
}

// Join says how devices come: all at once (the zero Join), spread over a time,
// or at a rate.
type Join struct {
	Over time.Duration
	Rate quantity.Rate
}

// At is when the i-th of n devices joins, after the round's beginning.
func (j Join) At(i, n int) time.Duration {
	switch {
	case j.Over > 0 && n > 1:
		return time.Duration(float64(j.Over) * float64(i) / float64(n))
	case j.Rate > 0:
		return time.Duration(float64(i) / float64(j.Rate) * float64(time.Second))
	}
	return 0
}

// Proof is what a witness proves.
type Proof uint8

// The proofs, in the order of a message's way. Acknowledged needs no witness.
const (
	Acknowledged Proof = iota
	Received
	Stored
)

func (p Proof) String() string { return [...]string{"acknowledged", "received", "stored"}[p] }

// Witness is a place where we look for messages on the platform's side.
type Witness struct {
	Name   string
	Pos    Pos
	Proves Proof
	Link   *Link
	Of     []*Selection // the devices it should see; none means all

	Filter    string // subscribe: a topic filter
	QoS       byte
	TopicText string // the topic a message should come out at, if not its own
	topics    map[*Cast]*formula.Text

	Get       string // query: an address with placeholders
	gets      map[*Cast]*formula.Text
	PerDevice bool // the address names the device: ask once for each
	Headers   []Header
	Timeout   time.Duration

	// jq expressions; empty means the default of the witness's sort
	Rows, Time, Mark, Device, Reading, Values, Body, Next string

	Wait   time.Duration // how long it goes on looking for what is missing
	Linger time.Duration // how long it goes on looking for repeats when nothing is missing
}

// Address is the compiled address of a query for the devices of a cast.
func (w *Witness) Address(c *Cast) *formula.Text { return w.gets[c] }

// Topic is the compiled topic at which messages of a cast should come out, or
// nil where that is their own topic.
func (w *Witness) Topic(c *Cast) *formula.Text { return w.topics[c] }

// Requirement is one line of what must hold.
type Requirement struct {
	Key     string // as in the file: "received", "stored_p99"
	Pos     Pos
	Proof   Proof
	Proven  bool             // the share of proven messages, not of one proof
	Share   quantity.Percent // for shares
	Within  time.Duration    // for shares: the time allowed; 0 is any
	Measure string           // "share", "p50", "p90", "p99", "worst", "unmatched", "out_of_order", "lag_p99"
	Limit   time.Duration    // for percentiles
	Most    int              // for counts
	Text    string           // the value as written
}

// Secret registers a value that must never be printed. Short values are left
// out: they would black out half of every text and protect nothing.
func (c *Crowd) Secret(value string) {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	if len(value) >= 4 && !c.secrets[value] {
		c.secrets[value] = true
		c.redactor.Store(nil)
	}
}

// noSecret takes a value back that turned out to be an address.
func (c *Crowd) noSecret(value string) {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	delete(c.secrets, value)
	c.redactor.Store(nil)
}

// Secrets lists what must never be printed, the longest first: one secret may
// be a part of another.
func (c *Crowd) Secrets() []string {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	return c.listSecrets()
}

func (c *Crowd) listSecrets() []string {
	list := make([]string, 0, len(c.secrets))
	for s := range c.secrets {
		list = append(list, s)
	}
	sort.Slice(list, func(i, j int) bool { return len(list[i]) > len(list[j]) })
	return list
}

// PlainSecrets are the places where a secret stands in the file in plain text.
func (c *Crowd) PlainSecrets() []Pos {
	var list []Pos
	for _, l := range c.literal {
		list = append(list, l.pos)
	}
	return list
}

// Redact takes all secrets out of a text. It and Secret may be called from any
// goroutine.
func (c *Crowd) Redact(text string) string {
	r := c.redactor.Load()
	if r == nil {
		c.secretMu.Lock()
		defer c.secretMu.Unlock()
		// A roster may bring a secret for each of many devices: looking for them one
		// by one would take as long as all texts times all secrets.
		var pairs []string
		for _, s := range c.listSecrets() {
			pairs = append(pairs, s, "«secret»")
		}
		r = strings.NewReplacer(pairs...)
		c.redactor.Store(r)
	}
	return r.Replace(text)
}

// Copy is the file for the run folder: secrets in plain text are taken out,
// references such as ${env.NAME} stay.
func (c *Crowd) Copy() []byte {
	lines := strings.Split(string(c.Source), "\n")
	for _, l := range c.literal {
		// A text in several lines is taken out line by line.
		for i := max(l.pos.Line-1, 0); i < len(lines); i++ {
			for _, part := range strings.Split(l.value, "\n") {
				if len(strings.TrimSpace(part)) > 0 {
					lines[i] = strings.ReplaceAll(lines[i], part, Redacted)
				}
			}
			if !strings.Contains(l.value, "\n") {
				break
			}
		}
	}
	return []byte(strings.Join(lines, "\n"))
}

// literal is a secret that stands in the file in plain text.
type literal struct {
	pos   Pos
	value string
}

// Redacted stands in a run folder's copy of the file where a secret stood.
const Redacted = "taken-out"

// Digest identifies the file's text (SHA-256, hexadecimal).
func (c *Crowd) Digest() string {
	sum := sha256.Sum256(c.Source)
	return hex.EncodeToString(sum[:])
}

// AllLinks are the links of the file and those that some devices have with
// settings of their own.
func (c *Crowd) AllLinks() []*Link { return slices.Concat(c.Links, c.derived) }

// Link finds a link by name.
func (c *Crowd) Link(name string) *Link {
	for _, l := range c.Links {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Kind finds a kind by name.
func (c *Crowd) Kind(name string) *Kind {
	for _, k := range c.Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}
