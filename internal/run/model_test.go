//go:build unix

package run_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
)

// model is a platform in memory, that does to messages what a seed says, and remembers
// it: a broker, and a store that is asked over HTTP. It shares nothing with the program
// but the network, which is made of pipes.
type model struct {
	t    require.TestingT
	rng  *rand.Rand
	fate fates
	stop context.CancelFunc
	ctx  context.Context
	wg   sync.WaitGroup
	web  *pipes

	mu      sync.Mutex
	clients map[*client]bool
	kept    map[string]*kept // sessions, by client id
	truths  map[string]*truth
	order   []string
	down    bool // the broker takes no connections just now
	run     string
	rows    int            // that were stored
	last    map[string]int // of each device
}

// fates are how likely it is, for each message, that something is done to it.
type fates struct {
	lose, forget, silent, repeat, repeatRow, alter, alterRow, misfile, refuse, mute, delay, cut float64
	// what is done to the witnesses' connections, for each message
	deafen, cutEar float64
	stall          float64 // the witness is slow to take what it gets, for a while
	restart        float64 // of the broker
	wrongTime      float64 // a row tells another time than that at which it was stored
	storeFails     float64 // of questions
	limits         float64
	gone           float64 // a later page of its answers is not there any more
	text           bool    // it keeps bodies as texts
	keeps          bool    // sessions of the ear
	pageSize       int
	queue          int  // how many messages it keeps for the ear; 0: all
	open           bool // it does not look at passwords
	echo           bool // rows tell the time that the message carried
	latest         bool // the store shows the newest row of each device alone
	capped, newest bool // it shows one page, of the first rows or the newest, and no way on
}

// truth is what became of one message.
type truth struct {
	mark, device string
	came         int // how often the platform got it
	first        time.Time
	acked        int
	refused      bool
	variant      bool // it came with wrong credentials
	corrupted    bool // its values have wrong types
	emits        []emission
	rows         []row
	decided      *decision
}

type emission struct {
	at      time.Time
	altered bool
	heard   bool // it was written to the ear
	dropped bool // the queue for the ear was full
}

type row struct {
	at      time.Time
	wrong   time.Duration // by which the time that it tells is wrong
	id      int           // of its message
	number  int           // of all
	device  string
	body    string
	altered bool
}

// decision is the fate of one message.
type decision struct {
	lose, forget, silent, alter, alterRow, misfile, refuse, mute, cut bool
	repeat, repeatRow                                                 int
	delay                                                             time.Duration
}

// kept is the session of a subscriber.
type kept struct {
	queue []waiting // not acknowledged yet, in order
	id    uint16
}

type waiting struct {
	packets.Packet
	sent bool
}

// client is one connection to the broker.
type client struct {
	*model
	nc               net.Conn
	name             string
	ear              bool
	deaf             bool
	hold             sync.Mutex
	stalled          bool     // what it is to get waits for it
	waits            [][]byte // so much of it
	messages         int      // of these
	out              chan []byte
	known            map[uint16]bool // QoS 2 packets that were taken
	dead             chan struct{}
	once             sync.Once
	state            *kept
	variant, refused bool
}

func newModel(t require.TestingT, seed uint64) *model {
	m := &model{t: t, rng: rand.New(rand.NewPCG(seed, 7)), clients: map[*client]bool{}, kept: map[string]*kept{},
		truths: map[string]*truth{}, last: map[string]int{}, web: newPipes()}
	m.ctx, m.stop = context.WithCancel(context.Background())
	srv := &http.Server{Handler: http.HandlerFunc(m.answer)}
	m.wg.Go(func() { srv.Serve(m.web) })
	context.AfterFunc(m.ctx, func() { srv.Close() })
	return m
}

// close ends the platform.
func (m *model) close() {
	m.stop()
	m.mu.Lock()
	for c := range m.clients {
		c.hangUp()
	}
	m.mu.Unlock()
	m.web.Close()
	m.wg.Wait()
}

