package ask_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ask"
	"runcrowd/internal/brokertest"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
)

// question asks the one device of a crowd its one command.
func question(t *testing.T, text string, values map[string]any) *ask.Question {
	t.Helper()
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	d := f.Devices[0]
	return &ask.Question{Crowd: c, Credentials: f.Credentials, Device: d, Command: d.Commands[0], Values: values,
		Link: d.Cast.Link, Wait: 5 * time.Second}
}

func overHTTP(url, more string) string {
	return fmt.Sprintf(`
crowd: harbour
links: {shore: {http: "%[1]s"}}
kinds:
  gauge:
    readings: {level: {every: 1s, path: /in, fields: {a: 1}}}
    commands: {zero: {path: /commands, match: {name: zero}, reply: {path: /answers}, request: {url: "%[1]s/give/${device}", headers: {X-For: "${device}"}%[2]s}}
devices: [{kind: gauge}]
plan: {for: 1s}
`, url, more)
}

// An answer is one that was not there before: where looking takes answers away, and
// where the platform keeps them all.
func TestOldAnswersAreNotTheAnswer(t *testing.T) {
	for _, keeps := range []bool{true, false} {
		var mu sync.Mutex
		told := []string{`{"ok":true}`, `{"ok":true}`}
		platform := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			if r.Method == http.MethodPost {
				assert.Equal(t, "gauge", r.Header.Get("X-For"))
				body, _ := io.ReadAll(r.Body)
				assert.JSONEq(t, `{"name":"zero","by":3}`, string(body))
				w.WriteHeader(202)
				time.AfterFunc(300*time.Millisecond, func() { mu.Lock(); told = append(told, `{"ok":true}`); mu.Unlock() })
				return
			}
			if len(told) == 0 {
				w.WriteHeader(404)
				return
			}
			fmt.Fprintf(w, `{"answers":[%s]}`, strings.Join(told, ","))
			if !keeps {
				told = nil
			}
		}))
		a, err := question(t, overHTTP(platform.URL, `}, read_reply: {get: "`+platform.URL+`/told", rows: ".answers[]"}`),
			map[string]any{"by": 3}).Ask(t.Context())
		platform.Close()
		require.NoError(t, err)
		assert.Equal(t, "POST "+platform.URL+"/give/gauge", a.Where)
		assert.True(t, a.Answered && !a.Refused)
		assert.Equal(t, `{"ok":true}`, string(a.Told))
		assert.GreaterOrEqual(t, a.After, 300*time.Millisecond, "keeps: %t", keeps)
	}
}

// What the platform's API says otherwise.
func TestPlatformsThatDoNotAnswer(t *testing.T) {
	answer, status := `{"answers":[]}`, 200
	platform := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			w.WriteHeader(409)
			io.WriteString(w, "busy")
			return
		}
		w.WriteHeader(status)
		io.WriteString(w, answer)
	}))
	defer platform.Close()
	hear := `}, read_reply: {get: "` + platform.URL + `/told", rows: ".answers[]"}`
	a, err := question(t, overHTTP(platform.URL, hear), nil).Ask(t.Context())
	require.NoError(t, err)
	assert.True(t, a.Refused)
	assert.Equal(t, "status 409: “busy”", a.Said)

	q := question(t, overHTTP(platform.URL, ", ok_status: [409]"+hear), nil)
	q.Wait = 50 * time.Millisecond
	a, err = q.Ask(t.Context())
	require.NoError(t, err)
	assert.False(t, a.Refused || a.Answered)
	for _, c := range []struct {
		status       int
		answer, says string
	}{{500, "no", "answered with status 500: “no”"}, {200, "no", "the answer is not JSON"},
		{200, `{"told":3}`, "does not have the rows the file says"}} {
		status, answer = c.status, c.answer
		_, err := question(t, overHTTP(platform.URL, hear), nil).Ask(t.Context())
		assert.ErrorContains(t, err, c.says)
	}
	platform.Close()
	_, err = question(t, overHTTP(platform.URL, "}"), nil).Ask(t.Context())
	var reach *link.ReachError
	require.True(t, errors.As(err, &reach), "%v", err)
	assert.Contains(t, reach.Error(), "the connection was refused")
}

func overMQTT(addr string, more string) string {
	return fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: "mqtt://%s"}}
kinds:
  buoy:
    readings: {state: {every: 1s, topic: state, fields: {a: 1}}}
    commands: {stop: {topic: ask/buoy%s}}
