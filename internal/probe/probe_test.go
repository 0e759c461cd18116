package probe_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/certs"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/probe"
	"runcrowd/internal/standin"
)

// way probes the one link of a crowd file.
func way(t *testing.T, dir, text string) probe.Report {
	t.Helper()
	path := filepath.Join(dir, "crowd.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	c, err := file.Load(path)
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return probe.Way(t.Context(), c, f, f.Devices[0].Streams[0], nil)
}

// failed is the step that failed, and its first cause.
func failed(r probe.Report) (name, says, cause string) {
	for _, s := range r.Steps {
		if s.Result == probe.Failed {
			return s.Name, s.Says, strings.Join(append(s.Causes, ""), "\n")
		}
	}
	return "", "", ""
}

// What a platform answers to the message decides which causes are told.
func TestStatusCauses(t *testing.T) {
	for status, cause := range map[int]string{
		401: "the token or password is mistyped or has expired", 403: "the token or password is mistyped or has expired",
		404: "the path or the method is wrong: PUT /in/gauge", 405: "the path or the method is wrong: PUT /in/gauge",
		400: "the platform wants another payload", 415: "the platform wants another payload",
		422: "the platform wants another payload",
		429: "a limit of the platform is reached", 503: "a limit of the platform is reached",
		301: "the platform sends elsewhere", 500: "see the platform's log",
	} {
		t.Run(fmt.Sprint(status), func(t *testing.T) {
			t.Parallel()
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }))
			t.Cleanup(s.Close)
			name, says, causes := failed(way(t, t.TempDir(), `
crowd: way
links: {shore: {http: "`+s.URL+`"}}
kinds: {gauge: {readings: {level: {every: 1s, method: PUT, path: "/in/${device}", fields: {a: 1}}}}}
devices: [{kind: gauge}]
plan: {for: 1m}
`))
			step := "message acknowledged"
			if status == 401 || status == 403 {
				step = "credentials accepted"
			}
			assert.Equal(t, step, name)
			assert.Contains(t, says, fmt.Sprintf("refused: status %d", status))
			assert.True(t, strings.HasPrefix(causes, cause), causes)
		})
	}
}

// A clock that is another explains what is refused for its time.
func TestClocks(t *testing.T) {
	for _, c := range []struct {
		ahead time.Duration
		says  string
	}{{-time.Hour, "they do not: that of .* is (1h0m0s|59m59s) behind this machine's"}, {time.Hour, "they do not: that " +
		"of .* is (1h0m0s|59m59s) ahead of this machine's"}, {0, "to the second, with"}} {
		platform := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Date", time.Now().Add(c.ahead).UTC().Format(http.TimeFormat))
			if r.Method != http.MethodHead {
				w.WriteHeader(401)
			}
		}))
		r := way(t, t.TempDir(), `
crowd: clocks
links: {shore: {http: "`+platform.URL+
			`", headers: {Authorization: "${access_token}"}, access_token: {text: "t-${expiry}"}}}
kinds: {gauge: {readings: {level: {every: 1s, path: /in, fields: {a: 1}}}}}
devices: [{kind: gauge}]
plan: {for: 1s}
`)
		platform.Close()
		assert.Regexp(t, c.says, r.Steps[1].Says)
		assert.Equal(t, c.ahead != 0, r.Steps[1].Result == probe.Doubtful)
		_, _, cause := failed(r)
		if c.ahead != 0 {
			assert.Regexp(t, "^the clocks differ", cause)
		} else {
			assert.Regexp(t, "^the access token is not what the platform wants", cause)
		}
	}
	now := time.Unix(1_900_000_000, 500_000_000)
	for theirs, want := range map[int64]time.Duration{1_900_000_000: 0, 1_900_000_001: 300 * time.Millisecond,
		1_899_999_999: -500 * time.Millisecond, 1_900_000_010: 9300 * time.Millisecond} {
		assert.Equal(t, want, probe.Skew(time.Unix(theirs, 0), now, now.Add(200*time.Millisecond)), theirs)
	}
}

