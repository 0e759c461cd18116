package listen

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/crowd"
)

// Anybody can call: a witness is heard only where a call is known to be the platform's.
func TestWhoseCallItIs(t *testing.T) {
	for name, c := range map[string]struct {
		link, from string
		header     bool
		heard      bool
	}{
		"from the platform":                      {"192.0.2.7:1883", "192.0.2.7:4000", false, true},
		"from somebody else":                     {"192.0.2.7:1883", "192.0.2.8:4000", false, false},
		"from somebody who knows the header":     {"192.0.2.7:1883", "192.0.2.8:4000", true, true},
		"on this machine":                        {"127.0.0.1:1883", "127.0.0.1:4000", false, true},
		"on this machine, by another address":    {"127.0.0.1:1883", "[::1]:4000", false, true},
		"from this machine, to one far away":     {"192.0.2.7:1883", "127.0.0.1:4000", false, false},
		"on this machine, by its name":           {"localhost:1883", "127.0.0.1:4000", false, true},
		"from the platform, by IPv6":             {"[2001:db8::7]:1883", "[2001:db8::7]:4000", false, true},
		"from the platform, whose link is HTTP":  {"http://192.0.2.7:8080", "192.0.2.7:4000", false, true},
		"from the platform, IPv4 within IPv6":    {"192.0.2.7:1883", "[::ffff:192.0.2.7]:4000", false, true},
		"from somebody, with a host of no known": {"no-such-host.invalid:1883", "192.0.2.8:4000", false, false},
	} {
		s := &callback{spec: &crowd.Witness{Name: "hook"}, at: &crowd.Callback{Path: "/x"}, told: map[string]bool{},
			crowd: &crowd.Crowd{Links: []*crowd.Link{{Address: c.link}}}}
		if c.header {
			s.at.RequireHeaders = []crowd.Header{{Name: "X"}}
		}
		s.places = s.addresses(t.Context())
		assert.False(t, s.fence(t.Context()), name)
		s.called(addressOf(c.from))
		assert.Equal(t, c.heard, s.fence(t.Context()), name)
		_, down, why := s.state()
		assert.Equal(t, c.heard, why == "" && down.IsZero(), name)
		if !c.heard {
			assert.Contains(t, why, "which is no address of the platform", name)
		}
	}
	assert.Equal(t, netip.Addr{}, addressOf("@"))
}
