//go:build unix

package run_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// A web server that we did not write ends its connections all the time: by time, and by
// the number of requests. Healthy as it is, nothing is unanswered; what the platform behind
// it loses is found exactly. It redirects, and the message follows where the file says so.
func TestNginxShortKeepAlive(t *testing.T) {
	t.Parallel()
	program, err := exec.LookPath("nginx")
	if err != nil {
		program = "/usr/sbin/nginx"
	}
	if _, err := os.Stat(program); err != nil {
		missing(t, "nginx")
	}
	start := func(t *testing.T, flaws ...standin.Flaw) (*standin.StandIn, map[string]string) {
		s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Flaws: flaws})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		dir := certFolder(t)
		ports := []any{dir, s.HTTPAddr, freePort(t), freePort(t), freePort(t)}
		conf := fmt.Sprintf(`
worker_processes 1; daemon off; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  ssl_certificate %[1]s/server.pem; ssl_certificate_key %[1]s/server.key;
  server { listen 127.0.0.1:%[3]s; keepalive_timeout 20ms; location / { proxy_pass http://%[2]s; } }
  server { listen 127.0.0.1:%[4]s ssl http2; keepalive_timeout 20ms; location / { proxy_pass http://%[2]s; } }
  server { listen 127.0.0.1:%[5]s ssl; keepalive_requests 3;
    location / { proxy_pass http://%[2]s; }
    location ~ ^/moved/(.*)$ { return 307 https://127.0.0.1:%[5]s/in/$1; } }
}`, ports...)
		path := filepath.Join(dir, "nginx.conf")
		require.NoError(t, os.WriteFile(path, []byte(conf), 0o644))
		background(t, exec.Command(program, "-c", path, "-p", dir), ports[2].(string))
		return s, map[string]string{"DIR": dir, "STORE": s.HTTPAddr, "PLAIN": ports[2].(string), "SECOND": ports[3].(string),
			"TLS": ports[4].(string)}
	}
	play := func(t *testing.T, at map[string]string, link, path string, waits ...string) *played {
		text := `
crowd: nginx
links: {shore: {LINK, timeout: TIMEOUT}, store: {http: "http://STORE"}}
kinds: {gauge: {link: shore, readings: {level: {every: 21ms, jitter: 40%, path: "PATH", fields: {level_m: {signal: tide, range: 4.1, round: 3}}}}}}
devices: [{kind: gauge, count: 8}]
plan: {for: 2s, settle: SETTLE}
witnesses: {store: {proves: stored, get: "http://STORE/stored/${device}", link: store, rows: ".rows[]", next: .next, mark: .content.mark, values: .content, wait: WAIT}}
`
		text = strings.NewReplacer("LINK", link, "PATH", path).Replace(text)
		for k, v := range at {
			waits = append(waits, k, v)
		}
		text = strings.NewReplacer(waits...).Replace(text) // in one go: paths have such words in them
		return playAgainst(t, "", "", text)
	}
	const secure = `, tls: {ca: "DIR/ca.pem"}`
	links := map[string]string{
		"ended by time":                 `http: "http://127.0.0.1:PLAIN"`,
		"per device":                    `http: "http://127.0.0.1:PLAIN", connections: per device`,
		"second version, ended by time": `http: "https://127.0.0.1:SECOND", version: 2` + secure,
		"secure, ended by requests":     `http: "https://127.0.0.1:TLS"` + secure,
	}
	for name, link := range links {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			store, at := start(t)
			r := play(t, at, link, "/in/harbour/${device}/level").result
			assert.Greater(t, r.Total.Due(), 600)
			kept, _ := store.Stored()
			if name == "second version, ended by time" {
				// Many requests share a connection. Where it is cut before a busy machine
				// has read an answer, that never came, and the message may go out anew.
				unread := r.Total[verdict.Unacknowledged] + r.Total[verdict.Unknown]
				assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven]+unread, "%v %+v", r.Total, first(r.Findings))
				assert.Less(t, unread, r.Total.Due()/3)
				assert.Equal(t, r.Total.Due()+r.Total[verdict.Unknown], kept, "who made a copy is not known")
				return
			}
			assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven], "%v %+v", r.Total, first(r.Findings))
			assert.Equal(t, r.Proofs[0].Asked, r.Proofs[0].AsSent)
			assert.Equal(t, r.Total.Due(), kept, "each is stored once, however often it was sent")
		})
	}
	t.Run("redirects", func(t *testing.T) {
		t.Parallel()
		_, at := start(t)
		r := play(t, at, links["secure, ended by requests"], "/moved/harbour/${device}/level").result
		assert.Equal(t, r.Total.Due(), r.Total[verdict.Refused])
		assert.Contains(t, r.Findings[0].Said, "307 Temporary Redirect: it sends on to https://127.0.0.1:"+at["TLS"]+
			"/in/harbour/gauge-001/level")
		r = play(t, at, links["secure, ended by requests"]+", redirects: follow", "/moved/harbour/${device}/level").result
		assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven], "%v %+v", r.Total, first(r.Findings))
	})
	for _, flaw := range []struct {
		name string
		want verdict.Verdict
	}{{"lose", verdict.Lost}, {"alter", verdict.Altered}, {"repeat", verdict.Repeated}, {"misfile", verdict.Misfiled},
		{"mute", verdict.Unacknowledged}, {"refuse", verdict.Refused}, {"cut", verdict.Refused} /* nginx says 502 */} {
		t.Run(flaw.name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			share := "=5%"
			if flaw.want == verdict.Unacknowledged { // a device waits for each of them in turn
				share = "=1%"
			}
			f, err := standin.ParseFlaw(flaw.name + share)
			require.NoError(t, err)
			s, at := start(t, f)
			waits := map[verdict.Verdict][]string{verdict.Lost: {"WAIT", "8s"}, verdict.Unacknowledged: {"TIMEOUT", "5s"},
				verdict.Refused: {"WAIT", "20s"}}[flaw.want]
			p := play(t, at, links["ended by time"], "/in/harbour/${device}/level", waits...)
			require.NotEmpty(t, s.Hits())
			if flaw.want == verdict.Repeated {
				// Where rows have no identity of their own, or a message was sent again on
				// a new connection, it may be unknown who made the copy.
				found := append(p.found(flaw.want), p.found(verdict.Unknown)...)
				slices.Sort(found)
				assert.Equal(t, hitsOf(t, s), found, "%v", p.result.Total)
				assert.NotEmpty(t, p.found(flaw.want))
				return
			}
			assert.Equal(t, hitsOf(t, s), p.found(flaw.want), "%v", p.result.Total)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven]+p.result.Total[flaw.want], "%v %+v",
				p.result.Total, first(others(p, flaw.want)))
		})
	}
}

// first are the first few findings, where there are many.
func first(list []verdict.Finding) []verdict.Finding { return list[:min(len(list), 3)] }

// others are the findings that were not meant to be there.
func others(p *played, meant verdict.Verdict) (list []verdict.Finding) {
	for _, f := range p.result.Findings {
		if f.Verdict != meant.String() {
			list = append(list, f)
		}
	}
	return list
}
