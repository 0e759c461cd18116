package standin

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func start(t *testing.T, cfg Config) *StandIn {
	t.Helper()
	cfg.MQTT, cfg.HTTP = "127.0.0.1:0", "127.0.0.1:0"
	s, err := Start(cfg)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func do(t *testing.T, method, url, body string, header ...string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

// Pages follow one another without a gap or a row twice.
func TestReadBack(t *testing.T) {
	s := start(t, Config{})
	for i := range 25 {
		code, _ := do(t, "POST", "http://"+s.HTTPAddr+"/in/harbour/gauge-1/level", fmt.Sprintf(`{"n":%d}`, i))
		require.Equal(t, 202, code)
	}
	do(t, "POST", "http://"+s.HTTPAddr+"/in/harbour/gauge-2/level", "no json")
	_, body := do(t, "GET", "http://"+s.HTTPAddr+"/stored", "")
	assert.JSONEq(t, `{"devices":["gauge-1","gauge-2"]}`, body)
	next, got := "/stored/gauge-1?limit=10", []int{}
	for pages := 0; next != ""; pages++ {
		require.Less(t, pages, 4)
		code, body := do(t, "GET", "http://"+s.HTTPAddr+next, "")
		require.Equal(t, 200, code)
		var answer struct {
			Rows []struct{ Content struct{ N int } }
			Next string
		}
		require.NoError(t, json.Unmarshal([]byte(body), &answer))
		for _, m := range answer.Rows {
			got = append(got, m.Content.N)
		}
		next = answer.Next
	}
	require.Len(t, got, 25)
	for i, n := range got {
		assert.Equal(t, i, n)
	}
	_, body = do(t, "GET", "http://"+s.HTTPAddr+"/stored/gauge-2", "")
	assert.Contains(t, body, `"content":null,"bytes":"bm8ganNvbg=="`)
	_, body = do(t, "GET", "http://"+s.HTTPAddr+"/stored/gauge-1?to=2001-01-01T00:00:00Z", "")
	assert.JSONEq(t, `{"rows":[],"next":null,"cursor":null,"total":0}`, body)
	for _, bad := range []string{"?from=noon", "?limit=-1", "?limit=x", "?after=-3", "?to=5"} {
		code, body := do(t, "GET", "http://"+s.HTTPAddr+"/stored/gauge-1"+bad, "")
		assert.Equal(t, 400, code, bad)
		assert.Contains(t, body, "must be", bad)
	}
	code, _ := do(t, "POST", "http://"+s.HTTPAddr+"/in/a+b/c", "{}")
	assert.Equal(t, 400, code)
	code, _ = do(t, "POST", "http://"+s.HTTPAddr+"/in/a/b", strings.Repeat("x", maxBody+1))
	assert.Equal(t, 413, code)
}

// Rows are asked for with a body, too, and told alone, as CSV or JSON Lines.
func TestReadBackInOtherForms(t *testing.T) {
	s := start(t, Config{})
	for i := range 3 {
		do(t, "POST", "http://"+s.HTTPAddr+"/in/harbour/gauge-1/level", fmt.Sprintf(`{"n":%d}`, i))
	}
	search := func(body string) (int, string) { return do(t, "POST", "http://"+s.HTTPAddr+"/stored/search", body) }
	_, body := search(`{"device":"gauge-1","limit":2}`)
	assert.Contains(t, body, `"cursor":2`)
	assert.Contains(t, body, `"total":3`)
	assert.NotContains(t, body, `{"n":2}`)
	_, body = search(`{"device":"gauge-1","limit":2,"after":2,"from":null}`)
	assert.Contains(t, body, `{"n":2}`)
	assert.Contains(t, body, `"cursor":null`)
	_, body = search(`{"device":"gauge-1","form":"lines"}`)
	assert.Regexp(t, `^\{"id":1,.*\n\{"id":2,.*\n\{"id":3,.*\n$`, body)
	_, body = search(`{"device":"gauge-1","form":"csv","limit":1}`)
	assert.Regexp(t, `^id,stored_at,device,reading,content\n1,\S+,gauge-1,level,"\{""n"":0\}"\n$`, body)
	for _, bad := range []string{"", "[]", `{"form":"xml"}`, `{"limit":-1}`} {
		code, _ := search(bad)
		assert.Equal(t, 400, code, bad)
	}
	resp, err := http.Get("http://" + s.HTTPAddr + "/stored/gauge-1?limit=2")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, []string{`</stored/gauge-1?after=2&limit=2>; rel="next"`, "3"}, []string{resp.Header.Get("Link"), resp.Header.Get("X-Total-Count")})
}

func TestTheStoreIsBounded(t *testing.T) {
	s := start(t, Config{Keep: 2})
	for range 5 {
		do(t, "POST", "http://"+s.HTTPAddr+"/in/a/b", "{}")
	}
	kept, dropped := s.Stored()
	assert.Equal(t, []int{2, 3}, []int{kept, dropped})
}

func TestToken(t *testing.T) {
	s := start(t, Config{Token: "open-sesame-77"})
	for header, want := range map[string]int{"": 401, "Bearer wrong": 401, "Bearer open-sesame-77": 200} {
		code, _ := do(t, "GET", "http://"+s.HTTPAddr+"/stored", "", "Authorization", header)
		assert.Equal(t, want, code, header)
	}
}

// A packet that makes the broker library panic ends its connection and nothing
// else. The SUBSCRIBE is one that does.
func TestABrokenPacketDoesNotEndTheStandIn(t *testing.T) {
	s := start(t, Config{})
	body, err := hex.DecodeString("06660000076a043701031a02")
	require.NoError(t, err)
	require.Panics(t, func() {
		(&packets.Packet{ProtocolVersion: 5, FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1,
			Remaining: len(body)}}).SubscribeDecode(body)
	}, "this packet shows nothing any more; find another, or take the guard away")
	nc := dial(t, s)
	_, err = nc.Write(append([]byte{0x82, byte(len(body))}, body...))
	require.NoError(t, err)
	nc.SetReadDeadline(time.Now().Add(5 * time.Second))
	_, err = nc.Read(make([]byte, 10))
	assert.ErrorIs(t, err, io.EOF)
	dial(t, s)
}

