package witness

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttwire"
)

// Line is a connection to a broker of somebody on the platform's side.
type Line struct {
	NC     net.Conn
	Reader *mqttwire.Reader
	Ack    *mqttwire.Packet // CONNACK
	Renew  time.Time        // when it has to be changed for a new one; zero: never

	version byte
	most    time.Duration // for the answer to a subscription
}

// Connect connects to the broker of a link with its credentials, within the link's time
// to connect. Secure is how, and may be kept for later: sessions are resumed in it. The
// reader has a buffer of so many bytes and takes packets of at most max bytes.
func Connect(ctx context.Context, l *crowd.Link, own *crowd.Credentials, secure *tls.Config, connect mqttwire.Connect, buffer, max int) (*Line, error) {
	token, renew, err := link.TokenOf(ctx, own.Pass)
	if err != nil {
		return nil, err
	}
	path := l.Path
	if own.Path != "" {
		path = link.Fill(own.Path, token)
	}
	connect.Username, connect.Password = link.Fill(own.Username, token), link.Fill(own.Password, token)
	ctx, cancel := context.WithTimeout(ctx, l.ConnectTimeout)
	defer cancel()
	nc, rd, ack, err := mqtt.Open(ctx, l.Scheme, l.Address, path, secure, &connect, buffer, max)
	if err != nil {
		return nil, err
	}
	return &Line{nc, rd, ack, renew, connect.Version, l.ConnectTimeout}, nil
}

// Secure is how somebody with credentials of a link secures a connection; nil: not at all.
func Secure(l *crowd.Link, own *crowd.Credentials) *tls.Config {
	if l.TLS == nil {
		return nil
	}
	return l.TLS.Config(link.Host(l.Address), own.Cert)
}

// Subscribe subscribes on a new connection, within the link's time to connect. What comes
// before the answer goes to other, which may be nil: retained messages may (section 3.8.4
// of MQTT 5).
func (n *Line) Subscribe(ctx context.Context, filter string, qos byte, other func(*mqttwire.Packet) error) error {
	n.NC.SetDeadline(time.Now().Add(n.most))
	unhook := context.AfterFunc(ctx, func() { n.NC.SetDeadline(time.Unix(1, 0)) })
	defer func() {
		if unhook() {
			n.NC.SetDeadline(time.Time{})
		}
	}()
	if _, err := n.NC.Write(mqttwire.AppendSubscribe(nil, n.version, 1, filter, qos)); err != nil {
		return err
	}
	for {
		var p mqttwire.Packet
		if err := n.Reader.Read(&p); err != nil {
			return err
		}
		switch {
		case p.Type == mqttwire.SUBACK && p.Reason >= 0x80:
			return &SubscribeError{filter, mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString)}
		case p.Type == mqttwire.SUBACK:
			return nil
		case other != nil:
			if err := other(&p); err != nil {
				return err
			}
		}
	}
}

// SubscribeError is a subscription that the broker refused.
type SubscribeError struct{ Filter, Reason string }

func (e *SubscribeError) Error() string {
	return fmt.Sprintf("the broker refused the subscription %q: %s", e.Filter, e.Reason)
}
