package listen

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/link"
	"runcrowd/internal/memnet"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// call is what a platform calls with.
type call struct {
	method, path, body string
	header             [2]string
	after              time.Duration // after the call before
	breaks             bool          // before its body is whole
}

// What a callback notes of calls, and what it answers.
func TestWhatACallBrings(t *testing.T) {
	const hook = `witnesses: {hook: {proves: received, callback: "http://127.0.0.1:90/x", wait: 1s, watch_copies: 1s}}`
	with := func(keys string) string { return strings.Replace(hook, "wait: 1s", "wait: 1s, "+keys, 1) }
	body := `{"mark":"«1»","a":1}`
	one := []string{`buoy-1/state/1 {"mark":"«1»","a":1}`}
	for name, c := range map[string]struct {
		witness, mark string
		calls         []call
		status        []int
		noted         []string
		why           string
		took          time.Duration // of the last call
	}{
		"a message":       {calls: []call{{body: body}}, status: []int{200}, noted: one},
		"put":             {calls: []call{{method: "PUT", body: body}}, status: []int{200}, noted: one},
		"a question":      {calls: []call{{method: "GET"}, {body: body}}, status: []int{405, 200}, noted: one},
		"another path":    {calls: []call{{path: "/y", body: body}, {path: "/y", body: body}, {body: body}}, status: []int{404, 404, 200}, noted: append(one[:1:1], `remark the witness "hook": the platform called the path “/y”, where nothing listens; it listens at /x`)},
		"nobody calls":    {why: "the platform has not called http://127.0.0.1:90/x in this run; can it reach this machine?", noted: []string{"gap 0s to the end the platform has not called http://127.0.0.1:90/x in this run; can it reach this machine?"}},
		"rows":            {witness: with(`rows: ".list[]"`), calls: []call{{body: `{"list":[{"mark":"«1»"},{"mark":"«2»"}]}`}}, status: []int{200}, noted: []string{`buoy-1/state/1 {"mark":"«1»"}`, `buoy-1/state/2 {"mark":"«2»"}`}},
		"rows of no JSON": {witness: with(`rows: ".list[]"`), calls: []call{{body: `oh`}}, status: []int{200}, noted: []string{`remark the witness "hook": a call brought a body that is no JSON: rows could not be taken out of it`}},
		"no rows":         {witness: with(`rows: ".list[]"`), calls: []call{{body: `{"list":7}`}}, status: []int{200}, noted: []string{`remark the witness "hook": rows: .list[]: cannot iterate over: number (7)`}},
		"a header":        {witness: with(`require_headers: {X-Key: "k-${crowd}"}`), calls: []call{{body: body}, {body: body, header: [2]string{"X-Key", "k-x"}}, {body: body, header: [2]string{"X-Key", "k-skerry-roads"}}}, status: []int{401, 401, 200}, noted: append(one[:1:1], `remark the witness "hook": calls came without the right header X-Key`)},
		"a header that no call shows": {witness: with(`require_headers: {X-Key: "k"}`), calls: []call{{body: body}}, status: []int{401}, why: "the platform has not called http://127.0.0.1:90/x in this run; can it reach this machine?",
			noted: []string{"gap 0s to the end the platform has not called http://127.0.0.1:90/x in this run; can it reach this machine?", `remark the witness "hook": calls came without the right header X-Key`}},
		"a mark in a header":   {mark: "{header: X-Mark}", calls: []call{{body: `{"a":1}`, header: [2]string{"X-Mark", "«1»"}}, {body: `{"a":2}`}}, status: []int{200, 200}, noted: []string{`buoy-1/state/1 {"a":1}`}},
		"it fails twice":       {witness: with(`respond: {status: 503, times: 2}`), calls: []call{{body: body}, {body: body}, {body: body}}, status: []int{503, 503, 200}, noted: one},
		"it fails for a while": {witness: with(`respond: {status: 503, for: 10s}`), calls: []call{{body: body}, {body: body, after: 9 * time.Second}, {body: body, after: time.Second}}, status: []int{503, 503, 200}, noted: one},
		"another good answer":  {witness: with(`respond: {status: 204}`), calls: []call{{body: body}}, status: []int{204}, noted: one},
		"a slow answer":        {witness: with(`respond: {delay: 3s}`), calls: []call{{body: body}}, status: []int{200}, noted: one, took: 3 * time.Second},
		"a call that breaks":   {calls: []call{{body: body, breaks: true}, {body: body}}, status: []int{0, 200}, noted: append(one[:1:1], "gap 0s to 0s a call broke off before its body had come whole")},
		"too much":             {calls: []call{{body: strings.Repeat(" ", maxMessage+1)}, {body: body}}, status: []int{413, 200}, noted: append(one[:1:1], fmt.Sprintf("gap 0s to 0s a call brought more than %d bytes", maxMessage))},
		"as much as it takes":  {calls: []call{{body: body + strings.Repeat(" ", maxMessage-45)}}, status: []int{200}, noted: nil},
	} {
		t.Run(name, func(t *testing.T) {
			if c.witness == "" {
				c.witness = hook
			}
			if c.mark == "" {
				c.mark = "{field: mark}"
			}
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				text := seaCrowd(c.mark, plainReading, c.witness)
				if strings.Contains(c.mark, "header") {
					text = strings.Replace(text, `{sea: {mqtt: "mqtt://127.0.0.1:1"}}`, `{sea: {http: "http://127.0.0.1:1"}}`, 1)
					text = strings.Replace(text, `topic: "harbour/${device}", qos: 1`, `path: /in`, 1)
				}
				w, n := witnesstest.New(t, dir, text), memnet.New()
				w.Catalog.Listen = n.Listen
				e, err := newListener(w.Base)
				require.NoError(t, err)
				require.NoError(t, e.Start(t.Context()))
				client := &http.Client{Transport: &http.Transport{DialContext: n.Dial, DisableKeepAlives: true}}
				var took time.Duration
				for i, x := range c.calls {
					time.Sleep(x.after)
					began := time.Now()
					assert.Equal(t, c.status[i], x.call(t, w, n, client), "call %d", i)
					took = time.Since(began)
				}
				assert.Equal(t, c.took, took)
				synctest.Wait()
				complete, why := e.Hear(t.Context(), hearing.Round{N: 1, Expect: witnesstest.Expect{}})
				assert.Equal(t, c.why, why)
				assert.Equal(t, c.why == "", complete)
				e.Stop()
				if got := w.Noted(); c.noted != nil {
					assert.Equal(t, w.Text(strings.Join(c.noted, "\n")), strings.Join(got, "\n"))
				} else {
					assert.Len(t, got, 1)
				}
			})
		})
	}
}

