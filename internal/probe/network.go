package probe

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
)

func (p *prober) network(ctx context.Context, l *crowd.Link, d *fleet.Device, address string) {
	host := link.Host(address)
	target := &url.URL{Scheme: l.Scheme, Host: address}
	proxy := (*url.URL)(nil)
	if l.Protocol == crowd.HTTP || l.Scheme == "ws" || l.Scheme == "wss" {
		// As requests go. For a WebSocket http and https stand (RFC 6455, section 4.1).
		target.Scheme = map[string]string{"ws": "http", "wss": "https"}[l.Scheme]
		if target.Scheme == "" {
			target.Scheme = l.Scheme
		}
		proxy = link.Proxy(target)
	}
	if net.ParseIP(host) == nil && proxy == nil {
		p.do(ctx, "name resolved", func(ctx context.Context) (string, []string, bool) {
			list, err := net.DefaultResolver.LookupHost(ctx, host)
			if err != nil {
				what, _ := link.Explain(err, address)
				return what, []string{"the host name is mistyped, or it is the other of two hosts", "this machine's DNS does not " +
					"know it: is a VPN needed?"}, false
			}
			return strings.Join(list[:min(3, len(list))], ", "), nil, true
		})
	}
	var nc net.Conn
	p.do(ctx, "TCP open", func(ctx context.Context) (string, []string, bool) {
		var err error
		if proxy != nil {
			at := link.ProxyAddress(proxy)
			if nc, err = link.Through(ctx, nil, target, address); err != nil {
				what, try := link.Explain(err, at)
				return what, []string{try}, false
			}
			return at + ", the proxy that this machine uses for " + address, nil, true
		}
		var dialer net.Dialer
		if nc, err = dialer.DialContext(ctx, "tcp", address); err != nil {
			what, _ := link.Explain(err, address)
			causes := []string{"the port is wrong: " + usualPorts(l), "the platform is not up, or this is the other of two " +
				"hosts", "a firewall is in the way"}
			if errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err) {
				causes = []string{"a firewall swallows the packets", "this is the other of two hosts, or the port is wrong: " +
					usualPorts(l)}
			}
			return what, causes, false
		}
		return nc.RemoteAddr().String(), nil, true
	})
	if nc != nil {
		defer nc.Close()
	}
	if l.TLS == nil {
		return
	}
	p.do(ctx, "TLS", func(ctx context.Context) (string, []string, bool) {
		cfg := credential.TLS(l).Config(host, d.Cert)
		t := tls.Client(nc, cfg)
		began := time.Now()
		err := t.HandshakeContext(ctx)
		p.measured = time.Since(began)
		if err == nil {
			// In TLS 1.3 the platform says no to a client behind the handshake.
			t.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
			var b [1]byte
			if _, readErr := t.Read(b[:]); readErr != nil && link.IsTLS(readErr) {
				err = readErr
			}
		}
		if err != nil {
			what, try := link.Explain(err, address)
			causes := []string{try}
			if speaks := Speaks(ctx, address); speaks != "" && speaks != "TLS" {
				causes = append([]string{"this port speaks " + speaks + " without TLS: write " + plainScheme(l.Scheme) +
					"://, or take the port of TLS: " + usualPorts(l)}, causes...)
			}
			if d.Cert != nil {
				causes = append(causes, "the device's certificate is not of the authority that the platform trusts, has expired, "+
					"or was revoked")
			}
			return what, causes, false
		}
		return certificateSays(t.ConnectionState()), nil, true
	})
}

func certificateSays(st tls.ConnectionState) string {
	says := tls.VersionName(st.Version) + ", " + tls.CipherSuiteName(st.CipherSuite)
	if st.NegotiatedProtocol != "" {
		says += ", ALPN " + st.NegotiatedProtocol
	}
	if len(st.PeerCertificates) > 0 {
		c := st.PeerCertificates[0]
		left := time.Until(c.NotAfter)
		says += fmt.Sprintf("; certificate for %s by %s, valid until %s", formula.List(link.CertNames(c)),
			c.Issuer.CommonName, c.NotAfter.UTC().Format("2006-01-02"))
		if left < 14*24*time.Hour {
			says += fmt.Sprintf(" (%d days left)", int(left.Hours()/24))
		}
		switch {
		case len(st.VerifiedChains) == 0:
			says += "; not checked: verify is false"
		default:
			says += fmt.Sprintf("; trusted by way of %s", chain(st.VerifiedChains[0]))
		}
	}
	return says
}

// chain names the authorities above a certificate, the nearest first.
func chain(list []*x509.Certificate) string {
	var names []string
	for _, c := range list[1:] {
		names = append(names, c.Subject.CommonName)
	}
	if len(names) == 0 {
		return "itself"
	}
	return strings.Join(names, ", ")
}

func usualPorts(l *crowd.Link) string {
	if l.Protocol == crowd.HTTP {
		return "80 and 8080 are usual for http, 443 for https"
	}
	return "1883 is usual for mqtt, 8883 for mqtts, 80 and 443 for ws and wss"
}

func plainScheme(s string) string { return strings.TrimSuffix(s, "s") }

// Speaks finds out what a port speaks: TLS, HTTP or MQTT; empty if none of them.
func Speaks(ctx context.Context, address string) string {
	// It is asked when the step's own time may be over.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stepTime)
	defer cancel()
	for _, try := range []struct {
		name string
		ask  func(net.Conn) bool
	}{
		{"TLS", func(nc net.Conn) bool {
			err := tls.Client(nc, &tls.Config{InsecureSkipVerify: true}).Handshake() // only to see whether it is TLS
			var header tls.RecordHeaderError
			return err == nil || link.IsTLS(err) && !errors.As(err, &header)
		}},
		{"MQTT", func(nc net.Conn) bool {
			hello, _ := mqttwire.AppendConnect(nil, &mqttwire.Connect{Version: mqttwire.V311, ClientID: "runcrowd-probe",
				CleanStart: true})
			nc.Write(hello)
			var b [2]byte
			n, _ := nc.Read(b[:])
			return n == 2 && b[0] == mqttwire.CONNACK<<4 && b[1] == 2
		}},
		{"HTTP", func(nc net.Conn) bool {
			fmt.Fprintf(nc, "HEAD / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", address)
			resp, err := http.ReadResponse(bufio.NewReader(nc), &http.Request{Method: http.MethodHead})
			return err == nil && resp.ProtoMajor > 0
		}},
	} {
		var d net.Dialer
		nc, err := d.DialContext(ctx, "tcp", address)
		if err != nil {
			return ""
		}
		nc.SetDeadline(time.Now().Add(3 * time.Second)) // it may be busy, or this machine
		is := try.ask(nc)
		nc.Close()
		if is {
			return try.name
		}
	}
	return ""
}
