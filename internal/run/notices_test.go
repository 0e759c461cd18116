package run_test

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/standin"
	"runcrowd/internal/tally"
)

const noticed = `
crowd: harbour
links: {sea: {mqtt: mqtt://MQTT, back_off: 20ms to 100ms}}
kinds:
  buoy:
    readings:
      state: {every: 100ms, topic: "harbour/${device}/state", qos: QOS, fields: {battery_v: 12.5, wave_m: {signal: swell, round: 2}}}
devices: [{kind: buoy, count: 6, name: "buoy-${n}"}]
plan:
  for: 6s
  settle: 20s
  events: [EVENTS]
witnesses:
  ear: {proves: received, subscribe: "harbour/#", wait: 20s}
  alarm: {hears: notices, HEARS}
notices:
  low-battery: {heard_by: alarm, about: .device, match: .rule == "low-battery", when: battery_v < 11, until: battery_v > 11.5, within: 2s}
`

// noticedBy are the ways in which notices are heard. HOOK is an address that nobody uses.
var noticedBy = map[string]string{
	"subscription": `subscribe: "notices/#"`,
	"callback":     `callback: "http://127.0.0.1:PORT/from-platform", wants: {X-Signature: "${bytes_hex(hmac('sha256', 'the-hook-secret', body))}"}`,
	"query":        `get: "http://HTTP/notices", rows: ".notices[]", row: .id, time: .at`,
}

// crossing makes seven calls for it; a device calls again after more than the time allowed.
var crossing = func() string {
	var list []string
	for _, x := range []struct {
		at   string
		buoy int
	}{{"600ms", 3}, {"600ms", 4}, {"1600ms", 5}, {"1600ms", 6}, {"2600ms", 2}, {"4s", 3}, {"4s", 4}} {
		list = append(list, fmt.Sprintf("{at: %s, for: 400ms, who: buoy-%d, do: {set: {battery_v: 10.9}}}", x.at, x.buoy))
	}
	return strings.Join(list, ", ")
}()

// noticesOf plays a crowd whose stand-in gives notices, by one way of hearing them.
func noticesOf(t *testing.T, by, text string, flaws ...string) (*played, *standin.StandIn) {
	t.Helper()
	port := freePort(t)
	rule, err := standin.ParseRule("low-battery: battery_v < 11 until > 11.5")
	require.NoError(t, err)
	cfg := standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Rules: []standin.Rule{rule}}
	if by == "callback" {
		cfg.Hook, cfg.HookSecret = "http://127.0.0.1:"+port+"/from-platform", "the-hook-secret"
	}
	for _, f := range flaws {
		flaw, err := standin.ParseFlaw(f)
		require.NoError(t, err)
		cfg.Flaws = append(cfg.Flaws, flaw)
	}
	s, err := standin.Start(cfg)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	text = strings.NewReplacer("HEARS", strings.Replace(noticedBy[by], "PORT", port, 1), "QOS", "1", "EVENTS", crossing).Replace(text)
	return playAgainst(t, s.MQTTAddr, s.HTTPAddr, text), s
}

// Every way of hearing notices, and every flaw of a platform that gives them: each is found,
// so many times as it was there.
func TestNoticesAreCounted(t *testing.T) {
	t.Parallel()
	for by := range noticedBy {
		for flaw, as := range map[string]tally.NoticeVerdict{"": tally.Given, "withhold=3": tally.Missing, "echo=3": tally.Twice, "dawdle=2@4s": tally.LateOne, "mistake=2": tally.Uncalled, "clamour": tally.Twice} {
			t.Run(by+"/"+flaw, func(t *testing.T) {
				t.Parallel()
				var flaws []string
				if flaw != "" {
					flaws = append(flaws, flaw)
				}
				p, s := noticesOf(t, by, noticed, flaws...)
				require.Len(t, p.result.Notices, 1)
				n, hits := p.result.Notices[0], len(s.NoticeHits())
				says := fmt.Sprintf("%+v\n%+v\n%+v\n%+v", n, p.result.NoticeFindings, p.result.Witnesses, s.NoticeHits())
				assert.Equal(t, n.Called, n.Given+n.Missing+n.Late+n.Unknown, says)
				assert.Equal(t, s.NoticesDue(), n.Called, says)
				assert.Equal(t, 7, n.Called)
				assert.Zero(t, n.Unknown, says)
				bad := map[tally.NoticeVerdict]int{tally.Missing: n.Missing, tally.LateOne: n.Late, tally.Twice: n.Repeated, tally.Uncalled: n.Uncalled}
				want := map[tally.NoticeVerdict]int{tally.Missing: 0, tally.LateOne: 0, tally.Twice: 0, tally.Uncalled: 0}
				if as != tally.Given {
					require.Positive(t, hits)
					want[as] = hits
					if as == tally.Uncalled { // about another device: and not about the right one
						want[tally.Missing] = hits
					}
				}
				assert.Equal(t, want, bad, says)
				assert.Equal(t, as == tally.Given, p.holds(), "%+v", p.checks)
			})
		}
	}
}

var _ = httptest.NewServer
var _ = time.Second
