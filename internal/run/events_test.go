//go:build unix

package run_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// withEvents is the small harbour with events, one a line; wait is how long its witnesses
// look for what is missing.
func (w way) withEvents(wait string, events ...string) string {
	text := strings.ReplaceAll(w.harbour(), "WAIT", wait)
	text = strings.Replace(text, "count: 4}", `count: 4, name: "buoy-${n}"}`, 1)
	return strings.Replace(text, "plan: {for: 2500ms, settle: SETTLE}", "plan:\n  for: 3s\n  settle: SETTLE\n  "+
		"events:\n    - "+strings.Join(events, "\n    - "), 1)
}

// says describes all findings, for messages of failed tests.
func (p *played) says() string {
	var b strings.Builder
	for i, f := range p.result.Findings {
		if i > 20 {
			break
		}
		fmt.Fprintf(&b, "%s/%s/%d %s %s %q %v\n", f.Device, f.Reading, f.Seq, f.Verdict, f.Outcome, f.Said, f.Testimony)
	}
	for _, d := range p.result.Actions {
		fmt.Fprintf(&b, "%s %s %s: %d times, %d devices, %d failed: %s\n", d.Event, d.Kind, d.Name, d.Times, d.Devices,
			d.Failed, d.Why)
	}
	fmt.Fprintf(&b, "witnesses: %+v, stood still: %+v\n", p.result.Witnesses, p.result.Still)
	return b.String()
}

// proven tells whether all is proven. Over QoS 0, what was written just before the plan broke
// the connection may be lost with it, the more of it the busier the machine is; that is said
// of it, and nothing worse.
func (p *played) proven(qos int) bool {
	if p.holds() || qos > 0 {
		return p.holds() && p.result.Total.Asked() == p.result.Total[verdict.Proven]
	}
	lost := p.result.Total[verdict.Unknown]
	for _, f := range p.result.Findings {
		if len(f.Testimony) == 0 || !strings.Contains(f.Testimony[0].Says, "the plan broke its connection just then") {
			return false
		}
	}
	return 10*lost <= p.result.Total.Due() && lost+p.result.Total[verdict.Proven] == p.result.Total.Asked()
}

// Whatever is done to devices that a platform must cope with: every message is proven, over
// every way.
func TestActionsAreProven(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		for name, events := range map[string][]string{
			"offline, cut":    {"{at: 500ms, for: 1s, who: 50% of buoy, do: {offline: keep}}"},
			"offline, clean":  {"{at: 500ms, for: 1s, who: buoy-2, do: {offline: {how: clean, order: newest first}}}"},
			"offline, silent": {"{at: 500ms, for: 1s, who: buoy-2, do: {offline: {how: silent, pace: 20/s}}}"},
			"offline, idle":   {"{at: 500ms, for: 1s, who: 2 of buoy, do: {offline: idle}}"},
			"again and again": {"{every: 600ms, for: 200ms, who: 1 of buoy, do: {offline: {how: cut}}}"},
			"restart":         {"{at: 500ms, for: 700ms, who: buoy-3, do: {restart: {session: end, counters: anew}}}"},
			"fields": {"{at: 500ms, for: 1s, who: buoy-3, do: {set: {wave_m: 99.5}, stuck: level, missing: at}}",
				"{at: 800ms, for: 1s, do: {erratic: {level: 50}}}"},
			"intervals":      {"{at: 500ms, for: 1s, do: {every: 30ms}}", "{at: 1s, for: 200ms, who: buoy-1, do: {every: never}}"},
			"clock":          {"{at: 1s, for: 1s, who: buoy-1, do: {clock: {off: -2m, drift: 1s per minute}}}"},
			"network":        {"{at: 500ms, for: 1s, who: buoy-1, do: {network: {delay: 50ms, jitter: 20ms, rate: 64 kbit/s}}}"},
			"leave and join": {"{at: 1s, for: 800ms, who: buoy-1, do: leave}", "{at: 700ms, who: buoy-4, do: connect}"},
			"leave and be back": {"{at: 400ms, do: {network: {delay: 300ms}}}", "{every: 800ms, for: 1ms, who: buoy-1, do: " +
				"leave}"},
			"send": {"{at: 1s, who: buoy-2, do: {send: {state: 5}}}"},
			"one behind another": {"{name: a, at: 500ms, for: 300ms, who: buoy-2, do: {offline: keep}}", "{after: a, delay: " +
				"100ms, for: 300ms, do: {restart: true}}"},
			"one over another": {"{at: 500ms, for: 900ms, who: buoy-2, do: {offline: keep}}", "{at: 700ms, for: 300ms, " +
				"who: buoy-2, do: {offline: {how: clean}}}"},
			"repeat without once": {"{at: 500ms, for: 500ms, who: buoy-2, do: {repeat: 2}}"},
		} {
			t.Run(w.name+"/"+name, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				p := play(t, w.withEvents("20s", events...))
				assert.True(t, p.proven(w.qos()), p.says())
				assert.Greater(t, p.result.Total.Due(), 50)
				assert.Zero(t, p.result.OutOfOrder)
				assert.NotEmpty(t, p.result.Actions)
				for _, d := range p.result.Actions {
					assert.Positive(t, d.Times, "%+v", d)
					assert.Empty(t, d.Why)
				}
			})
		}
	}
}

