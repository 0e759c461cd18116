package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/quantity"
)

// makeToken makes the device's access token.
func (p *prober) makeToken(ctx context.Context, d *fleet.Device) {
	if d.Tokens == nil {
		return
	}
	p.do(ctx, "access token made", func(ctx context.Context) (string, []string, bool) {
		token, renew, err := d.Tokens.Token(ctx)
		if err != nil {
			what, try := link.Explain(err, "")
			return what, p.late([]string{try}), false
		}
		p.token, p.renew = token, renew
		says := fmt.Sprintf("%d characters", len(token))
		if !renew.IsZero() {
			says += ", to be renewed in " + quantity.FormatDuration(time.Until(renew).Round(time.Second))
		}
		return says, nil, true
	})
}

// broker exchanges CONNECT and CONNACK.
func (p *prober) broker(ctx context.Context, l *crowd.Link, d *fleet.Device) {
	at := mqtt.Endpoint{Scheme: l.Scheme, Address: l.Address, Path: l.Path}
	if secure := credential.TLS(l); secure != nil {
		at.TLS = secure.Config(link.Host(l.Address), d.Cert)
	}
	if d.Path != "" {
		at.Path = link.Fill(d.Path, p.token)
	}
	var nc net.Conn
	if l.Scheme == "ws" || l.Scheme == "wss" {
		p.do(ctx, "WebSocket", func(ctx context.Context) (string, []string, bool) {
			var err error
			if nc, err = at.Dial(ctx); err != nil {
				e := mqtt.ReachError(l.Name, l.Scheme, l.Address, d.Name, err)
				var reach *link.ReachError
				if !errors.As(e, &reach) {
					return err.Error(), nil, false
				}
				causes := []string{reach.Try}
				if speaks := Speaks(ctx, l.Address); speaks != "" && speaks != "HTTP" {
					causes = append([]string{"this port speaks " + speaks + ", not HTTP"}, causes...)
				}
				return reach.What, causes, false
			}
			return "upgraded at " + link.Hide(at.Path, p.token), nil, true
		})
	}
	var conn *mqtt.Conn
	var refused *mqttsession.RefusedError
	said := "" // of the credentials, where the broker does not take them
	version := map[int]string{4: "3.1.1", 5: "5"}[l.Version]
	p.do(ctx, "MQTT "+version+" accepted", func(ctx context.Context) (string, []string, bool) {
		var err error
		if nc == nil {
			if nc, err = at.Dial(ctx); err != nil {
				what, try := link.Explain(err, l.Address)
				return what, []string{try}, false
			}
		}
		// The message below goes over this connection: nobody but the device itself meets
		// the device's session.
		broker := p.links[l].(*mqtt.Link)
		conn = broker.NewConn(d.Identity())
		if err = conn.Shake(ctx, nc, p.token, p.renew, true); err == nil {
			broker.Park(conn)
			return limits(l, conn.Ack()), nil, true
		}
		nc.Close()
		e := mqtt.ReachError(l.Name, l.Scheme, l.Address, d.Name, err)
		var reach *link.ReachError
		if !errors.As(e, &reach) {
			return err.Error(), nil, false
		}
		if errors.As(err, &refused) && ofCredentials(refused.Code) {
			said = link.Hide(reach.What, p.token)
			return "the broker speaks it", nil, true
		}
		if refused != nil {
			return link.Hide(reach.What, p.token), p.late(refusedCauses(refused.Code, d)), false
		}
		var causes []string
		if !errors.Is(err, mqttwire.ErrMalformed) && !link.IsTLS(err) {
			reach.What = "CONNECT got no answer: " + reach.What
		}
		other := map[int]string{mqttwire.V5: "3.1.1", mqttwire.V311: "5"}[l.Version]
		if p.speaksVersion(ctx, l, &at, other) {
			causes = append(causes, "the broker speaks version "+other+" alone: write version: "+other)
		} else if speaks := Speaks(ctx, l.Address); speaks != "" && speaks != "MQTT" {
			causes = append(causes, "this port speaks "+speaks+": the port of another protocol, or the scheme should be "+
				"mqtts, ws or wss")
		}
		return reach.What, append(causes, reach.Try, "the broker closes the connection where it does not like user name, "+
			"password or client id"), false
	})
	p.do(ctx, "credentials accepted", func(context.Context) (string, []string, bool) {
		p.part = true // of CONNECT
		if said != "" {
			return said, p.late(refusedCauses(refused.Code, d)), false
		}
		return shown(d), nil, true
	})
	p.do(ctx, "connection kept", func(context.Context) (string, []string, bool) {
		err := conn.Watch(400 * time.Millisecond)
		if gone, is := errors.AsType[*mqttsession.DisconnectError](err); is {
			causes := []string{"see the broker's log"}
			if gone.Code == 0x8e {
				causes = []string{fmt.Sprintf("another client connected with the same client id, %q: a real device, another run, "+
					"or a second device of the same id", d.ClientID)}
			}
			return err.Error(), causes, false
		}
		if err != nil {
			what, _ := link.Explain(err, l.Address)
			return what, []string{fmt.Sprintf("another client has the client id %q, and the broker lets the newer one win",
				d.ClientID), "the broker closes connections of clients it does not know"}, false
		}
		return "as client id " + d.ClientID, nil, true
	})
}