devices: [{kind: buoy}]
plan: {for: 1s}
`, addr, more)
}

// What a broker does with a command, and what is taken for its answer.
func TestBrokers(t *testing.T) {
	for name, c := range map[string]struct {
		more   string
		broker func(p *brokertest.Peer)
		check  func(a *ask.Answer, err error)
	}{
		"refuses the subscription": {`, reply: {topic: told}`, func(p *brokertest.Peer) {
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback},
				PacketID: p.Expect(packets.Subscribe).PacketID, ReasonCodes: []byte{0x87}})
		}, func(_ *ask.Answer, err error) {
			assert.ErrorContains(t, err, `the broker refused the subscription "told": not authorized (0x87)`)
		}},
		"refuses the command": {"", func(p *brokertest.Peer) {
			p.Ack(packets.Puback, p.Expect(packets.Publish).PacketID, 0x87)
		}, func(a *ask.Answer, err error) {
			require.NoError(t, err)
			assert.True(t, a.Refused)
			assert.Equal(t, "not authorized (0x87)", a.Said)
		}},
		"knows of nobody": {"", func(p *brokertest.Peer) {
			id := p.Expect(packets.Publish).PacketID
			p.Conn.Write([]byte{0x40, 3, byte(id >> 8), byte(id), 0x10}) // the other codec leaves reasons below 0x80 out
		}, func(a *ask.Answer, err error) {
			require.NoError(t, err)
			assert.True(t, a.Nobody && !a.Refused && !a.Wanted)
		}},
		"cuts the connection": {"", func(p *brokertest.Peer) { p.Expect(packets.Publish); p.Close() },
			func(_ *ask.Answer, err error) {
				assert.ErrorContains(t, err, "the platform closed the connection")
			}},
		"brings answers to others first": {`, reply: {topic: told}`, func(p *brokertest.Peer) {
			grant(p)
			asked := p.Expect(packets.Publish)
			assert.Equal(t, "told", asked.Properties.ResponseTopic)
			say := func(body, correlation string, retain bool) {
				p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1, Retain: retain},
					PacketID: 7, TopicName: "told", Payload: []byte(body),
					Properties: packets.Properties{CorrelationData: []byte(correlation)}, Mods: packets.Mods{AllowResponseInfo: true}})
				p.Expect(packets.Puback)
			}
			say("old", "", true)
			say("another's", "someone", false)
			say("ours", string(asked.Properties.CorrelationData), false)
			p.Ack(packets.Puback, asked.PacketID, 0) // slower than the answer
		}, func(a *ask.Answer, err error) {
			require.NoError(t, err)
			assert.True(t, a.Answered && a.Matched)
			assert.Equal(t, "ours", string(a.Told))
		}},
		"brings an answer without correlation data": {`, reply: {topic: told}`, func(p *brokertest.Peer) {
			grant(p)
			p.Ack(packets.Puback, p.Expect(packets.Publish).PacketID, 0)
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "told",
				Payload: []byte("well")})
		}, func(a *ask.Answer, err error) {
			require.NoError(t, err)
			assert.True(t, a.Answered && !a.Matched)
			assert.Equal(t, "well", string(a.Told))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			b := brokertest.New(t, 5)
			q := question(t, overMQTT(b.Addr().String(), c.more), nil)
			done := make(chan struct{})
			var a *ask.Answer
			var err error
			go func() { a, err = q.Ask(context.Background()); close(done) }()
			p, _ := b.Accept(packets.Packet{})
			c.broker(p)
			<-done
			c.check(a, err)
		})
	}
	// Who waits long says so: a broker cuts off who is silent for longer.
	b := brokertest.New(t, 5)
	long := question(t, overMQTT(b.Addr().String(), ""), nil)
	long.Wait = 10 * time.Minute
	go long.Ask(t.Context())
	_, hello := b.Accept(packets.Packet{})
	assert.Equal(t, uint16(60), hello.Connect.Keepalive)

	b = brokertest.New(t, 5)
	go b.Accept(packets.Packet{ReasonCode: 0x87})
	_, err := question(t, overMQTT(b.Addr().String(), ""), nil).Ask(t.Context())
	assert.ErrorContains(t, err, "the broker refused the connection of ask: not authorized (0x87)")
	b = brokertest.New(t, 5)
	go b.Accept(packets.Packet{})
	_, err = question(t, strings.Replace(overMQTT(b.Addr().String(), ""), "ask/buoy", "ask/+", 1), nil).Ask(t.Context())
	assert.ErrorContains(t, err, "a command for several topics cannot be asked from here")
}

func grant(p *brokertest.Peer) {
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback},
		PacketID: p.Expect(packets.Subscribe).PacketID, ReasonCodes: []byte{1}})
}
