package cli_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
)

// gossip is a platform that tells whatever it was shown, in every form, to everybody.
func gossip(t *testing.T) (broker, web string) {
	forms := func(s string) string {
		quoted, _ := json.Marshal(s)
		return fmt.Sprint(s, " ", url.QueryEscape(s), " ", string(quoted), " ", base64.StdEncoding.EncodeToString([]byte(s)),
			" ", base64.URLEncoding.EncodeToString([]byte("user:"+s)))
	}
	var asked atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		user, password, _ := r.BasicAuth()
		said := fmt.Sprintf("%s %s %s %s %s %s", forms(r.Header.Get("Authorization")), forms(r.Header.Get("X-Write-Key")),
			forms(password), user, r.URL.RawQuery, body)
		switch {
		case r.URL.Path == "/register/list":
			io.WriteString(w, `{"names": []}`)
			return
		case strings.HasPrefix(r.URL.Path, "/register/") && r.Method == http.MethodPost &&
			(asked.Add(1) > 92 || !strings.HasSuffix(r.URL.Path, "-2")):
			fmt.Fprintf(w, `{"token": "made-for-%s-secret", "said": %q}`, filepath.Base(r.URL.Path), said)
			return
		case strings.HasPrefix(r.URL.Path, "/register/") && strings.HasSuffix(r.URL.Path,
			"2"): // to register, and to unregister
			w.WriteHeader(http.StatusConflict)
		case strings.HasPrefix(r.URL.Path, "/stored/"):
			json.NewEncoder(w).Encode(map[string]any{"rows": []any{}, "said": said})
			return
		case strings.HasPrefix(r.URL.Path, "/moved"):
			w.Header().Set("Location", "/elsewhere?"+r.URL.RawQuery+"&auth="+url.QueryEscape(r.Header.Get("Authorization")))
			w.WriteHeader(http.StatusTemporaryRedirect)
		case strings.HasPrefix(r.URL.Path, "/in/"):
			w.WriteHeader(http.StatusForbidden)
		}
		// The secret may stand just where a text is clipped.
		io.WriteString(w, strings.Repeat("x", len(r.URL.Path)*7%90)+" "+said)
	}))
	t.Cleanup(srv.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			nc, err := l.Accept()
			if err != nil {
				return
			}
			go talk(nc, forms)
		}
	}()
	return l.Addr().String(), srv.Listener.Addr().String()
}

// talk is a broker that lets some in, and answers all with what they have shown.
func talk(nc net.Conn, forms func(string) string) {
	defer nc.Close()
	p := brokertest.Serve(nc, 5)
	shown := ""
	for {
		pk, err := p.Read()
		if err != nil {
			return
		}
		answer := packets.Packet{PacketID: pk.PacketID}
		answer.Mods.AllowResponseInfo = true
		switch pk.FixedHeader.Type {
		case packets.Connect:
			shown = forms(string(pk.Connect.Password)) + " " + forms(string(pk.Connect.Username))
			answer.FixedHeader.Type = packets.Connack
			if strings.HasSuffix(pk.Connect.ClientIdentifier, "3") {
				answer.ReasonCode = 0x87
			}
		case packets.Publish:
			answer.FixedHeader.Type, answer.ReasonCode = packets.Puback, 0x97
		case packets.Subscribe:
			answer.FixedHeader.Type, answer.ReasonCodes = packets.Suback, []byte{0x87}
		default:
			return
		}
		answer.Properties.ReasonString = shown
		p.Reply(answer)
	}
}

