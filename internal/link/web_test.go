package link_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/link"
)

func TestNextPage(t *testing.T) {
	const at = "https://shore.test/rows?page=1"
	at2 := func(host string) string {
		return "the next page of " + at + " is at " + host + ", and was not asked: the credentials are for " +
			"https://shore.test alone"
	}
	for next, want := range map[string]string{
		"?page=2":                           "https://shore.test/rows?page=2",
		"/rows/2":                           "https://shore.test/rows/2",
		"https://shore.test/rows?after=x":   "https://shore.test/rows?after=x",
		"http://shore.test/rows?page=2":     at2("http://shore.test"),
		"//elsewhere.test/rows":             at2("https://elsewhere.test"),
		"https://shore.test:8443/rows":      at2("https://shore.test:8443"),
		"https://shore.test@elsewhere.test": at2("https://elsewhere.test"),
		"http://[":                          "the next page of " + at + " is \"http://[\", which is not an address",
	} {
		got, err := link.NextPage(at, next)
		if err != nil {
			got = err.Error()
		}
		assert.Equal(t, want, got, next)
	}
	for _, end := range []any{nil, false, ""} {
		got, err := link.NextPage(at, end)
		assert.NoError(t, err)
		assert.Empty(t, got)
	}
	for _, cursor := range []any{json.Number("17"), true, "b2Zmc2V0", []any{"?page=2"}} {
		_, err := link.NextPage(at, cursor)
		assert.ErrorContains(t, err, "which is no address; make one of it", "%v", cursor)
	}
	got, err := link.NextPage("http://shore.test:8080/rows", "https://shore.test/rows")
	assert.NoError(t, err, "the same host over TLS may see what the file sends without")
	assert.Equal(t, "https://shore.test/rows", got)
}

// A key in a header of its own never follows a redirect to another host.
func TestStayOnHost(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		t.Error(
			"the other host was asked")
	}))
	t.Cleanup(other.Close)
	to := ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/from" {
			http.Redirect(w, r, to, http.StatusFound)
		}
	}))
	t.Cleanup(s.Close)
	client := &http.Client{CheckRedirect: link.StayOnHost}
	for where, want := range map[string]string{
		"/here": "",
		other.URL + "/x": "it redirects to " + other.URL + ", which was not asked: the credentials are for " + s.URL +
			" alone",
		"/from": "it redirects again and again",
	} {
		to = where
		resp, err := client.Get(s.URL + "/from")
		if want == "" {
			require.NoError(t, err)
			resp.Body.Close()
			continue
		}
		require.Error(t, err)
		what, try := link.Explain(err, s.Listener.Addr().String())
		assert.Equal(t, want, what)
		assert.NotEmpty(t, try)
	}
}

func TestRetryAfter(t *testing.T) {
	now := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		status int
		header string
		want   time.Duration
	}{
		{429, "3", 3 * time.Second}, {503, " 3 ", 3 * time.Second}, {429, "0", time.Millisecond},
		{429, "Sat, 01 Jun 2030 12:00:05 GMT", 5 * time.Second}, {429, "Sat, 01 Jun 2030 11:00:00 GMT", time.Millisecond},
		{429, "99999999999999", 10 * time.Minute}, {429, "86400", 10 * time.Minute}, {429, "soon", 0}, {429, "-1", 0},
		{429, "", 0},
		{500, "3", 0}, {202, "3", 0},
	} {
		answer := &http.Response{StatusCode: c.status, Header: http.Header{"Retry-After": {c.header}}}
		assert.Equal(t, c.want, link.RetryAfter(answer, now), "%d %q", c.status, c.header)
	}
}

func TestSnippet(t *testing.T) {
	assert.Empty(t, link.Snippet([]byte(" \r\n")))
	assert.Equal(t, ": “no such device ? here”", link.Snippet([]byte("no such\n  device \xff here\x0a")))
	assert.Len(t, []rune(link.Snippet(bytes.Repeat([]byte("a"), 4000))), len(": ")+2+120+1)
	assert.Equal(t, `: “it is full\u001b[2J”`, link.Snippet([]byte("it is\n\rfull\x1b[2J")))
}

func TestStatus(t *testing.T) {
	for want, in := range map[string]http.Response{
		"503 Service Unavailable": {StatusCode: 503, Status: "503 all is well"},
		"599":                     {StatusCode: 599, Status: "599 "},
		"599 “PROVEN\\u001b[0m”":  {StatusCode: 599, Status: "599 PROVEN\x1b[0m"},
	} {
		assert.Equal(t, want, link.Status(&in))
	}
}
