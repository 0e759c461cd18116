package crowd

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/formula"
	"runcrowd/internal/payload"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Crowd is what one crowd file says. It is not changed once it was read, but for its
// secrets: Secret and Redact may be called from any goroutine.
type Crowd struct {
	Path      string
	Source    []byte
	Changed   bool // Source is not what stands in the file at Path: a command changed it for once
	Name      string
	Seed      uint64
	Links     []*Link
	Kinds     []*Kind
	Casts     []*Cast   // the groups of devices, in the file's order
	Members   []*Member // every device, with the changes that are made for it
	Plan      Plan
	Witnesses []*Witness
	Alerts    []*Alert
	Require   []proof.Requirement
	Results   []string        // files that a run leaves in its folder, by their endings
	Env       formula.Secrets // the environment variables that the file reads
	Unset     []string        // of these, those that are not set, where the file is only read
	// ShortSecrets are those of them that are too short to be masked, sorted.
	ShortSecrets []string
	Register     *Register // nil: the file says nothing of it
	Registered   map[string]Registered
	Files        []*File // the files beside the crowd file that it reads
	Derived      []*Link // links with settings of some devices' own

	computed atomic.Int64
	secretMu sync.Mutex // guards secrets
	secrets  map[string]bool
	shown    map[string]bool // hosts: no secrets, though they are computed from some
	redactor redactor
	literal  []literal
}

// File is a file that the crowd file names: a roster, recorded values, a
// description of messages.
type File struct {
	Name   string // as it stands in the crowd file
	Data   []byte
	SHA256 string
	Copy   []byte // what a run folder keeps of it: without secrets

	Descriptors *payload.Descriptors // of Protocol Buffers, where it describes messages
}

// Member is one device as the file describes it, before it can send.
type Member struct {
	Cast  *Cast // the group, with all changes that are made for this device
	Index int   // in its group, from 0
	Name  string
	Env   formula.Env // its properties, and what else formulas know of it
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
	Scheme   string // of the address: mqtt, mqtts, ws, wss, http, https
	Address  string // host:port for MQTT, a base URL without trailing slash for HTTP
	Path     string // of a WebSocket
	TLS      *TLS   // nil without TLS

	Version       int // MQTT protocol version as on the wire: 4 (3.1.1) or 5
	KeepAlive     time.Duration
	CleanStart    bool
	SessionExpiry time.Duration // version 5: how long the broker keeps the session of a lost connection
	EndSession    bool          // the session is ended when a device leaves for good
	InFlight      int           // most messages of one device that wait for their acknowledgement

	Timeout        time.Duration // HTTP: for one request; MQTT: for the answer to PINGREQ
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration // first and longest wait before connecting again
	Backlog        int              // most messages that wait in one device for the link
	Connections    int              // HTTP: most requests under way at once

	Retries      int  // HTTP: how often one message is sent again at most
	TopicAliases int  // version 5: most topics of a device that are sent as a number
	Redirects    bool // go where the platform refers or redirects to

	Answer      string // HTTP: jq that must be true of an answer's body, or it is a refusal; empty: any will do
	RetryKey    string // HTTP: header for the mark, by which the platform knows a request again
	PerDevice   bool   // HTTP: a connection of its own for every device
	HTTPVersion int    // 1 or 2

	// Guest is what those show who are no devices: witnesses, registration, ask.
	Guest Credentials
	// GuestErr is why they cannot: the link's credentials are made of properties that
	// devices alone have.
	GuestErr error
}

// TLS says how a link secures its connections.
type TLS struct {
	CA         []byte // certificates of the authorities to trust, in PEM; nil: those of the machine
	ServerName string // empty: the host of the address
	MinVersion uint16 // as in crypto/tls; 0 is 1.2
	ALPN       []string
	NoVerify   bool // do not check the platform's certificate
}

// Credentials are what somebody shows on a link, as texts of their name. A nil text is
// not shown.
type Credentials struct {
	Username, Password *formula.Text // MQTT; HTTP: basic authentication
	Cert, Key          *formula.Text // names of PEM files
	// ExpiredCert and ExpiredKey are those of a certificate that has expired.
	ExpiredCert, ExpiredKey *formula.Text
	Path                    *formula.Text // of a WebSocket; nil: that of the address
	Token                   *AccessToken  // nil: none
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
	Name     string
	Pos      Pos
	Link     *Link // of devices that use no other
	Mark     Mark
	Tags     []string
	Presence Presence
}

