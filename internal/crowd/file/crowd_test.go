package file_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
)

var update = flag.Bool("update", false, "write the messages as they are now into testdata/mistakes.txt")

// base is a crowd without a mistake. A case of mistakes.txt is a list of edits
// to it, "old => new" a line, or a whole file of its own.
const base = `crowd: harbour
links:
  sea: {mqtt: mqtt://127.0.0.1:1883, username: "${device}"}
  shore: {http: http://127.0.0.1:8080}
kinds:
  buoy:
    link: sea
    properties:
      site: {pick: [outer, inner]}
      mooring: {position: "within 58.02,-6.41 and 58.06,-6.35"}
      lamp_w: 12
    readings:
      state:
        every: 5s
        jitter: 10%
        topic: harbour/${site}/${device}/state
        qos: 1
        fields:
          wave_m: {signal: swell, height: 1.2, period: 9s, round: 2}
          water_c: {signal: daily, low: 8, high: 12, peak: "15:00"}
          under_m: {formula: 9.5 - water_c, round: 1}
          position: {signal: wander, around: mooring, radius: 15m}
  gauge:
    link: shore
    readings:
      level:
        every: 10s
        path: /in/${device}/level
        ok_status: [200, 202]
        fields: {level_m: {signal: tide, range: 4.1}}
devices:
  - {kind: buoy, count: 12, name: "buoy-${pad(n, 2)}"}
  - {kind: gauge, count: 2}
plan:
  join: spread over 5s
  for: 1m
  rounds: {count: 2, every: 5m}
witnesses:
  ear: {proves: received, subscribe: harbour/#, link: sea}
  store:
    proves: stored
    get: http://127.0.0.1:8080/devices/${device}?from=${from}
    rows: .rows[]
    time: .stored_at
require:
  acknowledged: 100%
  stored: 100% within 30s
`

func noEnv(name string) (string, bool) { return "open-sesame-77", name == "TOKEN" }

// files are what crowd files of the tests name.
var files = map[string]string{
	"good.csv":     "device,site,range_m,moored,token\ngauge-a,north,4.1,true,tok-a-123\ngauge-b,south,3,false,tok-b-456\n",
	"holes.csv":    "device,range_m\ngauge-a,4.1\ngauge-b,\n",
	"twice.csv":    "device,site\ngauge-a,north\ngauge-a,south\n",
	"ragged.csv":   "device,site\ngauge-a,north\ngauge-b,south,58.02\n",
	"columns.csv":  "device,site,site\ngauge-a,north,south\n",
	"odd.csv":      "device,lamp w\ngauge-a,12\n",
	"nameless.csv": "gauge,site\ngauge-a,north\n",
	"quote.csv":    "device,site\ngauge-a,\"north\n",
	"head.csv":     "device,site\n",
	"empty.csv":    "",
	"binary.csv":   "device\x00,site\n",
	"kinds.csv":    "device,kind\ngauge-a,gauge\nbuoy-x,buoy\n",
	"blank.csv":    "device,site\ngauge a,north\n",
	"reserved.csv": "device,reading\ngauge-a,x\n",
	"levels.csv":   "at,level\n2030-06-01T00:00:00Z,1.5\n2030-06-01T01:00:00Z,1.2\n",
	"back.csv":     "at,level\n2030-06-01T01:00:00Z,1.5\n2030-06-01T00:00:00Z,1.2\n",
	"notime.csv":   "at,level\nnoon,1.5\n",
	"bad.jsonl":    "{\"level\": 1}\nlevel 2\n",
	"nested.jsonl": "{\"level\": {\"m\": 1}}\n",
	"text.binpb":   "message State {}",
	"body.json":    `{"v": ${wave_m}, "mark": "${mark}"`,
}

func open(name string) ([]byte, error) {
	if name == "state.binpb" {
		return os.ReadFile("../../../examples/small/protobuf/state.binpb")
	}
	text, is := files[name]
	if !is {
		return nil, os.ErrNotExist
	}
	return []byte(text), nil
}