// All secrets of a crowd are known here, and nothing that the program leaves or prints
// holds one: whatever a platform echoes, and in whatever form.
func TestNoSecretIsLeftOrPrinted(t *testing.T) {
	t.Parallel()
	broker, web := gossip(t)
	dir := t.TempDir()
	var secrets []string
	secret := func(format string, args ...any) string {
		s := fmt.Sprintf(format, args...)
		secrets = append(secrets, s)
		return s
	}
	var roster strings.Builder
	roster.WriteString("device,site,WriteKey,pw\n")
	for i := 1; i <= 40; i++ {
		fmt.Fprintf(&roster, "gauge-%d,outer,%s,%s\n", i, secret(`Wk+%d/%%7&q`, i*7919), secret("pw %d ü", i*104729))
	}
	for i := 1; i <= 6; i++ {
		secret("made-for-buoy-%d-secret", i)
	}
	env := append(os.Environ(), "SEA_PASSWORD="+secret("p@ss:w/rd?%d", 1), "SHORE_TOKEN="+secret("tok en&1=2"))
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("gauges.csv", roster.String())
	literal, query := secret("literal-in-the-file-5"), secret("k3y-in-the-address")
	write("harbour.yaml", strings.NewReplacer("BROKER", broker, "WEB", web).Replace(`
crowd: harbour
links:
  sea: {mqtt: "mqtt://BROKER", username: me, password: "${env.SEA_PASSWORD}-${device}", back_off: 10ms to 20ms, connect_timeout: 500ms}
  wide: {mqtt: "mqtt://BROKER", client_id: "w-${device}", username: "${device}", password: "${token}", back_off: 10ms to 20ms}
  shore: {http: "http://WEB", headers: {Authorization: "Bearer ${env.SHORE_TOKEN}", X-Write-Key: "${WriteKey}"}, back_off: 10ms to 20ms, retries: 0}
  basic: {http: "http://WEB", username: "${device}", password: "${pw}", back_off: 10ms to 20ms, retries: 0}
  fixed: {http: "http://WEB", headers: {Authorization: "Bearer `+literal+`"}, retries: 0, redirects: follow}
kinds:
  buoy: {link: sea, readings: {state: {every: 100ms, qos: 1, topic: "harbour/${device}", fields: {a: 1}}}}
  float: {link: wide, readings: {state: {every: 100ms, qos: 1, topic: "harbour/${device}", fields: {a: 1}}}}
  gauge: {link: shore, readings: {level: {every: 100ms, path: "/in/${device}", fields: {a: 1}}}}
  dial: {link: basic, readings: {level: {every: 100ms, path: "/in/${device}", fields: {a: 1}}}}
  lock: {link: fixed, readings: {level: {every: 100ms, path: "/moved/${device}?api_key=`+query+`", fields: {a: 1}}}}
devices:
  - {kind: buoy, count: 4, name: "ship-${n}"}
  - {kind: float, count: 6, name: "buoy-${n}"}
  - {kind: gauge, roster: gauges.csv}
  - {kind: dial, roster: gauges.csv, name: "dial-${n}"}
  - {kind: lock, count: 2}
register:
  link: fixed
  request: {url: "http://WEB/register/${device}"}
  save: {token: .token}
  pace: 1000/s
  list: {get: "http://WEB/register/list?key=`+query+`", names: ".names[]?"}
  unregister: {url: "http://WEB/register/${device}"}
plan: {for: 500ms, settle: 1s}
witnesses:
  store: {proves: stored, get: "http://WEB/stored/${device}?key=`+query+`", headers: {Authorization: "Bearer `+literal+
		`"}, rows: ".rows[]", timeout: 500ms, wait: 500ms}
`))
	// What there is of each before: that is the user's own.
	var printed bytes.Buffer
	run := func(args ...string) {
		cmd := exec.Command(os.Args[0], args...)
		// The test binary plays the program where its name is the program's.
		cmd.Args[0], cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = "runcrowd", dir, env, &printed, &printed
		fmt.Fprintf(&printed, "\n$ %s\n", strings.Join(args, " "))
		err := cmd.Run()
		fmt.Fprintf(&printed, "-> %v\n", err)
	}
	run("check", "harbour.yaml")
	run("register", "harbour.yaml")
	run("register", "harbour.yaml")
	run("probe", "harbour.yaml")
	run("preview", "harbour.yaml", "--who", "gauge-1")
	run("send", "harbour.yaml", "gauge-3", "a=5")
	run("send", "harbour.yaml", "ship-3", "a=5")
	run("run", "harbour.yaml", "--out", "runs")
	run("roster", "harbour.yaml")
	run("unregister", "harbour.yaml")
	runs, _ := filepath.Glob(filepath.Join(dir, "runs", "*"))
	assert.NotEmpty(t, runs)
	assert.Greater(t, strings.Count(printed.String(), "«secret»"), 10, "the platform has told nothing")
	for _, r := range runs {
		run("verify", r)
	}
	if testing.Verbose() {
		t.Log(printed.String())
	}
	look := func(where string, text []byte) {
		for _, s := range secrets {
			for _, form := range []string{s, url.QueryEscape(s), url.PathEscape(s),
				base64.StdEncoding.EncodeToString([]byte(s)), s[:len(s)*2/3]} {
				assert.NotContains(t, string(text), form, "%s holds a secret: %s", where, s)
			}
		}
	}
	look("what was printed", printed.Bytes())
	own := map[string]bool{"harbour.yaml": true, "gauges.csv": true, "harbour.registered.jsonl": true,
		"harbour.registered.jsonl.lock": true}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, _ := filepath.Rel(dir, path)
		info, err := d.Info()
		if assert.NoError(t, err) && strings.HasPrefix(name, "runs") {
			assert.Zero(t, info.Mode()&0o077, "%s is not its owner's alone", name)
		}
		if own[name] {
			return nil
		}
		text, err := os.ReadFile(path)
		look(name, text)
		return err
	}))
}