// What must not get in: refused by a platform that looks at credentials and at bodies, let
// in by one that does not.
func TestWhatMustNotGetIn(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		for name, event := range map[string]string{
			"wrong": "{at: 1s, for: 2s, who: buoy-2, do: {credential: wrong}, expect: refused}",
			"none":  "{at: 1s, for: 2s, who: buoy-2, do: {credential: none}, expect: refused}",
			// The first device's connection is open before the run begins.
			"from the beginning": "{at: 0s, for: 2s, who: buoy-1, do: {credential: wrong}, expect: refused}",
		} {
			for _, platform := range []string{"shut", "open", "with the flaw admit"} {
				t.Run(fmt.Sprintf("%s/%s, %s", w.name, name, platform), func(t *testing.T) {
					fewer(t)
					t.Parallel()
					cfg := standin.Config{Token: "tok-of-the-harbour"}
					switch platform {
					case "open":
						cfg.Token = ""
					case "with the flaw admit":
						cfg.Flaws = flawsOf(t, "admit")
					}
					text := w.withEvents("5s", event)
					text = strings.Replace(text, "{mqtt: mqtt://MQTT, version",
						`{mqtt: mqtt://MQTT, username: "${device}", password: "tok-of-the-harbour", version`, 2)
					text = strings.Replace(text, "{http: http://HTTP, ",
						`{http: http://HTTP, headers: {Authorization: "Bearer tok-of-the-harbour"}, `, 1)
					text = strings.Replace(text, "    get: http", "    headers: {Authorization: \"Bearer tok-of-the-harbour\"}\n    "+
						"get: http", 1)
					text = strings.NewReplacer("WAIT", "20s", "SETTLE", "20s").Replace(text) // what is refused never comes
					var p *played
					inWorld(t, cfg, func(t *testing.T, w *world) { p = w.play(t, text) })
					if platform != "shut" {
						assert.False(t, p.holds(), p.says())
						assert.InDelta(t, 20, p.result.Total[verdict.LetIn]+p.result.Total[verdict.Dropped], 4)
						assert.Equal(t, p.result.Total.Asked(), p.result.Total[verdict.LetIn]+p.result.Total[verdict.Proven], p.says())
						return
					}
					assert.True(t, p.holds(), p.says())
				})
			}
		}
	}
}

// A platform that discards what comes late, by its own time stamp: of a backlog, of a clock
// that is behind. Each such message is found, and no other.
func TestWhatComesLate(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		t.Run(w.name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			text := w.withEvents("4s", "{at: 100ms, for: 2600ms, who: 2 of buoy, do: {offline: {how: clean}}}", "{at: 500ms, "+
				"for: 1s, who: buoy-1, do: {clock: -10s}}")
			p := play(t, text, "stale=100%")
			require.Greater(t, len(p.hits), 10)
			assert.Equal(t, p.hits, p.found(verdict.Lost), p.says())
			assert.Equal(t, p.result.Total.Due()-len(p.hits), p.result.Total[verdict.Proven])
		})
	}
}

// A corrupted message is discarded by a platform that looks at it, and let in by one that
// keeps everything; the mark in it tells, however it was corrupted.
func TestCorruptMessages(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		for _, how := range []string{"cut off", "not its form", "wrong types", "too large"} {
			t.Run(w.name+"/"+how, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				p := play(t, w.withEvents("5s", "{at: 1s, for: 500ms, who: buoy-2, do: {corrupt: "+how+"}, expect: discarded}"))
				if w.name == "http" && how == "too large" { // the only thing that the stand-in minds
					assert.True(t, p.holds(), p.says())
					return
				}
				assert.False(t, p.holds(), p.says())
				assert.InDelta(t, 5, p.result.Total[verdict.LetIn]+p.result.Total[verdict.Refused], 3, p.says())
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.LetIn]+p.result.Total[verdict.Proven], p.says())
			})
		}
	}
}