// dial is the network: port 1883 is the broker, all else the store.
func (m *model) dial(ctx context.Context, _, address string) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	ours, theirs := net.Pipe()
	if !strings.HasSuffix(address, ":1883") {
		return ours, m.web.offer(theirs)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.down || m.ctx.Err() != nil {
		ours.Close()
		return nil, errors.New("connection refused")
	}
	c := &client{model: m, nc: theirs, out: make(chan []byte, 4096), known: map[uint16]bool{}, dead: make(chan struct{})}
	m.clients[c] = true
	m.wg.Go(c.read)
	m.wg.Go(c.write)
	return ours, nil
}

// pipes is a listener whose connections are pipes.
type pipes struct {
	came chan net.Conn
	done chan struct{}
	once sync.Once
}

func newPipes() *pipes { return &pipes{make(chan net.Conn), make(chan struct{}), sync.Once{}} }

func (p *pipes) offer(nc net.Conn) error {
	select {
	case p.came <- nc:
		return nil
	case <-p.done:
		return net.ErrClosed
	}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case nc := <-p.came:
		return nc, nil
	case <-p.done:
		return nil, net.ErrClosed
	}
}

func (p *pipes) Close() error   { p.once.Do(func() { close(p.done) }); return nil }
func (p *pipes) Addr() net.Addr { return &net.TCPAddr{} }

func (c *client) hangUp() {
	c.once.Do(func() { close(c.dead); c.nc.Close() })
}

// gone tells whether the connection is closed.
func (c *client) gone() bool {
	select {
	case <-c.dead:
		return true
	default:
		return false
	}
}

func (c *client) write() {
	for {
		select {
		case <-c.dead:
			return
		case b := <-c.out:
			if _, err := c.nc.Write(b); err != nil {
				return
			}
		}
	}
}

// send queues a packet.
func (c *client) send(pk packets.Packet) {
	b := brokertest.Encode(c.t, 5, pk)
	c.hold.Lock()
	defer c.hold.Unlock()
	if c.stalled {
		if c.waits = append(c.waits, b); pk.FixedHeader.Type == packets.Publish {
			c.messages++
		}
		return
	}
	c.pass(b)
}

// waiting is how much waits for a client that is slow.
func (c *client) waiting() int {
	c.hold.Lock()
	defer c.hold.Unlock()
	return c.messages
}

// pass hands bytes to the connection.
func (c *client) pass(b []byte) {
	select {
	case c.out <- b:
	case <-c.dead:
	}
}

func (c *client) ack(kind byte, id uint16, code byte) {
	qos := byte(0)
	if kind == packets.Pubrel {
		qos = 1
	}
	c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: kind, Qos: qos}, PacketID: id, ReasonCode: code})
}

// read serves a connection.
func (c *client) read() {
	r := bufio.NewReader(c.nc)
	defer func() {
		c.hangUp()
		c.mu.Lock()
		delete(c.clients, c)
		c.mu.Unlock()
	}()
	for {
		first, err := r.ReadByte()
		if err != nil {
			return
		}
		pk := packets.Packet{ProtocolVersion: 5}
		require.NoError(c.t, pk.FixedHeader.Decode(first))
		if pk.FixedHeader.Remaining, _, err = packets.DecodeLength(r); err != nil {
			return
		}
		body := make([]byte, pk.FixedHeader.Remaining)
		if _, err := io.ReadFull(r, body); err != nil {
			return
		}
		switch pk.FixedHeader.Type {
		case packets.Connect:
			require.NoError(c.t, pk.ConnectDecode(body))
			c.connect(&pk)
		case packets.Subscribe:
			require.NoError(c.t, pk.SubscribeDecode(body))
			c.mu.Lock()
			c.ear = true
			c.mu.Unlock()
			c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: pk.PacketID,
				ReasonCodes: []byte{1}})
		case packets.Publish:
			if c.refused {
				return
			}
			require.NoError(c.t, pk.PublishDecode(body))
			c.publish(&pk)
		case packets.Puback:
			require.NoError(c.t, pk.PubackDecode(body))
			c.mu.Lock()
			for i := range c.state.queue {
				if c.state.queue[i].PacketID == pk.PacketID {
					c.state.queue = append(c.state.queue[:i:i], c.state.queue[i+1:]...)
					break
				}
			}
			c.mu.Unlock()
		case packets.Pubrel:
			require.NoError(c.t, pk.PubrelDecode(body))
			delete(c.known, pk.PacketID)
			c.ack(packets.Pubcomp, pk.PacketID, 0)
		case packets.Pingreq:
			c.mu.Lock()
			deaf := c.deaf
			c.mu.Unlock()
			if !deaf {
				c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
			}
		case packets.Disconnect:
			return
		}
	}
}

