package link

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// TLS says how a link secures its connections; nil is not at all. It is the part
// that all devices have in common: a device may bring a certificate of its own.
type TLS struct {
	Roots      *x509.CertPool // nil: those of the machine
	ServerName string         // empty: the host of the address
	MinVersion uint16         // as in crypto/tls; 0 is 1.2
	ALPN       []string
	NoVerify   bool // do not check the platform's certificate
}

// Config is the configuration for one device, or, without a certificate, for all.
// Sessions are resumed (RFC 8446, section 2.2) within it alone: one device must
// not go on with the session of another.
func (t *TLS) Config(host string, cert *tls.Certificate) *tls.Config {
	name := t.ServerName
	if name == "" {
		name = host
	}
	c := &tls.Config{RootCAs: t.Roots, ServerName: name, MinVersion: max(t.MinVersion, tls.VersionTLS12),
		NextProtos:         t.ALPN,
		InsecureSkipVerify: t.NoVerify, ClientSessionCache: tls.NewLRUClientSessionCache(1)}
	if cert != nil {
		// Sent also where the platform names other authorities: that it does not
		// trust this one is for it to say.
		c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return cert, nil }
	}
	return c
}

// Elsewhere is the same for another server than the link's.
func (t *TLS) Elsewhere() *TLS {
	if t == nil {
		return nil
	}
	return &TLS{Roots: t.Roots, MinVersion: t.MinVersion, NoVerify: t.NoVerify}
}

// IsTLS tells whether an error is one of TLS, which Explain tells in full.
func IsTLS(err error) bool {
	_, _, is := explainTLS(err)
	return is
}

// Denied tells whether the platform said no to a client's certificate, or to there being
// none, in a TLS alert (RFC 8446, section 6.2). The library has no type for those of others.
func Denied(err error) bool {
	if err == nil {
		return false
	}
	_, alert, is := strings.Cut(err.Error(), "remote error: tls: ")
	for _, says := range []string{"certificate", "access denied", "handshake failure"} {
		if is && strings.Contains(alert, says) {
			return true
		}
	}
	return false
}

// Host is the host of host:port.
func Host(address string) string {
	if h, _, err := net.SplitHostPort(address); err == nil {
		return h
	}
	return address
}

// explainTLS tells an error of TLS in words, and what to try.
func explainTLS(err error) (what, try string, is bool) {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var header tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case errors.As(err, &unknown):
		issuer := ""
		if unknown.Cert != nil {
			issuer = fmt.Sprintf(" (it was issued by %s)", unknown.Cert.Issuer)
		}
		return "the platform's certificate is of an authority that is not trusted here" + issuer, "name the authority's " +
			"certificate: tls: {ca: FILE}", true
	case errors.As(err, &host):
		names := "no name at all"
		if host.Certificate != nil {
			if list := CertNames(host.Certificate); len(list) > 0 {
				names = strings.Join(list, ", ")
			}
		}
		return fmt.Sprintf("the platform's certificate is for %s, not for %s", names, host.Host), "check the host, or name " +
			"the one in the certificate: tls: {server_name: NAME}", true
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		now := time.Now()
		if c := invalid.Cert; c != nil && now.Before(c.NotBefore) {
			return fmt.Sprintf("the platform's certificate is not valid before %s",
				c.NotBefore.UTC().Format(time.RFC3339)), "check this machine's clock, and the certificate", true
		} else if c != nil {
			return fmt.Sprintf("the platform's certificate expired on %s", c.NotAfter.UTC().Format(time.RFC3339)), "renew it, " +
				"or check this machine's clock", true
		}
		return "the platform's certificate has expired or is not yet valid", "check this machine's clock, and the " +
			"certificate", true
	case errors.As(err, &invalid):
		return "the platform's certificate does not hold: " + invalid.Error(), "check the certificate", true
	case errors.As(err, &header):
		return "the platform does not speak TLS on this port", "check the port, and that the address should begin with " +
			"mqtts, wss or https", true
	case errors.As(err, &alert):
		return explainAlert(alert.Error())
	}
	if text := err.Error(); strings.Contains(text, "remote error: tls: ") {
		_, alert, _ := strings.Cut(text, "remote error: ")
		return explainAlert(alert)
	}
	return "", "", false
}

// explainAlert tells what the platform said in a TLS alert (RFC 8446, section 6.2).
func explainAlert(alert string) (what, try string, is bool) {
	what = "the platform ended TLS: " + strings.TrimPrefix(alert, "tls: ")
	switch {
	case strings.Contains(alert, "certificate required"), strings.Contains(alert, "handshake failure"):
		try = "it may want a certificate of the device: tls: {cert: FILE, key: FILE}"
	case strings.Contains(alert, "expired certificate"), strings.Contains(alert, "revoked certificate"):
		try = "renew the device's certificate, or check the platform's clock"
	case strings.Contains(alert, "unknown certificate authority"), strings.Contains(alert,
		"bad certificate"), strings.Contains(alert, "unknown certificate"):
		try = "check that the platform trusts the authority of the device's certificate, and has not revoked it"
	case strings.Contains(alert, "protocol version"):
		try = "the platform wants another version of TLS; see min_version"
	case strings.Contains(alert, "unrecognized name"):
		try = "check the host, or give another name: tls: {server_name: NAME}"
	case strings.Contains(alert, "no application protocol"):
		try = "the platform wants an ALPN name; see its documentation: tls: {alpn: [NAME]}"
	}
	return what, try, true
}

// CertNames are the names and addresses that a certificate is for.
func CertNames(c *x509.Certificate) []string {
	names := append([]string(nil), c.DNSNames...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	return names
}