// speaksVersion tells whether the broker answers CONNECT in a version, whatever it says.
func (p *prober) speaksVersion(ctx context.Context, l *crowd.Link, at *mqtt.Endpoint, version string) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stepTime)
	defer cancel()
	nc, err := at.Dial(ctx)
	if err != nil {
		return false
	}
	defer nc.Close()
	hello, _ := mqttwire.AppendConnect(nil, &mqttwire.Connect{Version: map[string]byte{"5": mqttwire.V5,
		"3.1.1": mqttwire.V311}[version], ClientID: "runcrowd-probe", CleanStart: true})
	nc.Write(hello)
	nc.SetReadDeadline(time.Now().Add(time.Second))
	var b [4]byte
	n, _ := io.ReadFull(nc, b[:])
	refused := version == "5" && (b[3] == 1 || b[3] == 0x84) || version == "3.1.1" && b[3] == 1
	return n == 4 && b[0] == mqttwire.CONNACK<<4 && !refused
}

// ofCredentials tells whether a code of CONNACK speaks of credentials (MQTT 5, section
// 3.2.2.2; MQTT 3.1.1, section 3.2.2.3).
func ofCredentials(code byte) bool {
	return code == 0x86 || code == 0x87 || code == 0x8c || code == 4 || code == 5
}

// shown is what a device showed of itself.
func shown(d *fleet.Device) string {
	var list []string
	if d.Cert != nil && d.Cert.Leaf != nil {
		list = append(list, "the certificate of "+d.Cert.Leaf.Subject.CommonName)
	}
	switch {
	case d.Tokens != nil:
		list = append(list, "its access token")
	case d.Username != "" && d.Password != "":
		list = append(list, "user name and password")
	case d.Username != "":
		list = append(list, "a user name")
	case d.Password != "":
		list = append(list, "a password")
	}
	if len(list) == 0 {
		return "none were shown, and none were wanted"
	}
	return strings.Join(list, ", ")
}

// limits are what a broker announces.
func limits(l *crowd.Link, ack *mqttwire.Packet) string {
	if l.Version != 5 {
		return "the broker announces no limits in this version"
	}
	qos := byte(2)
	if ack.MaximumQoSSet {
		qos = ack.MaximumQoS
	}
	list := []string{fmt.Sprintf("QoS up to %d", qos)}
	if ack.MaximumPacket > 0 {
		list = append(list, fmt.Sprintf("packets up to %d bytes", ack.MaximumPacket))
	}
	if ack.ReceiveMaximum > 0 {
		list = append(list, fmt.Sprintf("%d in flight", ack.ReceiveMaximum))
	}
	if ack.TopicAliasMaximum > 0 {
		list = append(list, fmt.Sprintf("%d topic aliases", ack.TopicAliasMaximum))
	}
	if ack.KeepAliveSet {
		list = append(list, fmt.Sprintf("keep-alive %ds", ack.ServerKeepAlive))
	}
	if ack.NoRetain {
		list = append(list, "no retained messages")
	}
	return strings.Join(list, ", ")
}

// tokenCause is the likeliest cause where an access token is refused.
const tokenCause = "the access token is not what the platform wants: its key or secret, what it says of the device " +
	"(sub, aud), or how long it is good"

func refusedCauses(code byte, d *fleet.Device) []string {
	switch code {
	case 0x86, 0x87, 4, 5:
		list := []string{"user name or password is mistyped, or has expired", "the device's secret is used where the " +
			"platform's is wanted, or the other way round",
			fmt.Sprintf("this secret belongs to another client id than %q", d.ClientID), "this client may not connect: a " +
				"permission is missing on the platform"}
		if d.Username == "" && d.Password == "" {
			list = append([]string{"the platform wants credentials, and the link has none: username, password"}, list...)
		}
		if d.Tokens != nil {
			list = append([]string{tokenCause}, list...)
		}
		return list
	case 0x84, 1:
		return []string{"the broker speaks the other version: write version: 3.1.1, or 5"}
	case 0x85, 2:
		return []string{fmt.Sprintf("the client id %q is not one that the platform gave out, or is too long for it",
			d.ClientID)}
	case 0x9c, 0x9d:
		return []string{"the platform has another broker for this device: write its address, or let the link follow: " +
			"redirects: follow"}
	case 0x97, 0x9f, 0x89, 3:
		return []string{"a limit of the platform is reached: connections, or their rate"}
	}
	return []string{"see the broker's log"}
}