// Presence says how devices of a kind are there. The zero Presence: they are connected all
// the time, each for itself.
type Presence struct {
	Sleeps  bool          // they wake to send, and sleep again
	After   int           // after so many messages they wake
	Listens time.Duration // how long they stay awake for commands when all is sent
	End     bool          // their session ends when they fall asleep
	Through *Kind         // they are behind a gateway of this kind; nil: they are not
	By      string        // the property that names the gateway; empty: they are spread evenly
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
	Roster     *Roster    // nil for a group by count
	Recording  *Recording // that its devices play again; nil: they make their messages
	Tags       []string
	Properties []Property
	Secrets    map[string]bool // properties that are never printed
	Readings   []*Reading

	ClientID    *formula.Text // MQTT
	Credentials               // of each device
	Headers     []Header      // HTTP
	Signing     Signing       // HTTP
	Will        *Will         // MQTT; nil: none
	Commands    []*Command
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
	Public bool           // the file says that it is no secret
	Kept   bool           // of the platform's answer when the device was registered
	Sample any            // of its type
}

// Draw makes the value of a property for the index-th (from 0) of count devices
// of a group; key is that of seed, device and property. A whole number is an int.
type Draw func(key uint64, index, count int) (any, error)

// Reading is a bundle of fields that is sent at an interval.
type Reading struct {
	Name   string
	Pos    Pos
	Every  time.Duration // 0: OnConnect
	Jitter float64       // share of Every by which a message may be early or late
	Shake  time.Duration // the same as a time
	Turns  Turns
	Batch  int // samples in one message; 1 is none
	// OnConnect: it is sent once at each connection, and at no other time.
	OnConnect bool
	// Only is the field that it sends, of those that are measured together: the reading of the
	// file is sent field by field, and this is one of them. Of is that reading's name. Empty: it
	// sends all.
	Only, Of string
	Payload  Payload
	Gzip     bool
	Target   *formula.Text // topic or path
	QoS      byte
	Retain   bool
	Method   string
	OKStatus []int // HTTP statuses that acknowledge
	Headers  []Header
	Signed   []Header // those that are computed for each request, beside the link's
	Fields   []Field
	Raw      bool // recorded, and not all of it is JSON objects: bodies are compared as bytes

	Expires time.Duration // MQTT 5: how long a message lasts; 0: for ever
	User    []Header      // MQTT 5: user properties
}

// InFile is the reading's name in the crowd file.
func (r *Reading) InFile() string {
	if r.Of != "" {
		return r.Of
	}
	return r.Name
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

// Turns says which of the devices with a reading send it when.
type Turns struct {
	How   TurnsHow
	Some  int     // AtRandom: so many, or
	Share float64 // this share of them
}

// TurnsHow is a way of taking turns.
type TurnsHow uint8

// The ways of taking turns.
const (
	Staggered TurnsHow = iota // each once an interval, at a time of its own
	Together                  // all at the same time, once an interval
	InOrder                   // one of them each interval, in the fleet's order
	AtRandom                  // some of them each interval, drawn from the seed
)

// Payload says what a message's body is made like. Texts are compiled for the
// devices of a cast.
type Payload struct {
	Form        string // one of PayloadForms
	In          string // where it rides in a request: empty is the body; query or path, of the address
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
	Samples   string         // protobuf: the repeated member of a batch
	File      *File          // protobuf: the descriptor set
	Layout    []payload.Slot // raw
	Order     string         // raw: big or little
}

// PayloadForms are the forms a body can have.
var PayloadForms = []string{"json", "template", "urlencoded", "senml", "senml-cbor", "cbor", "csv", "line-protocol",
	"protobuf", "bytes"}

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
	MarkTime                          // the time in a field, beside the device's name
	MarkNone                          // none: messages are told apart by their values, in their order
)

// MarkPlaces are the places as the file names them, all but MarkNone.
var MarkPlaces = []string{"field", "sequence", "user_property", "header", "time"}

// Plan says what happens in a run and when.
type Plan struct {
	Begin    Begin
	Speed    Speed
	Join     Join
	For      time.Duration // Forever without end
	Until    TimeOfDay     // it ends then at the latest
	Messages int           // after so many messages a device leaves; 0: never
	Rounds   int           // Forever rounds: 0
	Every    time.Duration // from the beginning of one round to that of the next
	GiveUp   int           // after so many rounds in a row that fail the run ends; 0: never
	Settle   time.Duration // how long the end of a round waits for acknowledgements
	Events   []*Event
}

// Forever is a length that nobody will see the end of.
const Forever = 100 * 366 * quantity.Day