// call makes a call; 0: it broke off.
func (x call) call(t *testing.T, w *witnesstest.World, n *memnet.Net, client *http.Client) int {
	if x.method == "" {
		x.method = http.MethodPost
	}
	if x.path == "" {
		x.path = "/x"
	}
	if x.breaks {
		c, err := n.Dial(t.Context(), "tcp", "127.0.0.1:90")
		require.NoError(t, err)
		fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{", x.path)
		c.(interface{ CloseWrite() error }).CloseWrite()
		io.Copy(io.Discard, c)
		c.Close()
		return 0
	}
	r, err := http.NewRequestWithContext(t.Context(), x.method, "http://127.0.0.1:90"+x.path, strings.NewReader(w.Text(x.body)))
	require.NoError(t, err)
	if x.header[0] != "" {
		r.Header.Set(x.header[0], w.Text(x.header[1]))
	}
	resp, err := client.Do(r)
	require.NoError(t, err)
	resp.Body.Close()
	return resp.StatusCode
}

// A callback that cannot listen says so, and one whose listener breaks was not heard to the end.
func TestACallbackThatDoesNotListen(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), seaCrowd("{field: mark}", plainReading, `witnesses: {hook: {proves: received, callback: "http://127.0.0.1:90/x"}}`))
	n := memnet.New()
	w.Catalog.Listen = n.Listen
	taken, err := n.Listen("tcp", "127.0.0.1:90")
	require.NoError(t, err)
	e, err := newListener(w.Base)
	require.NoError(t, err)
	var reach *link.ReachError
	require.ErrorAs(t, e.Start(t.Context()), &reach)
	assert.Contains(t, reach.What, "cannot listen there: ")
	e.Stop()
	taken.Close()
	assert.Zero(t, addressOf("nowhere"))
	assert.Equal(t, "127.0.0.1", addressOf("[::ffff:127.0.0.1]:80").String())

	for _, c := range []error{&net.OpError{Op: "listen", Err: errors.New("it is taken")}, errors.New("it is taken")} {
		w.Catalog.Listen = func(string, string) (net.Listener, error) { return nil, c }
		e, err = newListener(w.Base)
		require.NoError(t, err)
		require.ErrorAs(t, e.Start(t.Context()), &reach)
		assert.Equal(t, "cannot listen there: it is taken", reach.What)
		e.Stop()
	}

	var l net.Listener
	w.Catalog.Listen = func(network, address string) (net.Listener, error) {
		l, err = n.Listen(network, address)
		return l, err
	}
	e, err = newListener(w.Base)
	require.NoError(t, err)
	require.NoError(t, e.Start(t.Context()))
	s := e.source.(*callback)
	l.Close()
	<-s.done
	assert.False(t, s.fence(t.Context()))
	_, down, why := s.state()
	assert.False(t, down.IsZero())
	assert.NotContains(t, why, "can it reach this machine")
	assert.Empty(t, s.lost())
	e.Stop()
}

// What a platform does wrong is told once each, and not without end.
func TestACallbacksRemarks(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w, n := witnesstest.New(t, dir, seaCrowd("{field: mark}", plainReading, `witnesses: {hook: {proves: received, callback: "http://127.0.0.1:90/x", wait: 1s, watch_copies: 1s}}`)), memnet.New()
		w.Catalog.Listen = n.Listen
		e, err := newListener(w.Base)
		require.NoError(t, err)
		require.NoError(t, e.Start(t.Context()))
		client := &http.Client{Transport: &http.Transport{DialContext: n.Dial, DisableKeepAlives: true}}
		for i := range 50 {
			call{path: fmt.Sprint("/", i%25)}.call(t, w, n, client)
		}
		e.Stop()
		assert.Len(t, w.Noted(), 20)
	})
}

// A witness that stops ends the calls that it still answers, after a moment.
func TestACallThatLastsWhenItStops(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w, n := witnesstest.New(t, dir, seaCrowd("{field: mark}", plainReading, `witnesses: {hook: {proves: received, callback: "http://127.0.0.1:90/x", respond: {delay: 1h}}}`)), memnet.New()
		w.Catalog.Listen = n.Listen
		e, err := newListener(w.Base)
		require.NoError(t, err)
		require.NoError(t, e.Start(t.Context()))
		c, err := n.Dial(t.Context(), "tcp", "127.0.0.1:90")
		require.NoError(t, err)
		defer c.Close()
		fmt.Fprint(c, "POST /x HTTP/1.1\r\nHost: x\r\nContent-Length: 2\r\n\r\n{}")
		synctest.Wait()
		began := time.Now()
		e.Stop()
		io.Copy(io.Discard, c) // until it is closed, long before it would be answered
		assert.Less(t, time.Since(began), time.Minute)
	})
}
