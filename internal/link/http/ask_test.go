package http_test

import (
	"context"
	"fmt"
	"io"
	nethttp "net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/link"
	"runcrowd/internal/link/http"
	"runcrowd/internal/link/linktest"
)

// tokens gives another token each time.
type tokens struct{ n atomic.Int32 }

func (p *tokens) Token(context.Context) (string, time.Time, error) {
	if n := p.n.Add(1); n < 100 {
		return fmt.Sprint("token-", n), time.Time{}, nil
	}
	return "", time.Time{}, &link.TokenError{What: "no access token: the server is asleep"}
}

func device(t *testing.T, base string, id link.Identity) (link.Conn, *linktest.Sink) {
	l := http.New(http.Config{Name: "shore", Base: base, Timeout: 5 * time.Second, ConnectTimeout: time.Second,
		Backlog: 10, Connections: 4,
		BackOff: [2]time.Duration{time.Millisecond, 5 * time.Millisecond}})
	s := &linktest.Sink{}
	c := l.Connect(id, s)
	t.Cleanup(func() { c.Close(true); l.Close() })
	return c, s
}

// The token of the moment goes into address, headers and basic authentication; what
// the platform says of it is told without it.
func TestTokensAreFilledIn(t *testing.T) {
	var seen []string
	p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		user, password, _ := r.BasicAuth()
		seen = append(seen, r.URL.RequestURI()+" "+r.Header.Get("X-Token")+" "+user+":"+password)
		w.WriteHeader(401)
		io.WriteString(w, "bad "+password)
	}))
	defer p.Close()
	source := &tokens{}
	c, s := device(t, p.URL, link.Identity{Username: "gauge", Password: link.TokenPlace, Tokens: source})
	for i := range uint64(2) {
		c.Send(&link.Message{Seq: i + 1, Count: 1, Target: "/in?t=" + link.TokenPlace,
			HTTP: link.HTTP{Method: "POST", Headers: []link.Header{{Name: "X-Token", Value: "v " + link.TokenPlace}}}})
	}
	s.Has(t, "1 refused 401 status 401 Unauthorized: “bad «secret»”")
	s.Has(t, "2 refused 401 status 401 Unauthorized: “bad «secret»”")
	assert.Equal(t, []string{"/in?t=token-1 v token-1 gauge:token-1", "/in?t=token-2 v token-2 gauge:token-2",
		"/in?t=token-3 v token-3 gauge:token-3", "/in?t=token-4 v token-4 gauge:token-4"}, seen, "each with a new one, once more")
	assert.Contains(t, s.All(), "renewed")
	source.n.Store(1000)
	c.Send(&link.Message{Seq: 3, Count: 1, Target: "/in", HTTP: link.HTTP{Method: "POST"}})
	s.Has(t, "down no access token: the server is asleep")
	source.n.Store(5) // it is awake again
	s.Has(t, "3 refused 401 status 401 Unauthorized: “bad «secret»”")
}

// A token may run out between its making and the platform's look at it: with a new one the message is
// sent once more, and that is told. One that is to be refused is not.
func TestATokenThatRunsOutOnTheWay(t *testing.T) {
	var seen []string
	p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		if seen = append(seen, r.Header.Get("X-Token")); seen[len(seen)-1] == "token-1" {
			w.WriteHeader(401)
		}
	}))
	defer p.Close()
	headers := []link.Header{{Name: "X-Token", Value: link.TokenPlace}}
	c, s := device(t, p.URL, link.Identity{Tokens: &tokens{}})
	c.Send(&link.Message{Seq: 1, Count: 1, Target: "/in", HTTP: link.HTTP{Method: "POST", OKStatus: []int{200}, Headers: headers}})
	s.Has(t, "1 accepted 200 ")
	assert.Equal(t, []string{"token-1", "token-2"}, seen)
	assert.Contains(t, s.All(), "1 anew")
	seen = nil
	c, s = device(t, p.URL, link.Identity{Tokens: &tokens{}})
	c.Send(&link.Message{Seq: 2, Count: 1, Target: "/in", Variant: true, HTTP: link.HTTP{Method: "POST", OKStatus: []int{200}, Headers: headers}})
	s.Has(t, "2 refused 401 status 401 Unauthorized")
	assert.Equal(t, []string{"token-1"}, seen)
}

// A header that cannot be sent settles its message: the next ones are not held up.
func TestAHeaderWithALineBreak(t *testing.T) {
	p := httptest.NewServer(nethttp.HandlerFunc(func(nethttp.ResponseWriter, *nethttp.Request) {}))
	defer p.Close()
	c, s := device(t, p.URL, link.Identity{})
	c.Send(&link.Message{Seq: 1, Count: 1, Target: "/in", HTTP: link.HTTP{Method: "POST",
		Headers: []link.Header{{Name: "X-Got", Value: "a\r\nb"}}}})
	c.Send(&link.Message{Seq: 2, Count: 1, Target: "/in", HTTP: link.HTTP{Method: "POST", OKStatus: []int{200}}})
	s.Has(t, "1 unsent 0 the request could not be made: the header X-Got holds a line break")
	s.Has(t, "2 accepted 200 ")
}

// Commands are asked for at their interval, one question at a time; that the platform
// does not answer is told once.
func TestAskingForCommands(t *testing.T) {
	var n atomic.Int32
	p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		assert.Equal(t, "Bearer token", r.Header.Get("Authorization"))
		switch n.Add(1) {
		case 1, 2:
			w.WriteHeader(404)
		case 3:
			w.WriteHeader(204)
		case 4:
			io.WriteString(w, `{"name":"stop"}`)
		default:
			io.WriteString(w, "")
		}
	}))
	defer p.Close()
	c, s := device(t, p.URL, link.Identity{Asks: []link.Ask{{Path: "/commands/gauge", Every: 10 * time.Millisecond,
		Headers: []link.Header{{Name: "Authorization", Value: "Bearer token"}}}}})
	now := time.Now()
	for i := 0; n.Load() < 6; i++ {
		require.Less(t, i, 5000)
		wait := c.Tick(now)
		assert.LessOrEqual(t, wait, 10*time.Millisecond)
		now = now.Add(wait)
		time.Sleep(2 * time.Millisecond)
	}
	s.Has(t, `came /commands/gauge {"name":"stop"}`)
	assert.Equal(t, []string{"up", "listens /commands/gauge status 404 Not Found", "listens /commands/gauge",
		`came /commands/gauge {"name":"stop"}`}, s.All())
}