// Devices that sleep, and devices behind a gateway: every message is proven, also over
// outages; a gateway that is away keeps all behind it from sending.
func TestPresence(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		for name, presence := range map[string]string{
			"sleeps":        "sleeps",
			"sleeps longer": "{sleeps: {after: 4, listens: 50ms, session: end}}",
			"through":       "{through: hub}",
			"through by":    "{through: hub, by: hub}",
		} {
			t.Run(w.name+"/"+name, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				events := []string{"{at: 500ms, for: 700ms, who: buoy-2, do: {offline: keep}}", "{at: 1500ms, for: 500ms, do: " +
					"{repeat: 1}}"}
				if strings.Contains(presence, "through") {
					events = append(events, "{at: 900ms, for: 600ms, who: hub-1, do: {offline: keep}}", "{at: 2s, for: 300ms, who: "+
						"hub-2, do: restart}")
				}
				text := w.withEvents("20s", events...)
				text = strings.Replace(text, "  buoy:\n    link: way\n", "  buoy:\n    link: way\n    presence: "+presence+"\n   "+
					" properties: {hub: \"hub-${n % 2 + 1}\"}\n", 1)
				if strings.Contains(presence, "through") {
					quotes := 1
					if w.name == "http" { // it has them
						quotes = 0
					}
					hub := "  hub:\n    link: way\n    readings: {state: {every: 500ms, " +
						strings.Replace(w.reading, "harbour/${device}/state", "'harbour/${device}/state'", quotes) +
						", fields: {n: 1}}}\n"
					text = strings.Replace(text, "devices: [", hub+"devices: [{kind: hub, count: 2, name: \"hub-${n}\"}, ", 1)
				}
				p := play(t, text)
				assert.True(t, p.proven(w.qos()), p.says())
				assert.Greater(t, p.result.Total.Due(), 80)
				if strings.Contains(presence, "through") && strings.HasPrefix(w.name, "mqtt") {
					assert.Len(t, p.result.Links.Devices, 2, "connections are the gateways' alone")
				}
			})
		}
	}
}

const changing = `
crowd: changing
links:
  way: LINK
  ear: {mqtt: mqtt://MQTT, username: witness, password: tok-of-the-harbour}
kinds:
  buoy:
    link: way
    properties: {ms: 100}
    readings: {state: {every: 100ms, PLACE, fields: {wave_m: {signal: swell, round: 2}}}}
    commands: {faster: COMMAND}
devices: [{kind: buoy, count: 4, name: "buoy-${n}"}]
register:
  request: {url: "http://HTTP/registry", headers: {Authorization: Bearer tok-of-the-harbour}, body: {name: "${device}"}}
  save: {token: .token}
  unregister: {url: "http://HTTP/registry/${device}", headers: {Authorization: Bearer tok-of-the-harbour}}
plan:
  for: 6s
  settle: 20s
  events:
    - {at: 100ms, do: register}
    - {at: 1500ms, who: buoy-1, do: {command: {name: faster, with: {ms: 50}}}}
    - {at: 2s, who: buoy-2, do: unregister, expect: refused}
    - {at: 5s, who: buoy-2, do: register}
witnesses: {ear: {proves: received, subscribe: "harbour/#", link: ear, wait: 8s}}
`

// The fleet changes while it plays: devices are registered and come, get a command and
// answer it, are removed and must not get in, until they are registered again.
func TestTheFleetChanges(t *testing.T) {
	t.Parallel()
	for name, parts := range map[string][]string{
		"MQTT": {`{mqtt: "mqtt://MQTT", username: "${device}", password: "${token}", back_off: 20ms to 100ms}`,
			`topic: "harbour/${device}/state", qos: 1`,
			`{topic: "ask/${device}", do: {every: "${ask.ms}ms", set: {ms: "${ask.ms}"}}, reply: {body: {ok: "${done}"}}}`},
		"HTTP": {`{http: "http://HTTP", headers: {Authorization: "Bearer ${token}"}}`, `path: "/in/harbour/${device}/state"`,
			`{path: "/commands/${device}", every: 100ms, rows: ".commands[]", do: {every: "${ask.ms}ms", set: {ms: "${ask.ms}"}}, reply: {path: "/answers/${device}"}, request: {url: "http://HTTP/commands/${device}", headers: {Authorization: Bearer tok-of-the-harbour}}, read_reply: {get: "http://HTTP/answers/${device}", headers: {Authorization: Bearer tok-of-the-harbour}, rows: ".answers[]"}}`},
	} {
		for _, broken := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, broken %v", name, broken), func(t *testing.T) {
				fewer(t)
				t.Parallel()
				text := strings.NewReplacer("LINK", parts[0], "PLACE", parts[1], "COMMAND", parts[2]).Replace(changing)
				if broken { // neither can be removed nor asked
					text = strings.Replace(text, "/registry/${device}", "/registre/${device}", 1)
					text = strings.Replace(text, "who: buoy-1, do: {command", "who: buoy-1, do: {every: never, command", 1)
					text = strings.NewReplacer(`topic: "ask/${device}"`, `topic: "ask/${device}", match: {a: b}`,
						`path: "/commands/${device}", every: 100ms`, `path: "/commands/${device}", every: 1h`).Replace(text)
				}
				var p *played
				inWorld(t, standin.Config{Token: "tok-of-the-harbour", Registry: true}, func(t *testing.T, w *world) {
					text := strings.NewReplacer("MQTT", w.MQTTAddr, "HTTP", w.HTTPAddr).Replace(text)
					p = w.playFile(t, w.dir, text)
				})
				assert.InDelta(t, 270, p.result.Total.Due(), 110)
				assert.Less(t, p.result.Total[verdict.Dropped], 30) // measured while it was removed, and not sent in that time
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven]+p.result.Total[verdict.Dropped], p.says())
				assert.Equal(t, !broken, p.holds(), "%+v\n%s", p.checks, p.says())
				if broken {
					assert.Contains(t, fmt.Sprint(p.checks), "actions_failed 0 ")
					assert.Zero(t, p.result.MustNot)
					return
				}
				assert.InDelta(t, 30, p.result.KeptOut, 28)
				assert.Equal(t, 1, p.result.Commands[0].Answered, "%+v %+v", p.result.Commands, p.result.Mishaps)
			})
		}
	}
}