func load(text string) (*crowd.Crowd, error) {
	c, err := file.Parse("crowd.yaml", []byte(text), file.Sources{Getenv: noEnv, Open: open})
	if err == nil {
		store := credential.New(c)
		store.Open = open
		_, err = fleet.Build(c, store)
	}
	return c, err
}

func TestBaseHasNoMistake(t *testing.T) {
	c, err := load(base)
	require.NoError(t, err)
	assert.Equal(t, "harbour", c.Name)
	assert.Equal(t, 2, c.Plan.Rounds)
	assert.Equal(t, 5*time.Minute, c.Plan.Every)
	assert.Equal(t, "127.0.0.1:1883", c.Link("sea").Address)
	assert.Equal(t, 60*time.Second, c.Witnesses[1].Wait, "twice what is allowed, to tell the late from the lost")
	assert.True(t, c.Witnesses[1].PerDevice)
	assert.Equal(t, 5*time.Second/12, c.Plan.Join.At(1, 12))
}

// edited is the file of one case of mistakes.txt.
func edited(t *testing.T, title, edits string) string {
	t.Helper()
	if whole, is := strings.CutPrefix(edits, "(whole)\n"); is {
		return whole + "\n"
	}
	file := base
	for _, e := range strings.Split(edits, "\n") {
		from, to, ok := strings.Cut(e, " => ")
		require.True(t, ok, "%s: an edit is \"old => new\": %q", title, e)
		from = strings.ReplaceAll(from, `\n`, "\n")
		require.Contains(t, file, from, title)
		file = strings.Replace(file, from, strings.ReplaceAll(to, `\n`, "\n"), 1)
	}
	return file
}

// TestMistakes reads testdata/mistakes.txt: plausible mistakes of users, each
// with the whole message that they get.
func TestMistakes(t *testing.T) {
	path := filepath.Join("testdata", "mistakes.txt")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	var out strings.Builder
	n := 0
	for _, block := range strings.Split(string(text), "\n=== ")[1:] {
		title, rest, _ := strings.Cut(block, "\n")
		edits, want, _ := strings.Cut(rest, "\n--- says\n")
		want = strings.TrimRight(want, "\n")
		file := edited(t, title, edits)
		n++
		_, err := load(file)
		got := "(no mistake)"
		if err != nil {
			got = err.Error()
		}
		out.WriteString("\n=== " + title + "\n" + edits + "\n--- says\n" + got + "\n")
		if !*update {
			t.Run(title, func(t *testing.T) { assert.Equal(t, want, got) })
		}
	}
	assert.GreaterOrEqual(t, n, 50)
	if *update {
		head, _, _ := strings.Cut(string(text), "\n=== ")
		require.NoError(t, os.WriteFile(path, []byte(head+out.String()), 0o644))
	}
}

// Secrets that stand in the file are not in the copy that a run folder gets, and
// not in any message.
func TestSecretsAreTakenOut(t *testing.T) {
	text := strings.NewReplacer(`username: "${device}"`, "username: fleet, password: hunter-two-9",
		"{http: http://127.0.0.1:8080}", "{http: http://127.0.0.1:8080, headers: {Authorization: Bearer abc.def.ghi, "+
			"X-Site: \"${env.SITE_KEY}\"}}").Replace(base)
	env := func(name string) (string, bool) { return "site-key-value", name == "SITE_KEY" }
	c, err := file.Parse("crowd.yaml", []byte(text), file.Sources{Getenv: env})
	require.NoError(t, err)
	copied := string(c.Copy())
	assert.NotContains(t, copied, "hunter-two-9")
	assert.NotContains(t, copied, "abc.def.ghi")
	assert.Contains(t, copied, "${env.SITE_KEY}")
	again, err := file.Parse("crowd.yaml", []byte(copied), file.Sources{Getenv: env})
	require.NoError(t, err, "the copy is a crowd file")
	assert.Equal(t, c.Name, again.Name)
	assert.Equal(t, "the platform said «secret» and «secret»", c.Redact("the platform said hunter-two-9 and "+
		"site-key-value"))
}