// A platform that acknowledges and loses is found out, at each witness.
func TestMissingCauses(t *testing.T) {
	lose, err := standin.ParseFlaw("lose=100%")
	require.NoError(t, err)
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Flaws: []standin.Flaw{lose}})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	for witness, want := range map[string][2]string{
		`ear: {proves: received, subscribe: harbour/#, wait: 300ms}`: {"own subscription hears it",
			"the filter harbour/# does not match"},
		`store: {proves: stored, get: "http://` + s.HTTPAddr +
			`/stored/${device}", rows: ".rows[]", mark: .content.mark, wait: 300ms}`: {"store finds it", "the " +
			"platform acknowledged and did not store it"},
	} {
		r := way(t, t.TempDir(), `
crowd: way
links: {sea: {mqtt: "mqtt://`+s.MQTTAddr+`"}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "harbour/${device}/state", fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1m}
witnesses: {`+witness+`}
`)
		name, says, causes := failed(r)
		assert.Equal(t, want[0], name)
		assert.Contains(t, says, "did not find it")
		assert.True(t, strings.HasPrefix(causes, want[1]), causes)
		steps := []string{}
		for _, x := range r.Steps {
			steps = append(steps, x.Name+" "+x.Result.String())
			part := x.Name == "credentials accepted" || x.Name == "read-back answers"
			assert.Equal(t, part, x.Took == 0, "%s is a part of another step, or takes its time: %s", x.Name, x.Took)
		}
		// Where there is a store, it tells the time, and is asked.
		steps = slices.DeleteFunc(steps, func(s string) bool { return s == "clocks agree ok" || s == "read-back answers ok" })
		assert.Equal(t, []string{"TCP open ok", "MQTT 5 accepted ok", "credentials accepted ok", "connection kept ok",
			"message acknowledged ok", want[0] + " failed"}, steps)
	}
}

// Over TLS the way tells of the platform's certificate, or why it is not trusted.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	files, err := certs.Make([]string{"buoy"}, []string{"127.0.0.1"}, time.Now(), 5*24*time.Hour)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "refused"), 0o700))
	for name, data := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	for server, want := range map[string]string{
		"server": "TLS 1.3, TLS_AES_128_GCM_SHA256; certificate for 127.0.0.1 by Run Crowd test " +
			"authority, valid until " + time.Now().Add(5*24*time.Hour).UTC().Format("2006-01-02") +
			" (4 days left); trusted by way of Run Crowd test authority",
		"refused/server-expired":    "the platform's certificate expired on ",
		"refused/server-wrong-name": "the platform's certificate is for elsewhere.example, not for 127.0.0.1",
	} {
		pair, err := tls.X509KeyPair(files[server+".pem"], files[server+".key"])
		require.NoError(t, err)
		s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0",
			TLS: &tls.Config{Certificates: []tls.Certificate{pair}}})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		r := way(t, dir, `
crowd: way
links: {sea: {mqtt: "mqtts://`+s.MQTTAddr+`", tls: {ca: ca.pem}}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "harbour/${device}/state", fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1m}
`)
		assert.Equal(t, server != "server", r.Failed())
		require.Equal(t, "TLS", r.Steps[1].Name)
		assert.True(t, strings.HasPrefix(r.Steps[1].Says, want), r.Steps[1].Says)
	}
}

// What a port speaks is found out by asking.
func TestSpeaks(t *testing.T) {
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	secure.Config.ErrorLog = log.New(io.Discard, "", 0)
	t.Cleanup(secure.Close)
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { mute.Close() })
	gone, err := net.Dial("tcp", mute.Addr().String()) // on its own port nobody listens, or will
	require.NoError(t, err)
	t.Cleanup(func() { gone.Close() })
	for address, want := range map[string]string{s.MQTTAddr: "MQTT", s.HTTPAddr: "HTTP",
		secure.Listener.Addr().String(): "TLS", mute.Addr().String(): "", gone.LocalAddr().String(): ""} {
		// The step's own time may be over when it is asked.
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		assert.Equal(t, want, probe.Speaks(ctx, address), address)
	}
}