// Devices that sleep, and devices behind a gateway, hear their commands and answer them; with
// two messages swapped, and a command that takes a device off for a while.
func TestCommandsOfDevicesThatAreNotAlwaysThere(t *testing.T) {
	t.Parallel()
	for name, c := range map[string][3]string{
		"sleeping, MQTT": {`{mqtt: "mqtt://MQTT", clean_start: false}`, "presence: {sleeps: {after: 3, listens: " +
			"400ms}}", "topic"},
		"behind a gateway, 3.1.1": {`{mqtt: "mqtt://MQTT", version: 3.1.1}`, "presence: {through: hub}", "topic"},
		"behind a gateway, HTTP":  {`{http: "http://HTTP"}`, "presence: {through: hub}", "path"},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			place, command := `topic: "harbour/${device}/state", qos: 1`, `{topic: "ask/${device}", match: {name: NAME}, DO reply: {topic: "told/${device}", body: {ok: "${done}"}}}`
			if c[2] == "path" {
				place = `path: "/in/harbour/${device}/state"`
				command = `{path: "/commands/${device}", every: 100ms, rows: ".commands[]", match: {name: NAME}, DO reply: {path: "/answers/${device}"}, request: {url: "http://HTTP/commands/${device}"}, read_reply: {get: "http://HTTP/answers/${device}", rows: ".answers[]"}}`
			}
			commands := "commands: {faster: " + strings.NewReplacer("NAME", "faster", "DO",
				`do: {every: 50ms}, for: 500ms,`).Replace(command) + ", rest: " +
				strings.NewReplacer("NAME", "rest", "DO", `do: {offline: idle}, for: 300ms,`).Replace(command) + "}"
			p := play(t, `
crowd: commands
links: {way: `+c[0]+`, ear: {mqtt: "mqtt://MQTT"}}
kinds:
  hub: {link: way, readings: {state: {every: 500ms, `+place+`, fields: {n: 1}}}}
  buoy:
    link: way
    `+c[1]+`
    readings: {state: {every: 100ms, `+place+`, fields: {wave_m: {signal: swell, round: 2}}}}
    `+commands+`
devices: [{kind: hub, count: 2, name: "hub-${n}"}, {kind: buoy, count: 4, name: "buoy-${n}"}]
plan:
  for: 8s
  settle: 20s
  events:
    - {at: 1s, who: buoy-1 , do: {command: faster}}
    - {at: 2s, who: buoy-4, do: {command: rest}}
    - {at: 500ms, for: 3s, who: buoy-2, do: {swap: true}}
witnesses: {ear: {proves: received, subscribe: "harbour/#", link: ear, wait: 20s}}
`)
			assert.True(t, p.holds(), "%+v %s %+v", p.checks, p.says(), p.result.Mishaps)
			assert.Zero(t, p.result.OutOfOrder)
			require.Len(t, p.result.Commands, 2, "%+v", p.result.Commands)
			for _, k := range p.result.Commands {
				assert.Equal(t, 1, k.Obeyed, "%+v", k)
			}
			if book, err := run.ReadLedger(p.folder); assert.NoError(t, err) { // of QoS 0, something may be lost then
				breaks := slices.Collect(maps.Values(book.Actions.Breaks))
				if assert.Len(t, breaks, 1, "one device was off, by the command") && assert.Len(t, breaks[0], 1) {
					assert.True(t, breaks[0][0].Deaf)
					assert.InDelta(t, 0.3, breaks[0][0].To.Sub(breaks[0][0].From).Seconds(), 1)
				}
			}
		})
	}
}