func TestAliasesAndMerges(t *testing.T) {
	text := strings.NewReplacer("wave_m: {signal: swell, height: 1.2, period: 9s, round: 2}", "wave_m: &wave {signal: "+
		"swell, height: 1.2, period: 9s, round: 2}\n          wave_2: *wave\n          wave_3: {<<: *wave, height: 3}").Replace(base)
	c, err := load(text)
	require.NoError(t, err)
	fields := c.Casts[0].Readings[0].Fields
	require.Len(t, fields, 6)
	assert.Equal(t, 1.2, fields[1].Args["height"].Value)
	assert.Equal(t, 3.0, fields[2].Args["height"].Value)
}

func TestExamplesAreValid(t *testing.T) {
	for _, dir := range []string{"../../../examples/*.yaml", "../../../examples/small/*/crowd.yaml"} {
		list, err := filepath.Glob(dir)
		require.NoError(t, err)
		require.NotEmpty(t, list)
		for _, path := range list {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			c, err := file.Parse(path, []byte(strings.NewReplacer("crowd: NAME", "crowd: name", "mqtt: ADDRESS",
				"mqtt: mqtt://h", "http: ADDRESS", "http: http://h").Replace(string(text))),
				file.Sources{Getenv: func(string) (string, bool) { return "any-text-will-do", true }})
			if assert.NoError(t, err, path) {
				_, err = fleet.Build(c, credential.New(c))
				assert.NoError(t, err, path)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(base)
	f.Add("crowd: x\nlinks: {a: &a [*a]}")
	f.Add("crowd: ${")
	f.Add("a: &a {<<: *a}")
	for _, more := range []string{
		`access_token: {jwt: {algorithm: HS256, secret: "${env.TOKEN}", claims: {sub: "${device}", exp: "${expiry}", iat: null}}, valid: 1h, renew: 5m}`,
		`access_token: {text: "${url_escape(base64(hmac('sha256', env.TOKEN, device + text(expiry))))}"}, password: "${access_token}"`,
		`access_token: {oauth: {url: "http://h/token", client_id: "${device}", client_secret: "${env.TOKEN}", scope: [a, b], params: {audience: x}, credentials_in: body}}`,
	} {
		f.Add(strings.Replace(base, `username: "${device}"`, more, 1))
	}
	f.Add(strings.Replace(base, "    link: sea\n", `    link: sea
    will: {topic: "gone/${device}", body: {at: "${n}"}, qos: 1, retain: true, delay: 5s}
    commands:
      go: {topic: "ask/${device}/+", match: {name: go}, do: {every: {state: "${ask.s}s"}, set: {lamp_w: "${ask.w}"}, send: state}, reply: {body: {ok: "${done}"}, after: 1s to 2s, wrong: {chance: 5%, body: no}, never: 1%}}
`, 1))
	for _, s := range strings.Split(base, "\n") {
		f.Add(strings.Replace(base, s, "", 1))
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := file.Parse("f.yaml", []byte(text), file.Sources{Getenv: noEnv, Open: open})
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		for _, g := range c.Casts {
			g.Count = min(g.Count, 3) // a million devices are not what is tried here
		}
		if _, err := fleet.Build(c, credential.New(c)); err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}

// A roster is made by spreadsheets and by hand: whatever stands in it, there is
// one clear error or a fleet.
func FuzzRoster(f *testing.F) {
	for _, text := range files {
		f.Add(text)
	}
	f.Add("device;a\nx;1,5\ny;-0\n")
	f.Add("device\ta\nx\t1e400\n")
	text := strings.NewReplacer("{kind: gauge, count: 2}", "{kind: gauge, roster: x}", "fields: {level_m: {signal: "+
		"tide, range: 4.1}}",
		"fields: {level_m: {signal: recorded, file: x, column: device}, t: \"${device}\"}").Replace(base)
	f.Fuzz(func(t *testing.T, data string) {
		c, err := file.Parse("f.yaml", []byte(text), file.Sources{Open: func(string) ([]byte, error) {
			return []byte(
				data), nil
		}})
		if err == nil {
			_, err = fleet.Build(c, credential.New(c))
		}
		if err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}

// Selections come from files and from the command line.
func FuzzSelection(f *testing.F) {
	for _, s := range []string{"all", "20% of tag x", "every 10th", "first 3 of buoy-* where n > 2", `site == "a"`,
		"5 of", "buoy-[", " where ", "1% of of"} {
		f.Add(s)
	}
	c, err := load(base)
	require.NoError(f, err)
	fl, err := fleet.Build(c, credential.New(c))
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		who, err := crowd.ParseSelection(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		if devices, err := fl.Select(who); err == nil {
			require.LessOrEqual(t, len(devices), len(fl.Devices))
		} else {
			require.NotEmpty(t, err.Error())
		}
	})
}

// A witness of messages and alerts waits as long as either may take.
func TestHowLongAWitnessWaits(t *testing.T) {
	for _, c := range []struct {
		witness, within, require string
		wait                     time.Duration
	}{
		{"proves: alerts", "5s", "alerts: exact", 5 * time.Second},
		{"proves: [received, alerts]", "5s", "received: 100% within 30s", time.Minute},
		{"proves: [received, alerts]", "5m", "received: 100% within 30s", 5 * time.Minute},
		{"proves: [received, alerts]", "5s", "alerts: exact", 10 * time.Second},
		{"wait: 7s, proves: [received, alerts]", "5s", "received: 100% within 30s", 7 * time.Second},
	} {
		parsed, err := file.Parse("x", []byte(fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: mqtt://127.0.0.1:1883}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "h/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1s}
witnesses: {ear: {%s, subscribe: "#"}, other: {proves: received, subscribe: "#"}}
alerts: {low: {heard_by: ear, about: .d, match: .r == 1, when: a < 1, within: %s}}
require: {%s}`, c.witness, c.within, c.require)), file.Sources{})
		require.NoError(t, err, "%+v", c)
		assert.Equal(t, c.wait, parsed.Witnesses[0].Wait, "%+v", c)
	}
}

// A connection text that was pasted, or came from the environment, is no address, and is shown
// nowhere.
func TestPastedConnectionTexts(t *testing.T) {
	for _, s := range []string{"Host=sea.example;Key=c2VjcmV0LWtleQ;Id=harbour", "Host=sea.example;Key=c2VjcmV0LWtleQ",
		"sea.example Key:c2VjcmV0LWtleQ", "amqps://x;Key=c2VjcmV0LWtleQ", "harbour:c2VjcmV0LWtleQ@sea.example"} {
		for _, address := range []string{`"` + s + `"`, "${env.CONNECTION}"} {
			for _, key := range []string{"mqtt", "http"} {
				text := strings.Replace(base, "mqtt: mqtt://127.0.0.1:1883", key+": "+address, 1)
				require.NotEqual(t, base, text)
				_, err := file.Parse("crowd.yaml", []byte(text),
					file.Sources{Getenv: func(string) (string, bool) { return s, true }})
				require.Error(t, err, s)
				assert.NotContains(t, err.Error(), "c2VjcmV0", s)
				assert.NotContains(t, err.Error(), "Key=", s)
			}
		}
	}
	text := strings.Replace(base, "mqtt: mqtt://127.0.0.1:1883", `mqtt: "mqtt://${env.HOST}", password: "${env.PIN}"`, 1)
	c, err := file.Parse("crowd.yaml", []byte(text),
		file.Sources{Getenv: func(name string) (string, bool) {
			return map[string]string{"HOST": "db",
				"PIN": "123"}[name], true
		}})
	require.NoError(t, err)
	assert.Equal(t, []string{"PIN"}, c.ShortSecrets)
}

// An event may last as long as a plan.
func TestLongEvents(t *testing.T) {
	for long, why := range map[string]string{"30h": "", "10d to 20d": "", "400d": "is too long; at most",
		"2h to 1h": "the first time must not be above the second"} {
		text := strings.Replace(base, "  for: 1m\n  rounds: {count: 2, every: 5m}\n", "  for: 300d\n  events: [{at: 1h, "+
			"for: "+long+", do: {offline: keep}}]\n", 1)
		require.NotEqual(t, base, text)
		_, err := load(text)
		if why == "" {
			assert.NoError(t, err, long)
		} else {
			assert.ErrorContains(t, err, why)
		}
	}
}