func (c *client) connect(pk *packets.Packet) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.name = pk.Connect.ClientIdentifier
	c.variant = !strings.HasPrefix(c.name, "runcrowd-") && string(pk.Connect.Password) != "right-"+c.name
	if c.variant && !c.fate.open {
		c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, ReasonCode: 0x87})
		c.refused = true
		return
	}
	s, present := c.kept[c.name], false
	if s == nil || pk.Connect.Clean || !c.fate.keeps {
		s = &kept{}
		c.kept[c.name] = s
	} else {
		present = true
	}
	c.state = s
	c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, SessionPresent: present})
	if c.ear = present && strings.HasPrefix(c.name, "runcrowd-"); c.ear {
		for i := range s.queue {
			w := &s.queue[i]
			w.FixedHeader.Dup = w.sent // section 3.3.1.1
			w.sent = true
			c.send(w.Packet)
		}
	}
}

// publish takes a message of a device over MQTT.
func (c *client) publish(pk *packets.Packet) {
	id, qos := pk.PacketID, pk.FixedHeader.Qos
	if qos == 2 && c.known[id] {
		c.ack(packets.Pubrec, id, 0)
		return
	}
	device := strings.Split(pk.TopicName, "/")[1]
	t, d := c.came(device, pk.Payload, c.variant)
	if d.refuse && qos > 0 {
		c.ack(map[byte]byte{1: packets.Puback, 2: packets.Pubrec}[qos], id, 0x97)
		return
	}
	if qos == 2 {
		c.known[id] = true
	}
	if !d.silent {
		c.keep(t, d, pk.TopicName, pk.Payload)
	}
	if d.cut && t.came == 1 {
		c.hangUp()
		return
	}
	if d.silent || d.mute {
		return
	}
	c.mu.Lock()
	t.acked++
	c.mu.Unlock()
	switch qos {
	case 1:
		c.ack(packets.Puback, id, 0)
	case 2:
		c.ack(packets.Pubrec, id, 0)
	}
}

// came notes that a message came, and decides what becomes of it.
func (m *model) came(device string, body []byte, variant bool) (*truth, *decision) {
	type content struct {
		Mark  string
		Level any
		Seq   json.Number
	}
	var b struct {
		content
		Head content
	}
	require.NoError(m.t, json.Unmarshal(body, &b))
	m.mu.Lock()
	defer m.mu.Unlock()
	if b.Head.Level != nil { // a body in two levels
		b.content = b.Head
	}
	if b.Mark == "" {
		require.NotEmpty(m.t, b.Seq, "%s", body)
		b.Mark = fmt.Sprintf("%s/%s/state/%s", m.run, device, b.Seq)
	}
	t := m.truths[b.Mark]
	if t == nil {
		yes := func(p float64) bool { return m.rng.Float64() < p }
		f := &m.fate
		d := &decision{lose: yes(f.lose), forget: yes(f.forget), silent: yes(f.silent), alter: yes(f.alter),
			alterRow: yes(f.alterRow), misfile: yes(f.misfile),
			refuse: yes(f.refuse), mute: yes(f.mute), cut: yes(f.cut)}
		if yes(f.repeat) {
			d.repeat = 1 + m.rng.IntN(2)
		}
		if yes(f.repeatRow) {
			d.repeatRow = 1
		}
		if yes(f.delay) {
			d.delay = time.Duration(1+m.rng.IntN(3)) * time.Second
		}
		_, corrupted := b.Level.(string)
		t = &truth{mark: b.Mark, device: device, decided: d, first: time.Now(), variant: variant, corrupted: corrupted}
		m.truths[b.Mark] = t
		m.order = append(m.order, b.Mark)
		t.refused = d.refuse
		if yes(f.restart) && !m.down {
			m.down = true
			for c := range m.clients {
				c.hangUp()
			}
			m.later(time.Duration(50+m.rng.IntN(400))*time.Millisecond, func() {
				m.mu.Lock()
				defer m.mu.Unlock()
				m.down = false
			})
		}
		if yes(f.cutEar) {
			m.disturb(func(c *client) { c.hangUp() })
		}
		if yes(f.stall) {
			m.disturb(func(c *client) {
				c.hold.Lock()
				defer c.hold.Unlock()
				if c.stalled {
					return
				}
				c.stalled = true
				m.later(time.Duration(600+m.rng.IntN(2500))*time.Millisecond, func() {
					c.hold.Lock()
					defer c.hold.Unlock()
					c.stalled = false
					for _, b := range c.waits {
						c.pass(b)
					}
					c.waits, c.messages = nil, 0
				})
			})
		}
		if yes(f.deafen) {
			m.disturb(func(c *client) { c.deaf = true })
		}
	}
	t.came++
	return t, t.decided
}

