//go:build unix

package run_test

import (
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// bodies are payloads of every form, with the mark as a text in each.
var bodies = map[string]string{
	"nested":        "payload: {nested: true}",
	"template":      `payload: {template: '{"head": {"id": "${mark}"}, "w": ${wave_m}, "s": "at ${site}"}'}`,
	"list":          `payload: {template: '[{"id": "${mark}", "w": ${wave_m}, "s": "at ${site}"}]'}`,
	"plain":         `payload: {template: 'W=${wave_m};S=at ${site};${mark}'}`,
	"senml":         `payload: {form: senml, base_name: "urn:dev:${device}:"}`,
	"senml-cbor":    "payload: senml-cbor",
	"cbor":          "payload: cbor",
	"csv":           `payload: {form: csv, separator: ";"}`,
	"line-protocol": "payload: line-protocol",
	"protobuf":      "payload: {descriptors: state.binpb, message: harbour.State}",
	"bytes": "payload: {layout: [{field: mark, as: text, width: 60}, {field: wave_m, as: i16, scale: 0.01}, " +
		"{field: count, as: u32}, {bits: [{field: ok, width: 1}, {value: 5, width: 7}]}]}",
	"batch":      "batch: 3",
	"batch-cbor": "batch: 3\n        payload: cbor",
}

// formCrowd is a small crowd that sends in a form, over MQTT or HTTP.
func formCrowd(form, link string) string {
	target := "topic: harbour/${device}/state"
	if link == "shore" {
		target = "path: /in/harbour/${device}/state\n        gzip: true"
	}
	fields := "{wave_m: {signal: swell, round: 2}, count: {signal: counter}, ok: true, site: outer, place: {signal: " +
		"wander, around: \"58.03,-6.40\"}}"
	if form == "protobuf" {
		fields = "{wave_m: {signal: swell, round: 2}, count: {signal: counter}, position: {signal: wander, around: " +
			"\"58.03,-6.40\"}}"
	}
	return `
crowd: forms
links: {sea: {mqtt: mqtt://MQTT, version: 5}, shore: {http: http://HTTP}}
kinds:
  buoy:
    link: ` + link + `
    readings:
      state:
        every: 150ms
        ` + target + `
        ` + bodies[form] + `
        fields: ` + fields + `
devices: [{kind: buoy, count: 4}]
plan: {for: 2s, settle: SETTLE}
witnesses:
  ear: {proves: received, subscribe: harbour/#, link: sea, topic: "harbour/${device}/${reading}", wait: WAIT, watch_copies: 300ms}
  store:
    proves: stored
    get: http://HTTP/stored/${device}?from=${from}&to=${to}
    rows: .rows[]
    next: .next
    device: .device
    reading: .reading
    values: .content
    body: .bytes
    MARK
    wait: WAIT
    watch_copies: 300ms
`
}

var anyMark = regexp.MustCompile(`[a-z2-7]{8}/(buoy-00\d/state/\d+)`)

// Whatever the body is made like, what a platform does to messages is found, for
// each message and no other: over MQTT, and compressed over HTTP.
func TestFlawsAreFoundInEveryForm(t *testing.T) {
	t.Parallel()
	set, err := os.ReadFile("../../examples/small/protobuf/state.binpb")
	require.NoError(t, err)
	for form := range bodies {
		for _, c := range []struct {
			link, flaw string
			expected   verdict.Verdict
		}{{"sea", "", verdict.Proven}, {"shore", "", verdict.Proven}, {"sea", "lose", verdict.Lost},
			{"shore", "misfile", verdict.Misfiled}, {"sea", "repeat", verdict.Repeated}, {"sea", "alter", verdict.Altered}} {
			if c.flaw == "alter" && form != "plain" { // the stand-in alters JSON and texts; see the matrix
				continue
			}
			t.Run(form+"/"+c.link+"/"+c.flaw, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				text := formCrowd(form, c.link)
				mark := map[string]string{"template": "mark: .content.head.id", "nested": "mark: .content.mark",
					"batch": "mark: .content.mark", "list": "mark: .content.id"}[form]
				text = strings.NewReplacer("MARK", mark, "SETTLE", "60s").Replace(text)
				if c.expected != verdict.Proven {
					text = strings.ReplaceAll(text, "WAIT", "6s")
				}
				text = strings.ReplaceAll(text, "WAIT", "60s")
				var flaws []standin.Flaw
				if c.flaw != "" {
					flaws = flawsOf(t, c.flaw+"=3")
				}
				var p *played
				var hits []string
				inWorld(t, standin.Config{Flaws: flaws}, func(t *testing.T, w *world) {
					text := strings.NewReplacer("MQTT", w.MQTTAddr, "HTTP", w.HTTPAddr).Replace(text)
					cr, err := file.Parse("forms.yaml", []byte(text),
						file.Sources{Open: func(string) ([]byte, error) { return set, nil }})
					require.NoError(t, err)
					p = playCrowd(t, cr, w.options())
					for _, h := range w.Hits() {
						for _, m := range anyMark.FindAllSubmatch(h.Payload, -1) {
							hits = append(hits, string(m[1]))
						}
					}
				})
				sort.Strings(hits)
				due := p.result.Total.Due()
				assert.Greater(t, due, 40)
				if c.expected == verdict.Proven {
					assert.Equal(t, due, p.result.Total[verdict.Proven], "%+v", p.result.Findings)
					return
				}
				assert.GreaterOrEqual(t, len(hits), 3)
				assert.Equal(t, hits, p.found(c.expected))
				assert.Equal(t, due-len(hits), p.result.Total[verdict.Proven], "%v", p.result.Total)
			})
		}
	}
}

// A run folder keeps what a roster says, but not its secrets, and can be judged
// and heard again without the file.
func TestRunFolderKeepsRosters(t *testing.T) {
	t.Parallel()
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Close()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gauges.csv"),
		[]byte("device,site,token\ngauge-a,north,tok-secret-1\ngauge-b,south,tok-secret-2\n"), 0o600))
	path := filepath.Join(dir, "crowd.yaml")
	require.NoError(t, os.WriteFile(path, []byte(`
crowd: rosters
links: {shore: {http: "http://`+s.HTTPAddr+`", headers: {Authorization: "Bearer ${token}"}}}
kinds: {gauge: {readings: {level: {every: 200ms, path: "/in/${site}/${device}/level", fields: {v: {signal: swell}, site: "${site}"}}}}}
devices: [{kind: gauge, roster: gauges.csv}]
plan: {for: 1s}
witnesses: {store: {proves: stored, get: "http://`+s.HTTPAddr+
		`/stored/${device}", rows: ".rows[]", mark: .content.mark, values: .content}}
`), 0o600))
	cr, err := file.Load(path)
	require.NoError(t, err)
	p := playCrowd(t, cr, run.Options{})
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven])
	require.NoError(t, os.Remove(filepath.Join(dir, "gauges.csv")))
	again, err := run.LoadCopy(p.folder)
	require.NoError(t, err, "the folder's own copy serves")
	assert.Equal(t, 2, again.Casts[0].Count)
	require.NoError(t, filepath.Walk(p.folder, func(path string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		assert.NotContains(t, string(b), "tok-secret", path)
		return err
	}))
}