// deaf is a connection that takes one packet, and breaks with the next.
type deaf struct {
	net.Conn
	taken atomic.Bool
}

func (d *deaf) Write(b []byte) (int, error) {
	if d.taken.Swap(true) {
		d.Close()
		return 0, net.ErrClosed
	}
	return d.Conn.Write(b)
}

// A message whose acknowledgement cannot be written is passed on all the same: the device
// may be told later, when it is back, that it was taken.
func TestWhatIsTakenIsPassedOn(t *testing.T) {
	s := start(t, Config{})
	ear := dial(t, s)
	_, err := ear.Write([]byte{0x82, 9, 0, 1, 0, 0, 3, 'a', '/', '#', 1})
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, ear, 6) // SUBACK
	require.NoError(t, err)
	near, far := net.Pipe()
	done := make(chan error)
	go func() { done <- s.broker.EstablishConnection("pipe", &deaf{Conn: far}) }()
	greet(t, near, 'y')
	_, err = near.Write([]byte{0x32, 11, 0, 3, 'a', '/', 'b', 0, 7, 0, 'o', 'n', 'e'})
	require.NoError(t, err)
	<-done
	head := make([]byte, 2)
	_, err = io.ReadFull(ear, head)
	require.NoError(t, err, "nothing was passed on")
	body := make([]byte, head[1])
	_, err = io.ReadFull(ear, body)
	require.NoError(t, err)
	assert.Equal(t, byte(0x32), head[0]&^8)
	assert.Equal(t, "\x00\x03a/b", string(body[:5]))
	assert.Equal(t, "one", string(body[len(body)-3:]))
}

// dial opens a connection of version 5 and waits for its CONNACK.
func dial(t *testing.T, s *StandIn) net.Conn {
	t.Helper()
	nc, err := net.Dial("tcp", s.MQTTAddr)
	require.NoError(t, err)
	greet(t, nc, 'x')
	return nc
}

func greet(t *testing.T, nc net.Conn, id byte) {
	t.Helper()
	t.Cleanup(func() { nc.Close() })
	_, err := nc.Write([]byte{0x10, 14, 0, 4, 'M', 'Q', 'T', 'T', 5, 2, 0, 60, 0, 0, 1, id})
	require.NoError(t, err)
	nc.SetReadDeadline(time.Now().Add(5 * time.Second))
	head := make([]byte, 2)
	_, err = io.ReadFull(nc, head)
	require.NoError(t, err)
	require.Equal(t, byte(0x20), head[0])
	_, err = io.CopyN(io.Discard, nc, int64(head[1]))
	require.NoError(t, err)
}

func TestParseFlaw(t *testing.T) {
	for text, want := range map[string]Flaw{
		"lose": {"lose", 3, 0, defaultDelay}, "alter=5": {"alter", 5, 0, defaultDelay},
		"repeat=2%":  {"repeat", 0, 0.02, defaultDelay},
		"delay=3@2s": {"delay", 3, 0, 2 * time.Second}, "delay@500ms": {"delay", 3, 0, 500 * time.Millisecond},
		"cut=100%": {"cut", 0, 1, defaultDelay},
	} {
		f, err := ParseFlaw(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, f, text)
	}
	for _, bad := range []string{"", "gremlins", "lose=", "lose=0", "lose=-1", "lose=x", "lose=101%", "lose=0%",
		"lose@2s", "delay@", "delay=3@x", "delay@-1s"} {
		_, err := ParseFlaw(bad)
		assert.Error(t, err, bad)
	}
	for _, n := range FlawNames() {
		assert.NotEmpty(t, FlawDoc(n))
	}
}

