package link

import (
	"bufio"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
)

// Proxy is the proxy that requests to an address go through, as this machine says (the
// variables HTTP_PROXY, HTTPS_PROXY and NO_PROXY); nil: none.
func Proxy(u *url.URL) *url.URL {
	p, _ := http.ProxyFromEnvironment(&http.Request{URL: u})
	return p
}

// ProxyError is a proxy that is in the way.
type ProxyError struct {
	Proxy string // host:port
	Err   error
}

func (e *ProxyError) Error() string { return fmt.Sprintf("the proxy %s: %s", e.Proxy, e.Err) }

// Unwrap gives the cause.
func (e *ProxyError) Unwrap() error { return e.Err }

// Through opens a connection to an address (host:port) as a request to u would: through a
// proxy where this machine says so. The way through a proxy for https is CONNECT (RFC
// 9110, section 9.3.6).
func Through(ctx context.Context, network Network, u *url.URL, address string) (net.Conn, error) {
	p := Proxy(u)
	if p == nil {
		return network.Dial(ctx, "tcp", address)
	}
	at := ProxyAddress(p)
	nc, err := network.Dial(ctx, "tcp", at)
	if err != nil {
		return nil, &ProxyError{at, err}
	}
	if u.Scheme != "https" {
		return nc, nil
	}
	req := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address, Header: http.Header{}}
	if user := p.User; user != nil {
		password, _ := user.Password()
		req.Header.Set("Proxy-Authorization", "Basic "+base64.StdEncoding.EncodeToString(
			[]byte(user.Username()+":"+password)))
	}
	defer context.AfterFunc(ctx, func() { nc.Close() })()
	err = req.Write(nc)
	if err == nil {
		var resp *http.Response
		if resp, err = http.ReadResponse(bufio.NewReader(nc), req); err == nil && resp.StatusCode != http.StatusOK {
			err = errors.New("it answered CONNECT with status " + Status(resp))
		}
	}
	if err != nil {
		nc.Close()
		return nil, &ProxyError{at, err}
	}
	return nc, nil
}

// ProxyAddress is where a proxy listens, as host:port.
func ProxyAddress(p *url.URL) string {
	if p.Port() != "" {
		return p.Host
	}
	return net.JoinHostPort(p.Hostname(), map[string]string{"http": "80", "https": "443", "socks5": "1080"}[p.Scheme])
}

// explainProxy tells that a proxy is in the way, in words.
func explainProxy(err error) (what, try string, is bool) {
	const check = "check the variables HTTP_PROXY, HTTPS_PROXY and NO_PROXY of this machine, or the proxy"
	if e, is := errors.AsType[*ProxyError](err); is {
		what, _ := Explain(e.Err, e.Proxy)
		return fmt.Sprintf("the proxy %s: %s", e.Proxy, what), check, true
	}
	if op, is := errors.AsType[*net.OpError](err); is && op.Op == "proxyconnect" {
		at := "this machine uses"
		if u, is := errors.AsType[*url.Error](err); is {
			if to, err := url.Parse(u.URL); err == nil && Proxy(to) != nil {
				at = ProxyAddress(Proxy(to))
			}
		}
		what, _ := Explain(op.Err, at)
		return fmt.Sprintf("the proxy %s: %s", at, what), check, true
	}
	return "", "", false
}
