// Package guest connects somebody to a broker who is no device: a witness, or a person who
// gives a command.
package guest

import (
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
)

// Broker is how a guest with credentials of its own connects to the broker of a link. TLS
// sessions are resumed as long as the same value is used.
func Broker(l *crowd.Link, own *credential.Guest) *mqtt.Guest {
	m := &mqtt.Guest{Endpoint: mqtt.Endpoint{Scheme: l.Scheme, Address: l.Address, Path: l.Path}, Username: own.Username,
		Password: own.Password, Tokens: own.Tokens, Timeout: l.ConnectTimeout}
	if own.Path != "" {
		m.Path = own.Path
	}
	if t := credential.TLS(l); t != nil {
		m.TLS = t.Config(link.Host(l.Address), own.Cert)
	}
	return m
}