// disturb does something to the ear's connection. The caller holds mu.
func (m *model) disturb(do func(*client)) {
	for c := range m.clients {
		if c.ear {
			do(c)
		}
	}
}

// keep passes a message on and stores it, as was decided.
func (m *model) keep(t *truth, d *decision, topic string, body []byte) {
	if d.lose {
		return
	}
	do := func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		now := time.Now()
		for n := range 1 + d.repeat {
			if n > 0 && t.came > 1 { // a copy that was sent again is passed on once
				break
			}
			out := string(body)
			if d.alter {
				out = strings.Replace(out, `"level":`, `"level":99,"was":`, 1)
			}
			at := topic
			if d.misfile {
				at = strings.Replace(topic, "/"+t.device+"/", "/buoy-99/", 1)
			}
			m.emit(t, at, out, d.alter, time.Duration(n)*200*time.Millisecond)
		}
		if d.forget {
			return
		}
		for n := range 1 + d.repeatRow {
			if n > 0 && t.came > 1 {
				break
			}
			r := row{at: now, id: len(t.rows) + 1, device: t.device, body: string(body), altered: d.alterRow}
			if m.rng.Float64() < m.fate.wrongTime {
				r.wrong = time.Duration(m.rng.IntN(7200)-3600) * time.Second
			}
			if d.alterRow {
				r.body = strings.Replace(r.body, `"level":`, `"level":98,"was":`, 1)
			}
			if d.misfile {
				r.device = "buoy-99"
			}
			m.rows++
			r.number = m.rows
			m.last[r.device] = r.number
			t.rows = append(t.rows, r)
		}
	}
	if d.delay > 0 {
		m.later(d.delay, do)
	} else {
		do()
	}
}

// later does something after a while.
func (m *model) later(d time.Duration, do func()) {
	m.wg.Go(func() {
		select {
		case <-m.ctx.Done():
		case <-time.After(d):
			do()
		}
	})
}

// emit passes a message on to the ear, now or a little later. The caller holds mu.
func (m *model) emit(t *truth, topic, body string, altered bool, after time.Duration) {
	now := func() {
		t.emits = append(t.emits, emission{at: time.Now(), altered: altered})
		e := &t.emits[len(t.emits)-1]
		var ear *client
		for c := range m.clients {
			if c.ear && !c.gone() {
				ear = c
			}
		}
		pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, TopicName: topic,
			Payload: []byte(body)}
		if ear == nil && !m.fate.keeps {
			return
		}
		for name, s := range m.kept {
			// Its queue fills while the ear is away, or does not answer.
			if m.fate.queue > 0 && len(s.queue) >= m.fate.queue && (ear == nil || ear.deaf) {
				if ear != nil && s == ear.state || ear == nil && strings.HasPrefix(name, "runcrowd-") {
					e.dropped = true
					return
				}
			}
			if ear != nil && s == ear.state || ear == nil && strings.HasPrefix(name, "runcrowd-") {
				s.id++
				pk.PacketID = s.id
				s.queue = append(s.queue, waiting{pk, ear != nil && !ear.deaf})
			}
		}
		if ear != nil && !ear.deaf && m.fate.queue > 0 && ear.waiting() >= m.fate.queue {
			e.dropped = true
			ear.state.queue = ear.state.queue[:len(ear.state.queue)-1]
			return
		}
		if ear != nil && !ear.deaf {
			e.heard = true
			ear.send(pk)
		}
	}
	if after == 0 {
		now()
		return
	}
	m.later(after, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		now()
	})
}

