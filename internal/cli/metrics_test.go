package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	names "github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/standin"
)

// While a run plays, Prometheus' own parser reads its metrics; and the log has a line of JSON
// for each thing that happened.
func TestMetricsAndLog(t *testing.T) {
	t.Parallel()
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	taken := l.Addr().String()
	dir := t.TempDir()
	path, log := filepath.Join(dir, "crowd.yaml"), filepath.Join(dir, "log.jsonl")
	require.NoError(t, os.WriteFile(path, []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://`+s.MQTTAddr+`"}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${device}/state", qos: 1, fields: {a: {signal: counter}}}}}}
devices: [{kind: buoy, count: 3}]
plan: {for: 3s, events: [{at: 1s, for: 500ms, who: 1 of buoy, do: {offline: keep}}]}
witnesses: {ear: {proves: received, subscribe: "harbour/#"}}
`), 0o600))
	var out, said bytes.Buffer
	args := []string{"runcrowd", "run", path, "-q", "--out", filepath.Join(dir, "runs"), "--log", log, "--metrics", taken}
	assert.Equal(t, exitWrong, Main(args, &out, &said))
	assert.Contains(t, said.String(), "--metrics: cannot listen at "+taken)
	require.NoError(t, l.Close())
	said.Reset()
	done := make(chan int)
	go func() { done <- Main(args, &out, &said) }()
	get := func(path string) string {
		resp, err := http.Get("http://" + taken + path)
		if err != nil {
			return ""
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return string(b)
	}
	var text string
	require.Eventually(t, func() bool {
		text = get("/metrics")
		return strings.Contains(text, "runcrowd_connections_lost_total 1") &&
			strings.Contains(text, `runcrowd_witness_found_total{witness="ear",proves="received"} `)
	}, 20*time.Second, 20*time.Millisecond, "%s", &said)
	assert.Contains(t, get("/healthz"), "ok, ")
	for host, want := range map[string]int{"localhost": 200, "localhost:" + taken[strings.LastIndexByte(taken, ':')+1:]: 200,
		taken: 200, "[::1]:1": 200, "evil.example": 403, "127.0.0.1.evil.example": 403, "192.0.2.1": 403} {
		req, err := http.NewRequest("GET", "http://"+taken+"/metrics", nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, host)
	}
	p := expfmt.NewTextParser(names.UTF8Validation)
	families, err := p.TextToMetricFamilies(strings.NewReader(text))
	require.NoError(t, err)
	for name, f := range families {
		assert.NotEmpty(t, f.GetHelp(), name)
		assert.Regexp(t, `^runcrowd_[a-z_]+$`, name)
		assert.Equal(t, strings.HasSuffix(name, "_total"), f.GetType().String() == "COUNTER", name)
		for _, m := range f.Metric {
			for _, label := range m.Label {
				assert.NotEqual(t, "device", label.GetName())
			}
		}
	}
	h := families["runcrowd_acknowledged_seconds"].Metric[0].Histogram
	assert.Positive(t, h.GetSampleCount())
	last := h.Bucket[len(h.Bucket)-1]
	assert.LessOrEqual(t, last.GetCumulativeCount(), h.GetSampleCount())
	assert.Equal(t, 0, <-done, "%s", &said)
	assert.Empty(t, get("/healthz"), "it is gone with the run")

	b, err := os.ReadFile(log)
	require.NoError(t, err)
	seen := map[string]int{}
	for line := range bytes.Lines(b) {
		var e struct{ Level, Msg, Device string }
		require.NoError(t, json.Unmarshal(line, &e))
		seen[e.Level+" "+e.Msg]++
	}
	assert.Equal(t, 1, seen["INFO the run begins"])
	assert.Equal(t, 1, seen["INFO the run is over"])
	assert.Equal(t, 1, seen["INFO witness heard"])
	assert.GreaterOrEqual(t, seen["INFO connected"], 4)
}
