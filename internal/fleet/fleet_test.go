package fleet_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/payload"
)

const harbour = `
crowd: harbour
seed: 1907
links: {sea: {mqtt: mqtt://127.0.0.1:1883, client_id: "c-${device}", username: "${site}", password: "${env.PASS}"}}
kinds:
  buoy:
    properties:
      serial: LB-${pad(n, 4)}
      mooring: {position: "within 58.02,-6.41 and 58.06,-6.35"}
      lamp_w: {pick: [12, 20, 35]}
      site: middle
    readings:
      state:
        every: 5s
        topic: harbour/${site}/${device}/${reading}
        fields:
          wave_m: {signal: swell, height: lamp_w / 10, round: 2}
          lamp_w: ${lamp_w + 1}
          serial: ${serial}
          label: ${device} at ${site}
          twice: {formula: wave_m * 2 + seq}
          place: {signal: wander, around: mooring}
          broken: {formula: 1 / (seq - 3)}
devices:
  - {kind: buoy, count: 30, name: "buoy-${pad(n, 3)}", properties: {site: outer}}
  - {kind: buoy, count: 2, first: 100, name: "spare-${n}"}
plan: {for: 1m}
`

func build(t *testing.T, text string) *fleet.Fleet {
	t.Helper()
	c, err := file.Parse("harbour.yaml", []byte(text),
		file.Sources{Getenv: func(string) (string, bool) { return "pass-word", true }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return f
}

// What a device shows in place of its own credentials leaves it as it is: it gets them back.
func TestOtherCredentialsLeaveADeviceAsItIs(t *testing.T) {
	f := build(t, `
crowd: harbour
links: {sea: {http: "http://127.0.0.1:1", headers: {Authorization: "Bearer tok-of-${device}"}}}
kinds:
  gauge:
    link: sea
    readings: {level: {every: 1s, path: "/in/${device}", fields: {m: 1}}}
    commands: {rest: {path: "/commands/${device}", do: {offline: idle}, reply: {path: "/answers"}}}
devices: [{kind: gauge, count: 2}]
plan: {for: 1m}
`)
	for how := crowd.WrongCredential; how <= crowd.NoCredential; how++ {
		own := fmt.Sprintf("%+v", f.Devices[0].Identity())
		g, err := f.Variant(f.Devices[0], how)
		if how == crowd.ExpiredCredential {
			require.Error(t, err)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, own, fmt.Sprintf("%+v", f.Devices[0].Identity()), "%s", how)
		shown := fmt.Sprint(g.Identity.Asks[0].Headers, g.Values[0])
		assert.NotContains(t, shown, "tok-of-gauge-001", "%s", how)
		switch how {
		case crowd.WrongCredential:
			assert.Contains(t, shown, "Bearer ", "it must be read to be refused")
		case crowd.AnothersCredential:
			assert.Contains(t, shown, "Bearer tok-of-gauge-002")
		}
	}
	f.Devices[1].Streams[0].Values = f.Devices[0].Streams[0].Values
	_, err := f.Variant(f.Devices[0], crowd.AnothersCredential)
	assert.ErrorContains(t, err, "another's are its own")
}

// Credentials that a device does not have cannot be wrong: it would show the same as ever, and
// the platform would be accused of letting it in.
func TestCredentialsThatCannotBeWrong(t *testing.T) {
	text := `
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1"CREDENTIALS}, shore: {http: "http://127.0.0.1:1", headers: {Authorization: "Bearer a"}}}
kinds:
  buoy: {link: sea, readings: {state: {every: 1s, topic: "t/${device}", fields: {a: 1}}}}
  gauge: {link: shore, readings: {level: {every: 1s, path: "/in", fields: {a: 1}}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}, {kind: gauge, name: gauge}]
plan: {for: 1m, events: [{name: first, at: 1s, who: buoy-2, do: {set: {a: 2}}}, {WHEN, do: {credential: HOW}, expect: refused}]}
`
	for _, c := range []struct{ credentials, when, how, why string }{
		{"", "at: 1s, who: buoy", "wrong",
			`the devices of the kind "buoy" show no credentials on the link "sea", which therefore cannot be wrong or left out`},
		{"", "at: 1s, who: buoy", "none", `show no credentials on the link "sea"`},
		{"", "after: first begins", "wrong", `show no credentials on the link "sea"`},
		{"", "at: 1s", "wrong", `show no credentials on the link "sea"`},
		{`, username: "${device}"`, "at: 1s, who: buoy", "wrong", `show no credentials on the link "sea"`},
		{`, username: "${device}", password: x`, "at: 1s, who: buoy", "expired",
			`the link "sea" has no access_token that could expire`},
		{"", "at: 1s, who: gauge", "wrong", ""},
		{`, username: "${device}"`, "at: 1s, who: buoy", "none", ""},
		{`, username: "${device}"`, "at: 1s, who: buoy", "of another device", ""},
		{`, username: "${device}", password: x`, "after: first begins", "wrong", ""},
	} {
		t.Run(c.credentials+c.when+c.how, func(t *testing.T) {
			text := strings.NewReplacer("CREDENTIALS", c.credentials, "WHEN", c.when, "HOW", c.how).Replace(text)
			cr, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
			require.NoError(t, err)
			f, err := fleet.Build(cr, credential.New(cr))
			if c.why == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.why)
			assert.Equal(t, 1, strings.Count(err.Error(), c.why), "said once")
			assert.Nil(t, f)
		})
	}
	// Where it shows only when it is done, it is not done.
	f := build(t, strings.NewReplacer("CREDENTIALS", `, username: "${device}", password: "${n > 1 ? 'x' : ''}"`, "WHEN",
		"at: 1s, who: buoy", "HOW", "wrong").Replace(text))
	_, err := f.Variant(f.Devices[0], crowd.WrongCredential)
	assert.ErrorContains(t, err, "it shows none of its own just now")
	_, err = f.Variant(f.Devices[1], crowd.WrongCredential)
	assert.NoError(t, err)
}

func TestDevices(t *testing.T) {
	f := build(t, harbour)
	require.Len(t, f.Devices, 32)
	d := f.Devices[6]
	assert.Equal(t, "buoy-007", d.Name)
	assert.Equal(t, "LB-0007", d.Env["serial"])
	assert.Equal(t, "c-buoy-007", d.ClientID)
	assert.Equal(t, "outer", d.Username, "the group is nearer than the kind")
	assert.Equal(t, "pass-word", d.Password)
	assert.Equal(t, "harbour/outer/buoy-007/state", d.Streams[0].Target)
	assert.Equal(t, "spare-100", f.Devices[30].Name)
	assert.Equal(t, "harbour/middle/spare-100/state", f.Devices[30].Streams[0].Target)
	picked := map[any]int{}
	for _, d := range f.Devices {
		picked[d.Env["lamp_w"]]++
	}
	assert.Len(t, picked, 3, "a pick picks all of its list in 32 devices")
}

// bodies makes the first messages of a device.
func bodies(f *fleet.Fleet, s *fleet.Stream, c *fleet.Composer) []string {
	var list []string
	start := time.Unix(1_900_000_000, 0)
	for seq := uint64(1); seq <= 5; seq++ {
		at := time.Duration(seq) * time.Second
		values, _ := c.Values(s, fleet.Occasion{Seq: seq, Due: start.Add(at), Elapsed: at})
		list = append(list, string(payload.Object(nil, s.Names, values)))
	}
	return list
}

// One device made again without the others, in another order and with another
// seed: the same messages, the same, and other ones.
func TestOneDeviceCanBeMadeAgain(t *testing.T) {
	f := build(t, harbour)
	var c fleet.Composer
	all := map[string][]string{}
	for _, s := range f.Streams {
		all[s.Device.Name] = bodies(f, s, &c)
	}
	var fresh fleet.Composer
	for i := len(f.Streams) - 1; i >= 0; i -= 3 {
		s := f.Streams[i]
		assert.Equal(t, all[s.Device.Name], bodies(f, s, &fresh))
	}
	small := build(t, replace(harbour, "count: 30", "count: 7"))
	assert.Equal(t, all["buoy-007"], bodies(small, small.Streams[6], &c))
	other := build(t, replace(harbour, "1907", "1908"))
	assert.NotEqual(t, all["buoy-007"], bodies(other, other.Streams[6], &c))
	assert.NotEqual(t, all["buoy-006"], all["buoy-007"])
}

func replace(s, old, new string) string {
	for i := 0; i+len(old) <= len(s); i++ {
		if s[i:i+len(old)] == old {
			return s[:i] + new + s[i+len(old):]
		}
	}
	panic(fmt.Sprintf("%q is not there", old))
}

// A field with the name of a property does not change the property, a text of
// one placeholder keeps its type, and a value that cannot be made is null.
func TestFieldsAndProperties(t *testing.T) {
	f := build(t, harbour)
	d := f.Devices[0]
	lamp := d.Env["lamp_w"].(int)
	var c fleet.Composer
	for seq := uint64(1); seq <= 4; seq++ {
		values, err := c.Values(d.Streams[0], fleet.Occasion{Seq: seq, Due: time.Unix(1_900_000_000, 0)})
		assert.Equal(t, int64(lamp+1), values[1].Int(), "message %d", seq)
		assert.Equal(t, "LB-0001", values[2].Text())
		assert.Equal(t, "buoy-001 at outer", values[3].Text())
		assert.InDelta(t, values[0].Float()*2+float64(seq), values[4].Float(), 1e-9)
		if seq == 3 {
			assert.ErrorContains(t, err, `the field "broken" of buoy-001: the formula 1 / (seq - 3): division by zero`)
			assert.Nil(t, values[6].Any())
		} else {
			assert.NoError(t, err)
		}
	}
}

func BenchmarkValues(b *testing.B) {
	c, err := file.Parse("x", []byte(harbour), file.Sources{Getenv: func(string) (string, bool) { return "p", true }})
	if err != nil {
		b.Fatal(err)
	}
	f, err := fleet.Build(c, credential.New(c))
	if err != nil {
		b.Fatal(err)
	}
	var composer fleet.Composer
	b.ReportAllocs()
	for i := uint64(4); b.Loop(); i++ {
		composer.Values(f.Streams[0], fleet.Occasion{Seq: i, Due: time.Unix(1_900_000_000, 0)})
	}
}

// What is computed from a secret is one, wherever it goes, unless the file says that it is none.
func TestWhatIsComputedFromASecret(t *testing.T) {
	c, err := file.Parse("x.yaml", []byte(`
crowd: x
links: {shore: {http: "http://h", headers: {X-Sign: "v1 ${bytes_hex(hmac('sha256', env.KEY, device))}", X-Mode: "${env.KEY == 'a' ? 'unsigned-mode' : 'signed-mode'}"}}}
kinds:
  gauge:
    properties: {sig: "${bytes_hex(hmac('sha256', env.KEY, 'p' + device))}", id: {value: "${bytes_hex(digest('md5', env.KEY + device))}", public: true}}
    readings: {level: {every: 1s, path: "/in/${id}?s=${sig}", fields: {id: "${id}", a: 1}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 1s}
`), file.Sources{Getenv: func(string) (string, bool) { return "a-secret-of-the-harbour", true }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	for _, s := range f.Streams {
		id := s.Device.Env["id"].(string)
		assert.Equal(t, "/in/"+id+"?s=«secret»", c.Redact(s.Target))
		assert.Equal(t, "v1 «secret»", c.Redact(s.Values[0]))
		assert.Equal(t, "signed-mode", c.Redact(s.Values[1]), "what stands in the file is no secret")
	}
}