// answer serves HTTP: messages of devices, and questions about what is stored.
func (m *model) answer(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	if r.Method == http.MethodPost {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		variant := r.Header.Get("Authorization") != "Bearer right-"+parts[2]
		if variant && !m.fate.open {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		t, d := m.came(parts[2], body, variant)
		switch {
		case d.refuse:
			http.Error(w, "quota", http.StatusForbidden)
			return
		case d.silent:
			<-r.Context().Done()
			return
		}
		m.keep(t, d, "harbour/"+parts[2]+"/state", body)
		if d.mute || d.cut {
			panic(http.ErrAbortHandler)
		}
		m.mu.Lock()
		t.acked++
		m.mu.Unlock()
		w.WriteHeader(http.StatusAccepted)
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if parts[0] == "count" {
		m.count(w)
		return
	}
	switch dice := m.rng.Float64(); {
	case len(m.order) == 0: // before the run, which would not begin
	case dice < m.fate.storeFails:
		http.Error(w, "on fire", http.StatusInternalServerError)
		return
	case dice < m.fate.storeFails+m.fate.limits:
		w.Header().Set("Retry-After", "1")
		http.Error(w, "slowly", http.StatusTooManyRequests)
		return
	case r.URL.Query().Get("cursor") != "" && m.rng.Float64() < m.fate.gone:
		http.Error(w, "that page is gone", http.StatusNotFound)
		return
	}
	type item struct {
		Mark   string          `json:"mark"`
		ID     string          `json:"id"`
		Device string          `json:"device"`
		At     string          `json:"at"`
		Body   json.RawMessage `json:"body,omitempty"`
		Text   string          `json:"text,omitempty"`
	}
	list := []item{}
	for _, mark := range m.order {
		for _, x := range m.truths[mark].rows {
			if !m.fate.latest || m.last[x.device] == x.number {
				at := x.at.Add(x.wrong).UTC().Format(time.RFC3339Nano)
				if m.fate.echo {
					var b struct{ Head struct{ At string } }
					require.NoError(m.t, json.Unmarshal([]byte(x.body), &b))
					at = b.Head.At
				}
				i := item{Mark: mark, ID: fmt.Sprint(mark, "-", x.id), Device: x.device, At: at}
				if m.fate.text {
					i.Text = x.body
				} else {
					i.Body = json.RawMessage(x.body)
				}
				list = append(list, i)
			}
		}
	}
	if m.fate.capped {
		n := min(len(list), m.fate.pageSize)
		if m.fate.newest {
			list = list[len(list)-n:]
		}
		json.NewEncoder(w).Encode(map[string]any{"rows": list[:n]})
		return
	}
	from := 0
	fmt.Sscan(r.URL.Query().Get("cursor"), &from)
	from = min(from, len(list))
	to := min(len(list), from+m.fate.pageSize)
	doc := map[string]any{"rows": list[from:to]}
	if to < len(list) {
		doc["cursor"] = to
	}
	json.NewEncoder(w).Encode(doc)
}

// count answers how many rows there are of each device. The caller holds mu.
func (m *model) count(w http.ResponseWriter) {
	type item struct {
		Device string `json:"device"`
		N      int    `json:"n"`
	}
	of := map[string]int{}
	for _, t := range m.truths {
		for _, r := range t.rows {
			of[r.device]++
		}
	}
	list := []item{}
	for _, d := range slices.Sorted(maps.Keys(of)) {
		list = append(list, item{d, of[d]})
	}
	json.NewEncoder(w).Encode(map[string]any{"rows": list})
}