// End is when a round ends that begins at a time.
func (p *Plan) End(begin time.Time) time.Time {
	end := begin.Add(p.For)
	if p.Until.Is {
		if at := p.Until.Next(begin); at.Before(end) {
			end = at
		}
	}
	return end
}

// Lasts is how long a round lasts that begins at a time.
func (p *Plan) Lasts(begin time.Time) time.Duration { return p.End(begin).Sub(begin) }

// Begin is when the clock of a plan begins; the zero Begin is: now.
type Begin struct {
	Day  TimeOfDay     // the run waits for it
	At   time.Time     // the clock is set to this; zero: it is not
	Past time.Duration // how long ago: what lies before now is sent first
}

// TimeOfDay is a time of day (UTC), or none.
type TimeOfDay struct {
	Is bool
	At time.Duration // since midnight
}

// Next is the first such time after another.
func (d TimeOfDay) Next(after time.Time) time.Time {
	at := after.UTC().Truncate(quantity.Day).Add(d.At)
	if !at.After(after) {
		at = at.Add(quantity.Day)
	}
	return at
}

// Speed is how fast the clock of a plan goes. The zero Speed is that of any clock.
type Speed struct {
	Factor float64 // 60: an hour in a minute; 0 is 1
	Max    bool    // as fast as messages are acknowledged
}

