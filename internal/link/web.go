package link

import (
	"crypto/tls"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/foreign"
)

// Transport is a client's way to an HTTP server: through the proxy that the
// environment names, if any, and with TLS as a link says, which may be nil; with a
// client certificate, which may be nil, too.
func Transport(t *TLS, cert *tls.Certificate, network Network) *http.Transport {
	way := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: network.Dial, MaxResponseHeaderBytes: MaxHeader}
	if t != nil {
		way.TLSClientConfig = t.Config("", cert)
	}
	return way
}

// MaxHeader is how long the headers of an answer may be, in bytes.
const MaxHeader = 1 << 20

// KeepsHost tells whether a request that carries credentials may go on from one
// address to another: to the same host, or to the same host name over TLS. A host
// that the file does not name must not see them.
func KeepsHost(from, to *url.URL) bool {
	return from.Scheme == to.Scheme && from.Host == to.Host ||
		from.Scheme == "http" && to.Scheme == "https" && from.Hostname() == to.Hostname()
}

// NextPage is the address of the page that an answer names next; empty where it names
// none: null, false or an empty text. It is a whole address, or one relative to the
// answer's own that begins with / or ? or . (RFC 3986, section 5). Anything else, a bare
// cursor above all, is an error: taken for the end, it would hide the rows behind it. So
// is a page on another host.
func NextPage(address string, named any) (string, error) {
	next, is := named.(string)
	if named == nil || named == false || is && next == "" {
		return "", nil
	}
	if !is || !strings.HasPrefix(next, "/") && !strings.HasPrefix(next, "?") && !strings.HasPrefix(next, ".") &&
		!strings.Contains(next, "://") {
		return "", fmt.Errorf("the next page of %s is %v, which is no address; make one of it, such as next: "+
			"'\"?cursor=\\(.cursor)\"', with null at the end", address, named)
	}
	base, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("%s is not an address", address)
	}
	u, err := base.Parse(next)
	if err != nil {
		return "", fmt.Errorf("the next page of %s is %q, which is not an address", address, next)
	}
	if !KeepsHost(base, u) {
		return "", fmt.Errorf("the next page of %s is at %s://%s, and was not asked: the credentials are for %s://%s alone",
			address, u.Scheme, u.Host, base.Scheme, base.Host)
	}
	return u.String(), nil
}

// linkValue is one of a header Link: an address and its parameters (RFC 8288, section 3).
var linkValue = regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[^\s,;="]+(?:\s*=\s*(?:"[^"]*"|[^\s,;"]*))?)*)`)

// relation is the parameter that says what it is.
var relation = regexp.MustCompile(`(?i);\s*rel\s*=\s*(?:"([^"]*)"|([^\s,;"]*))`)

// Links are the addresses that headers Link name, by their relation in small letters; of several, the first.
func Links(h http.Header) map[string]string {
	links := map[string]string{}
	for _, m := range linkValue.FindAllStringSubmatch(strings.Join(h.Values("Link"), ", "), -1) {
		rel := relation.FindStringSubmatch(m[2])
		if rel == nil {
			continue
		}
		for _, name := range strings.Fields(strings.ToLower(rel[1] + rel[2])) {
			if _, is := links[name]; !is {
				links[name] = m[1]
			}
		}
	}
	return links
}

// StayOnHost is a CheckRedirect of a http.Client that follows no redirect to
// another host: a client takes no header along but those it knows to be secret.
func StayOnHost(req *http.Request, via []*http.Request) error {
	from := via[len(via)-1].URL
	switch {
	case len(via) >= 10:
		return &redirectError{"it redirects again and again", "check the address"}
	case !KeepsHost(from, req.URL):
		return &redirectError{fmt.Sprintf("it redirects to %s://%s, which was not asked: the credentials are for %s://%s "+
			"alone", req.URL.Scheme, req.URL.Host, from.Scheme, from.Host),
			"if that is the platform, write its address"}
	}
	return nil
}

type redirectError struct{ what, try string }

func (e *redirectError) Error() string { return e.what + "; " + e.try }

// longestWait bounds what a Retry-After is obeyed.
const longestWait = 10 * time.Minute

// RetryAfter is how long an answer asks to wait before the request is made again:
// one of 429 or 503 with a Retry-After of seconds or a date (RFC 9110, section
// 10.2.3; RFC 6585, section 4), within bounds. Zero: it does not ask.
func RetryAfter(answer *http.Response, now time.Time) time.Duration {
	s := strings.TrimSpace(answer.Header.Get("Retry-After"))
	if s == "" || answer.StatusCode != http.StatusTooManyRequests && answer.StatusCode != http.StatusServiceUnavailable {
		return 0
	}
	d := time.Duration(0)
	if n, err := strconv.Atoi(s); err == nil && n >= 0 {
		d = time.Duration(min(n, int(longestWait/time.Second))) * time.Second
	} else if t, err := http.ParseTime(s); err == nil {
		d = t.Sub(now)
	} else {
		return 0
	}
	return min(max(d, time.Millisecond), longestWait)
}

// Snippet is the beginning of an answer in one line, behind a colon; empty for an
// empty one.
func Snippet(body []byte) string {
	s := strings.Join(strings.Fields(strings.ToValidUTF8(string(body), "?")), " ")
	if r := []rune(s); len(r) > 120 {
		s = string(r[:120]) + "…"
	}
	return foreign.Said(s)
}

// Status is the status of an answer in words: 503 Service Unavailable. What the platform calls one
// of its own is quoted.
func Status(resp *http.Response) string {
	if text := http.StatusText(resp.StatusCode); text != "" {
		return fmt.Sprintf("%d %s", resp.StatusCode, text)
	}
	_, own, _ := strings.Cut(resp.Status, " ")
	if own == "" {
		return fmt.Sprint(resp.StatusCode)
	}
	return fmt.Sprintf("%d %s", resp.StatusCode, foreign.Quote(own))
}

// Headers are those of an answer by their names in small letters, as jq expressions have them.
func Headers(h http.Header) map[string]any {
	m := map[string]any{}
	for name, values := range h {
		m[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return m
}