// Counted flaws hit as often as they are told, shares hit their share, and a
// message that comes again is not hit again.
func TestChance(t *testing.T) {
	c := newChance([]Flaw{{Name: "lose", Count: 4}, {Name: "alter", Share: 0.1}})
	hits := map[string]int{}
	for i := range 1000 {
		payload := []byte(fmt.Sprint(i))
		f, hit, _ := c.strike("t", payload, func(Flaw) bool { return true })
		if hit {
			hits[f.Name]++
			_, twice, first := c.strike("t", payload, func(Flaw) bool { return true })
			assert.False(t, twice)
			assert.Equal(t, f.Name, first)
		}
	}
	assert.Equal(t, 4, hits["lose"])
	assert.Equal(t, 99, hits["alter"], "a tenth of the 996 that the first flaw left")
}

func TestAlter(t *testing.T) {
	for in, want := range map[string]string{
		`{"mark":"m","a":1,"b":2.5,"c":"3"}`: `{"mark":"m","a":1,"b":3.5,"c":"3"}`,
		`{"mark":"m","place":{"lat":1}}`:     "", `{"seq":7}`: "", `{}`: "", `[1]`: "", `x`: "",
		`{"m":1, "a" : 1e2 }`: `{"m":1, "a" : 101 }`,
		`15.50`:               `16.5`, ` -3 `: ` -2 `, `T=1.5;H=60;u7pl2rya/buoy-1/state/7`: `T=1.5;H=61;u7pl2rya/buoy-1/state/7`,
		"on": "", "\xff1": "", "buoy-1": "", "": "",
	} {
		got, ok := alter([]byte(in))
		assert.Equal(t, want != "", ok, in)
		assert.Equal(t, want, string(got), in)
	}
}

// Two messages in a row on one topic are held until a third has passed: both
// come behind it, in their own order.
func TestReorderTwoInARow(t *testing.T) {
	s := start(t, Config{Flaws: []Flaw{{Name: "reorder", Share: 1}}})
	post := func(n int) { do(t, "POST", "http://"+s.HTTPAddr+"/in/a/b", fmt.Sprintf(`{"n":%d}`, n)) }
	post(1)
	post(2)
	s.chance.mu.Lock()
	s.chance.flaws = nil
	s.chance.mu.Unlock()
	post(3)
	require.Eventually(t, func() bool { kept, _ := s.Stored(); return kept == 3 }, 10*time.Second, time.Millisecond)
	_, body := do(t, "GET", "http://"+s.HTTPAddr+"/stored/a", "")
	one, two, three := strings.Index(body, `{"n":1}`), strings.Index(body, `{"n":2}`), strings.Index(body, `{"n":3}`)
	assert.True(t, three < one && one < two, body)
}

// Names and values are taken from a web form and from an address; each is of the type that it looks
// like. A name that stands twice is refused.
func TestNamesAndValues(t *testing.T) {
	s := start(t, Config{})
	at := "http://" + s.HTTPAddr + "/in/gauge-1/level"
	const text = "level_m=1.25&n=-3&calm=true&note=a%20b%2B%26&code=007&big=12345678901234567890&none=&x=1e5"
	for _, c := range []struct {
		method, url, body, kind string
		code                    int
	}{{"GET", at + "?" + text, "", "", 202}, {"POST", at, text, "application/x-www-form-urlencoded", 202},
		{"POST", at + "?" + text, "", "application/json", 202}, {"GET", at + "?n=1&n=2", "", "", 400}, {"GET", at + "?n=%zz", "", "", 400}} {
		code, body := do(t, c.method, c.url, c.body, "Content-Type", c.kind)
		assert.Equal(t, c.code, code, body)
	}
	_, body := do(t, "GET", "http://"+s.HTTPAddr+"/stored/gauge-1", "")
	var answer struct {
		Rows []struct{ Content json.RawMessage }
	}
	require.NoError(t, json.Unmarshal([]byte(body), &answer))
	require.Len(t, answer.Rows, 3)
	for _, r := range answer.Rows {
		assert.Equal(t, `{"big":12345678901234567890,"calm":true,"code":"007","level_m":1.25,"n":-3,"none":"","note":"a b+\u0026","x":1e5}`, string(r.Content))
	}
}