// Times is the factor.
func (s Speed) Times() float64 {
	if s.Factor == 0 {
		return 1
	}
	return s.Factor
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

// Witness is a place where we look for messages on the platform's side.
type Witness struct {
	Name string
	Pos  Pos
	// What it looks for. A witness that listens may prove messages and hear alerts.
	Proves proof.Proof // of messages; Acknowledged, which no witness proves: nothing
	Hears  bool        // alerts
	// Signing computes what of a question over HTTP depends on it; its headers stand beside Headers.
	Signing Signing
	Counts  bool // how many messages there are
	Link    *Link
	Who     []*Selection // the devices it should see; none means all

	Filters   []string // subscribe: topic filters, no two of which overlap
	OwnUser   bool     // it has a user of its own, and not that of its link
	QoS       byte
	TopicText string // the topic a message should come out at, if not its own
	// Topics is TopicText compiled for each group of devices.
	Topics map[*Cast]*formula.Text

	Get  string // query: an address with placeholders
	Post bool   // it is asked with POST, and a body
	// Asked is that body compiled for each group of devices.
	Asked map[*Cast]*formula.Text
	File  string // files: one, a pattern, or a folder
	// Addresses is Get or File compiled for each group of devices.
	Addresses map[*Cast]*formula.Text
	FileForm  string // one of rowfile.Forms; of a query, empty: its answer is one JSON document

	SQL     *SQL     // a database; nil: none
	Program []string // a program and its arguments; empty: none
	// Words is Program compiled for each group of devices.
	Words map[*Cast][]*formula.Text

	PerDevice bool // the address, query or program names the device: ask once for each

	Count string // jq: the number of messages in a row

	Callback *Callback // where the platform calls us; nil: it does not

	Headers []Header
	Timeout time.Duration

	// jq expressions; empty means the default of the witness's sort
	Rows, Time, Mark, Device, Reading, Values, Body, Next string
	Row                                                   string // what identifies a row
	// TimeOf says whose time Time is: "platform", "device", or empty: it is found out.
	TimeOf string
	// Shift is by how much the platform moves the times that are marks, and Cut what it cuts
	// them to; 0: nothing.
	Shift, Cut time.Duration
	// Columns are those that the expressions name, where rows have columns.
	Columns []string

	Page      []PageParam   // parameters of the next page, in place of Next
	Total     string        // jq: how many rows there are in all; empty: it is not told
	Pace      quantity.Rate // questions a second at most; 0: no limit
	Limit     int64         // rows of an answer at most; NoLimit; 0: not said
	MaxAnswer int64         // bytes of an answer
	MaxRow    int64         // bytes of a row

	Fields []FieldRule // what the platform does to fields

	Latest      bool          // it shows only the newest message of each device and reading
	Queue       int           // messages that the broker keeps for a subscriber that is slow
	Wait        time.Duration // how long it goes on looking for what is missing
	WatchCopies time.Duration // how long it goes on looking for repeats when nothing is missing
}

// PageVariables are those of jq expressions about a page of an answer: its number, from 1, the rows on it and
// up to its end, the addresses that its header Link names by their relation (RFC 8288), and its headers by
// their names in small letters.
var PageVariables = []string{"$page", "$count", "$sofar", "$link", "$headers"}

// AnswerVariables are those of jq expressions about the answer to a message: how many messages the request
// carried, the answer's status, and its headers by their names in small letters.
var AnswerVariables = []string{"$sent", "$status", "$headers"}

// NoLimit is the Limit of a platform that never cuts its answers off.
const NoLimit = -1

// Asks tells whether it is asked for rows, rather than hearing what comes.
func (w *Witness) Asks() bool {
	return w.Get != "" || w.SQL != nil || w.File != "" || len(w.Program) > 0
}

// InGroups tells whether it is asked about many devices at a time.
func (w *Witness) InGroups() bool { return w.SQL != nil && w.SQL.InGroups }

// Listens tells whether it hears what comes.
func (w *Witness) Listens() bool { return !w.Asks() }

// Subscribes tells whether it hears what comes on a topic.
func (w *Witness) Subscribes(topic string) bool {
	return slices.ContainsFunc(w.Filters, func(f string) bool { return TopicMatches(f, topic) })
}

// Shared tells whether it shares what comes with others (MQTT 5, section 4.8.2).
func (w *Witness) Shared() bool {
	return slices.ContainsFunc(w.Filters, func(f string) bool { return strings.HasPrefix(f, "$share/") })
}

// Place is the key of the file that says where it looks.
func (w *Witness) Place() string {
	switch {
	case w.Post:
		return "post"
	case w.Get != "":
		return "get"
	case w.SQL != nil:
		return "sql"
	case w.File != "":
		return "file"
	case len(w.Program) > 0:
		return "program"
	case w.Callback != nil:
		return "callback"
	}
	return "subscribe"
}

// Sees tells whether it is there for messages one by one.
func (w *Witness) Sees() bool { return w.Proves != proof.Acknowledged }

// OnlyHears tells whether it is there for alerts alone.
func (w *Witness) OnlyHears() bool { return w.Hears && !w.Sees() }

// SQL is a database that is asked.
type SQL struct {
	Address  string // may hold a password
	Query    string
	Zone     string // of times without a zone: a name of the IANA database
	InGroups bool   // the query names @devices: it is asked for so many at a time
}

// Proof is the name of what it shows.
func (w *Witness) Proof() string {
	switch {
	case w.Sees():
		return w.Proves.String()
	case w.Counts:
		return "counts"
	}
	return "alerts"
}

// Callback is a place at which the platform calls us over HTTP.
type Callback struct {
	URL            string // as in the file
	Address        string // host:port to listen on
	Path           string
	Cert, Key      []byte   // in PEM, of https; empty: http
	RequireHeaders []Header // headers that a call must show; the texts know its body
	// What it answers in place of 200: Status, to the first Times calls, or in the first For
	// after its first call; each answer after Delay.
	Status int
	Times  int
	For    time.Duration
	Delay  time.Duration
}

// FieldRule is what a platform does to a field: what is found is what was sent, times
// Factor (0: 1), plus Offset, under the name As.
type FieldRule struct {
	Field     string
	Ignored   bool
	As        string
	Tolerance float64
	Factor    float64
	Offset    float64
}

// PageParam is a parameter of the address of a next page, and the jq expression that picks
// its value out of the answer before.
type PageParam struct{ Name, Of string }

// Address is the compiled address of a query for the devices of a cast.
func (w *Witness) Address(c *Cast) *formula.Text { return w.Addresses[c] }

// Topic is the compiled topic at which messages of a cast should come out, or
// nil where that is their own topic.
func (w *Witness) Topic(c *Cast) *formula.Text { return w.Topics[c] }

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

// AllLinks are the links of the file and those that some devices have with
// settings of their own.
func (c *Crowd) AllLinks() []*Link { return slices.Concat(c.Links, c.Derived) }

// DeviceEnv is what formulas know of a device without any property, with samples of
// the types.
func DeviceEnv() formula.Env {
	return formula.Env{"n": 1, "kind": "", "crowd": "", "device": "", "tags": []string{}, "env": formula.Secrets{}}
}

// MessageEnv adds what is known for one message.
func MessageEnv(env formula.Env) formula.Env {
	full := formula.Env{"reading": "", "seq": 1, "elapsed": 0.0, "time": time.Time{}, "previous": map[string]any{}}
	for k, v := range env {
		full[k] = v
	}
	return full
}

// GuestEnv is what credentials know of somebody who is no device: a name stands for
// that of one.
func GuestEnv(name string, env formula.Secrets, crowd string) formula.Env {
	return formula.Env{"crowd": crowd, "env": env, "device": name, "kind": "witness", "n": 1}
}
