//go:build unix

package run_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/certs"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/link"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// certFolder makes the certificates of four buoys and two witnesses.
func certFolder(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	set, err := certs.Make([]string{"buoy-001", "buoy-002", "buoy-003", "buoy-004", "ear", "store"},
		[]string{"localhost", "127.0.0.1"}, time.Now(), time.Hour)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "refused"), 0o755))
	for name, data := range set {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o644)) // a broker that is not root reads them
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	return dir
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return b
}

// securePlatform is a stand-in that speaks TLS with a pair of the folder and
// insists on certificates of the authority.
func securePlatform(t *testing.T, dir, pair string) *standin.StandIn {
	t.Helper()
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", WS: "127.0.0.1:0",
		TLS: insisting(t, dir, pair)})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// insisting is TLS with a pair of the folder that wants certificates of its authority.
func insisting(t *testing.T, dir, pair string) *tls.Config {
	t.Helper()
	server, err := tls.LoadX509KeyPair(filepath.Join(dir, pair+".pem"), filepath.Join(dir, pair+".key"))
	require.NoError(t, err)
	cfg := &tls.Config{Certificates: []tls.Certificate{server}, ClientCAs: x509.NewCertPool(),
		ClientAuth: tls.RequireAndVerifyClientCert}
	cfg.ClientCAs.AppendCertsFromPEM(read(t, filepath.Join(dir, "ca.pem")))
	block, _ := pem.Decode(read(t, filepath.Join(dir, "crl.pem")))
	crl, err := x509.ParseRevocationList(block.Bytes)
	require.NoError(t, err)
	cfg.VerifyConnection = func(s tls.ConnectionState) error {
		if bytes.Equal(s.PeerCertificates[0].SerialNumber.Bytes(), crl.RevokedCertificateEntries[0].SerialNumber.Bytes()) {
			return tls.AlertError(44)
		}
		return nil
	}
	return cfg
}

// secureCrowd sends over one link and reads back over another.
func secureCrowd(t *testing.T, dir, way, ear, store string) *crowd.Crowd {
	t.Helper()
	target := "topic: 'harbour/${device}/state'"
	if strings.Contains(way, "http") {
		target = "path: '/in/harbour/${device}/state'"
	}
	own := `tls: {ca: "` + dir + `/ca.pem", cert: "` + dir + `/${device}.pem", key: "` + dir + `/${device}.key"}`
	text := strings.ReplaceAll(`
crowd: secure
links:
  way: {`+way+`}
  ear: {mqtt: "`+ear+`", timeout: 60s, TLS}
  shore: {http: "`+store+`", TLS}
kinds: {buoy: {link: way, readings: {state: {every: 100ms, `+target+`, fields: {wave_m: {signal: swell, round: 2}}}}}}
devices: [{kind: buoy, count: 4}]
plan: {for: 1500ms}
witnesses:
  ear: {proves: received, subscribe: harbour/#, link: ear, topic: "harbour/${device}/${reading}", wait: 30s}
  store: {proves: stored, get: "`+store+
		`/stored/${device}", link: shore, rows: ".rows[]", next: .next, mark: .content.mark, values: .content, wait: 30s}
`, "TLS", own)
	if strings.HasPrefix(ear, "mqtt://") {
		text = strings.ReplaceAll(text, ", "+own, "")
	}
	c, err := file.Parse("secure.yaml", []byte(text), file.Sources{})
	require.NoError(t, err)
	return c
}

// A subscription has a certificate of its own where those of the link are the devices'.
func TestAWitnessWithACertificateOfItsOwn(t *testing.T) {
	t.Parallel()
	dir := certFolder(t)
	s := securePlatform(t, dir, "server")
	for _, name := range []string{"watcher.pem", "watcher.key"} { // under another name than the witness's
		require.NoError(t, os.Rename(filepath.Join(dir, strings.Replace(name, "watcher", "ear", 1)), filepath.Join(dir, name)))
	}
	text := fmt.Sprintf(`
crowd: secure
links: {way: {mqtt: "mqtts://%[1]s", timeout: 60s, connect_timeout: 60s, tls: {ca: "%[2]s/ca.pem", cert: "%[2]s/${device}.pem", key: "%[2]s/${device}.key"}}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${device}", fields: {a: {signal: counter}}}}}}
devices: [{kind: buoy, count: 4}]
plan: {for: 1s}
witnesses: {ear: {proves: received, subscribe: harbour/#, wait: 30s, cert: "%[2]s/watcher.pem", key: "%[2]s/watcher.key"}}
`, s.MQTTAddr, dir)
	c, err := file.Parse("secure.yaml", []byte(text), file.Sources{})
	require.NoError(t, err)
	p := playCrowd(t, c, run.Options{})
	assert.Greater(t, p.result.Total.Due(), 20)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], p.says())
	_, err = file.Parse("secure.yaml", []byte(strings.Replace(text, "mqtts://", "mqtt://", 1)), file.Sources{})
	require.ErrorContains(t, err, `a certificate goes with mqtts:// and wss://, and the link "way" has neither`)
	c, err = file.Parse("secure.yaml", []byte(strings.NewReplacer(`, cert: "`+dir+`/watcher.pem", key: "`+dir+`/watcher.key"`, "").Replace(text)), file.Sources{})
	if err == nil {
		_, err = open(t, c, run.Options{Out: t.TempDir(), Version: "test"})
	}
	require.ErrorContains(t, err, "ear.pem", "the link's is that of a device of this name, and is not there")
}

// Every transport, each device with a certificate of its own, against a platform
// that insists on it: all is proven, over connections that carry what they say.
func TestTransports(t *testing.T) {
	t.Parallel()
	dir := certFolder(t)
	s := securePlatform(t, dir, "server")
	plain, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", WS: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(plain.Close)
	for way, platform := range map[string]*standin.StandIn{
		`mqtt: "mqtts://MQTT", TLS`: s, `mqtt: "mqtts://MQTT", version: 3.1.1, TLS`: s, `mqtt: "wss://WS/mqtt", TLS`: s,
		`http: "https://HTTP", TLS`:             s,
		`http: "https://HTTP", version: 2, TLS`: s, `http: "https://HTTP", connections: per device, TLS`: s,
		`mqtt: "ws://WS"`: plain, `mqtt: "ws://WS/mqtt", version: 3.1.1`: plain, `http: "http://HTTP", version: 2`: plain,
		`http: "http://HTTP", connections: per device`: plain,
	} {
		t.Run(way, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			crowdAt := func(t *testing.T, at *standin.StandIn) *crowd.Crowd {
				suffix := ""
				if platform == s {
					suffix = "s"
				}
				text := strings.NewReplacer("MQTT", at.MQTTAddr, "WS", at.WSAddr, "HTTP", at.HTTPAddr).Replace(way)
				return secureCrowd(t, dir, text, "mqtt"+suffix+"://"+at.MQTTAddr, "http"+suffix+"://"+at.HTTPAddr)
			}
			p := playCrowd(t, crowdAt(t, platform), run.Options{})
			assert.Greater(t, p.result.Total.Due(), 40)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], p.says())
			events := `plan: {for: 8s, settle: 60s, events: [{at: 300ms, for: 700ms, who: buoy-001, do: {offline: keep}}, {at: 400ms, for: 700ms, who: buoy-002, do: {offline: {how: silent}}}, {at: 300ms, for: 1s, who: buoy-003, do: {network: {delay: 50ms, rate: 256 kbit/s}}}, {at: 6500ms, for: 600ms, who: buoy-004, do: restart}`
			if platform == s { // the others want nothing
				events += `, {at: 500ms, for: 1500ms, who: buoy-004, do: {credential: wrong}, expect: refused}, {at: 2700ms, for: 1500ms, who: buoy-003, do: {credential: none}, expect: refused}`
			}
			cfg := standin.Config{WS: "127.0.0.1:0"}
			if platform == s {
				cfg.TLS = insisting(t, dir, "server")
			}
			inWorld(t, cfg, func(t *testing.T, w *world) {
				c := crowdAt(t, w.StandIn)
				c, err := file.Parse("secure.yaml", []byte(strings.Replace(
					strings.ReplaceAll(string(c.Source), "wait: 30s", "wait: 10s"), "plan: {for: 1500ms}", events+"]}", 1)),
					file.Sources{})
				require.NoError(t, err)
				disturbed := playCrowd(t, c, w.options())
				assert.Equal(t, disturbed.result.Total.Asked(), disturbed.result.Total[verdict.Proven], disturbed.says())
				assert.Greater(t, disturbed.result.Total.Due(), 300)
				if platform == s {
					assert.InDelta(t, 30, disturbed.result.KeptOut, 4)
				}
			})
			for _, name := range []string{"crowd.yaml", "run.json", "ledger"} {
				assert.NotContains(t, string(read(t, filepath.Join(p.folder, name))), "PRIVATE KEY")
			}
			files, _ := filepath.Glob(filepath.Join(p.folder, "files", "*"))
			for _, f := range files {
				assert.NotContains(t, string(read(t, f)), "PRIVATE KEY")
			}
		})
	}
}

// A certificate that has expired is shown, and must be refused: over MQTT and over HTTP.
func TestAnExpiredCertificateIsShown(t *testing.T) {
	t.Parallel()
	dir := certFolder(t)
	for name, c := range map[string]struct{ link, reading string }{
		"MQTT": {`mqtt: "mqtts://MQTT", back_off: 50ms to 200ms`, `topic: "harbour/${device}/state", qos: 1`},
		"HTTP": {`http: "https://HTTP"`, `path: "/in/harbour/${device}/state"`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text := strings.NewReplacer("LINK", c.link, "READING", c.reading, "DIR", dir).Replace(`
crowd: expired
links: {way: {LINK, tls: {ca: "DIR/ca.pem", cert: "DIR/${device}.pem", key: "DIR/${device}.key", ` +
				`expired_cert: "DIR/PAIR.pem", expired_key: "DIR/PAIR.key"}}}
kinds: {buoy: {readings: {state: {every: 100ms, READING, fields: {wave_m: {signal: swell}}}}}}
devices: [{kind: buoy, count: 3, name: "buoy-00${n}"}]
plan: {for: 4s, settle: 20s, events: [{at: 1s, for: 1500ms, who: buoy-001, do: {credential: expired}, expect: refused}]}
`)
			cfg := standin.Config{TLS: insisting(t, dir, "server")}
			inWorld(t, cfg, func(t *testing.T, w *world) {
				p := w.play(t, strings.ReplaceAll(text, "PAIR", "refused/expired"))
				assert.True(t, p.holds(), "%+v %s", p.checks, p.says())
				assert.InDelta(t, 15, p.result.KeptOut, 3, p.says())
				assert.Equal(t, p.result.Total.Asked(), p.result.Total[verdict.Proven], p.says())
			})
			// One that has not expired shows nothing: the event is not done, and that is said.
			inWorld(t, cfg, func(t *testing.T, w *world) {
				p := w.play(t, strings.ReplaceAll(text, "PAIR", "buoy-002"))
				assert.False(t, p.holds())
				assert.Zero(t, p.result.MustNot)
				assert.Contains(t, p.says(), "buoy-002.pem has not expired")
			})
		})
	}
}

// What must not be trusted is not, on either side, and the message says why and
// what to try.
func TestRefusedCertificates(t *testing.T) {
	t.Parallel()
	dir := certFolder(t)
	good := securePlatform(t, dir, "server")
	plain, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", WS: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(plain.Close)
	for _, c := range []struct {
		name, server, client, extra, says, try string
	}{
		{"an authority nobody knows", "server", "buoy-001", "ca: none", "of an authority that is not trusted here (it was " +
			"issued by CN=Run Crowd test authority)", "tls: {ca: FILE}"},
		{"a server's certificate that expired", "refused/server-expired", "buoy-001", "",
			"the platform's certificate expired on", "renew it"},
		{"a server's certificate for another host", "refused/server-wrong-name", "buoy-001", "", "is for " +
			"elsewhere.example, not for 127.0.0.1", "server_name"},
		{"no certificate where one is wanted", "server", "", "", "the platform ended TLS: certificate required",
			"tls: {cert: FILE, key: FILE}"},
		{"a device's certificate that expired", "server", "refused/expired", "", "the platform ended TLS: expired " +
			"certificate", "renew the device's certificate"},
		{"a device's certificate from the future", "server", "refused/not-yet", "", "the platform ended TLS: expired " +
			"certificate", "the platform's clock"},
		{"a device's certificate of a stranger", "server", "refused/stranger", "", "the platform ended TLS: unknown " +
			"certificate authority", "trusts the authority"},
		{"a device's certificate that was revoked", "server", "refused/revoked", "", "the platform ended TLS: bad " +
			"certificate", "has not revoked it"},
		{"a port without TLS", "plain", "buoy-001", "", "", ""},
	} {
		for _, scheme := range []string{"mqtts", "wss", "https"} {
			t.Run(c.name+"/"+scheme, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				s := good
				if c.server == "plain" {
					s = plain
				} else if c.server != "server" {
					s = securePlatform(t, dir, c.server)
				}
				settings := `ca: "` + dir + `/ca.pem"`
				if c.extra != "" {
					settings = "min_version: 1.2"
				}
				if c.client != "" {
					settings += fmt.Sprintf(`, cert: "%s/%s.pem", key: "%s/%s.key"`, dir, c.client, dir, c.client)
				}
				address := map[string]string{"mqtts": s.MQTTAddr, "wss": s.WSAddr, "https": s.HTTPAddr}[scheme]
				key, target := "mqtt", "topic: t"
				if scheme == "https" {
					key, target = "http", "path: /in/t"
				}
				cr, err := file.Parse("x", []byte(fmt.Sprintf("crowd: x\nlinks: {way: {%s: \"%s://%s\", connect_timeout: 3s, "+
					"tls: {%s}}}\nkinds: {b: {readings: {s: {every: 1s, %s, fields: {a: 1}}}}}\ndevices: [{kind: b}]\nplan: "+
					"{for: 1s}\n",
					key, scheme, address, settings, target)), file.Sources{})
				require.NoError(t, err)
				session, err := open(t, cr, run.Options{Out: t.TempDir()})
				if err == nil && scheme == "https" && c.client != "buoy-001" {
					// TLS 1.3 refuses a client behind the handshake, which the first request hears.
					require.NoError(t, session.Play(context.Background()))
					res, err := run.Judge(session.Folder, run.Judging{})
					require.NoError(t, err)
					require.Zero(t, res.Total[verdict.Proven])
					assert.Contains(t, res.Findings[0].Said, c.says)
					return
				}
				var reach *link.ReachError
				require.True(t, errors.As(err, &reach), "%v", err)
				assert.Contains(t, err.Error(), c.says)
				assert.Contains(t, err.Error(), c.try)
				assert.NotContains(t, err.Error(), "x509:")
			})
		}
	}
}

// Mosquitto with TLS, certificates of devices, and WebSocket.
func TestMosquittoTLS(t *testing.T) {
	t.Parallel()
	dir := certFolder(t)
	config := func(client bool) string {
		return fmt.Sprintf("allow_anonymous true\ncafile %s/ca.pem\ncertfile %s/server.pem\nkeyfile "+
			"%s/server.key\nrequire_certificate %v\ncrlfile %s/crl.pem", dir, dir, dir, client, dir)
	}
	settings := `tls: {ca: "` + dir + `/ca.pem", cert: "` + dir + `/${device}.pem", key: "` + dir + `/${device}.key"}`
	for _, c := range []struct{ name, scheme, config, settings string }{
		{"TLS", "mqtts", config(false), `tls: {ca: "` + dir + `/ca.pem"}`},
		{"certificates", "mqtts", config(true), settings},
		{"certificates over WebSocket", "wss", "protocol websockets\n" + config(true), settings},
		{"WebSocket", "ws", "protocol websockets\nallow_anonymous true", ""},
	} {
		for _, version := range []string{"3.1.1", "5"} {
			t.Run(c.name+" "+version, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				m := startMosquitto(t, c.config)
				text := strings.Replace(overMQTT(version, 1, "1500ms"), "mqtt: mqtt://MQTT", `mqtt: "`+c.scheme+`://MQTT"`, 1)
				if c.settings != "" {
					text = strings.Replace(text, "version:", c.settings+", version:", 1)
				}
				text = strings.Replace(text, "count: 20", "count: 4", 1)
				p := playAgainst(t, m.addr, "", text)
				assert.Greater(t, p.result.Total.Due(), 40)
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			})
		}
	}
}

// Mosquitto that wants a user name and a password, and lets a user publish below
// its own name alone: what it refuses is refused, not lost.
func TestMosquittoUsers(t *testing.T) {
	t.Parallel()
	tool, err := exec.LookPath("mosquitto_passwd")
	if err != nil {
		if os.Getenv("RUNCROWD_REAL") != "" {
			t.Fatal("mosquitto_passwd is not installed")
		}
		t.Skip("mosquitto_passwd is not installed")
	}
	dir := certFolder(t)
	users, acl := filepath.Join(dir, "users"), filepath.Join(dir, "acl")
	require.NoError(t, os.WriteFile(users, nil, 0o644))
	for _, u := range []string{"buoy-001", "buoy-002", "buoy-003", "ear"} {
		require.NoError(t, exec.Command(tool, "-b", users, u, "harbour-19").Run())
	}
	require.NoError(t, os.Chmod(users, 0o644))
	require.NoError(t, os.WriteFile(acl, []byte("pattern write harbour/%u/#\nuser ear\ntopic read harbour/#\n"), 0o644))
	m := startMosquitto(t, "allow_anonymous false\npassword_file "+users+"\nacl_file "+acl)
	text := `
crowd: users
links: {sea: {mqtt: "mqtt://` + m.addr + `", username: "${device}", password: "${env.PASSWORD}"}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${n == 3 ? 'buoy-001' : device}/state", fields: {a: {signal: counter}}}}}}
devices: [{kind: buoy, count: 3}]
plan: {for: 1500ms}
witnesses: {ear: {proves: received, subscribe: harbour/#, wait: 10s, who: "n < 3"}}
`
	password := func(p string) *crowd.Crowd {
		c, err := file.Parse("users.yaml", []byte(text), file.Sources{Getenv: func(string) (string, bool) { return p, true }})
		require.NoError(t, err)
		return c
	}
	p := playCrowd(t, password("harbour-19"), run.Options{})
	refused := 0
	for _, f := range p.result.Findings {
		if assert.Equal(t, "buoy-003", f.Device) && assert.Equal(t, "refused", f.Verdict) {
			assert.Contains(t, f.Said, "not authorized")
			refused++
		}
	}
	assert.Greater(t, refused, 10)
	assert.Equal(t, p.result.Total.Due()-refused, p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	_, err = open(t, password("harbour-20"), run.Options{Out: t.TempDir()})
	assert.ErrorContains(t, err, "the broker refused the connection of buoy-001: ")
	assert.ErrorContains(t, err, "check username and password")
	assert.NotContains(t, err.Error(), "harbour-20")
}

// nginx with TLS and certificates of devices in front of the HTTP intake, with
// basic authentication, over HTTP/1.1 and HTTP/2.
func TestNginx(t *testing.T) {
	t.Parallel()
	program, err := exec.LookPath("nginx")
	if err != nil {
		program = "/usr/sbin/nginx"
	}
	if _, err := os.Stat(program); err != nil {
		if os.Getenv("RUNCROWD_REAL") != "" {
			t.Fatal("nginx is not installed")
		}
		t.Skip("nginx is not installed")
	}
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	dir := certFolder(t)
	addr := "127.0.0.1:" + freePort(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), []byte("gauges:{PLAIN}harbour-19\n"), 0o644))
	conf := fmt.Sprintf(`
worker_processes 1; daemon off; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  limit_req_zone $ssl_client_s_dn$server_protocol zone=harbour:1m rate=3r/s;
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server {
    listen %[2]s ssl http2;
    ssl_certificate %[1]s/server.pem; ssl_certificate_key %[1]s/server.key;
    ssl_client_certificate %[1]s/ca.pem; ssl_verify_client on;
    auth_basic harbour; auth_basic_user_file %[1]s/users;
    location / { proxy_pass http://%[3]s; proxy_set_header Authorization ""; }
    location /signed/ {
      auth_basic off; secure_link $arg_md5,$arg_expires; secure_link_md5 "$secure_link_expires$uri of the harbour";
      if ($secure_link = "") { return 403; }
      if ($secure_link = "0") { return 410; }
      proxy_pass http://%[3]s/in/; proxy_set_header Authorization "";
    }
    location /headed/ {
      auth_basic off;
      if ($http_x_token != "harbour-19") { return 403; }
      proxy_pass http://%[3]s/in/;
    }
    location /limited/ {
      limit_req zone=harbour; limit_req_status 429; add_header Retry-After 1 always;
      proxy_pass http://%[3]s/in/; proxy_set_header Authorization "";
    }
  }
}`, dir, addr, s.HTTPAddr)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(conf), 0o644))
	cmd := exec.Command(program, "-c", filepath.Join(dir, "nginx.conf"), "-p", dir)
	var out bytes.Buffer
	cmd.Stderr = &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", addr)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 10*time.Millisecond, "nginx does not listen: %s", &out)
	for _, version := range []string{"1", "2"} {
		t.Run("HTTP/"+version, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			password := func(p string) file.Sources {
				return file.Sources{Getenv: func(string) (string, bool) { return p, true }}
			}
			text := fmt.Sprintf(`
crowd: nginx
links: {shore: {http: "https://%[1]s", timeout: 60s, version: %[2]s, username: gauges, password: "${env.GAUGES_PASSWORD}", tls: {ca: "%[3]s/ca.pem", cert: "%[3]s/${device}.pem", key: "%[3]s/${device}.key"}}}
kinds: {buoy: {readings: {state: {every: 100ms, path: "/in/harbour/${device}/state", fields: {wave_m: {signal: swell}}}}}}
devices: [{kind: buoy, count: 4}]
plan: {for: 1500ms}
witnesses: {store: {proves: stored, get: "https://%[1]s/stored/${device}", link: shore, rows: ".rows[]", next: .next, mark: .content.mark, values: .content}}
`, addr, version, dir)
			c, err := file.Parse("nginx.yaml", []byte(text), password("harbour-19"))
			require.NoError(t, err)
			p := playCrowd(t, c, run.Options{})
			assert.Greater(t, p.result.Total.Due(), 40)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			c, err = file.Parse("nginx.yaml", []byte(text[:strings.Index(text, "witnesses:")]), password("harbour-20"))
			require.NoError(t, err)
			// A rate limit that says when to come back: nothing is refused in the end.
			limited := strings.NewReplacer(`path: "/in/`, `path: "/limited/`, "every: 100ms", "every: 200ms", "{for: 1500ms}",
				"{for: 1500ms, settle: 30s}").Replace(text)
			slow, err := file.Parse("nginx.yaml", []byte(limited), password("harbour-19"))
			require.NoError(t, err)
			p = playCrowd(t, slow, run.Options{})
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			assert.Positive(t, p.result.Resent)
			p = playCrowd(t, c, run.Options{})
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Refused])
			assert.Contains(t, p.result.Findings[0].Said, "401")
		})
	}
	// Tokens that a server of others checks: signed and expiring ones in the address,
	// composed of formulas and renewed on the way, and one in a header.
	tokens := func(link, path, length string) *played {
		c, err := file.Parse("nginx.yaml", []byte(fmt.Sprintf(`
crowd: nginx
links: {shore: {http: "https://%[1]s", timeout: 60s, tls: {ca: "%[2]s/ca.pem", cert: "%[2]s/${device}.pem", key: "%[2]s/${device}.key"}, %[3]s}}
kinds: {buoy: {readings: {state: {every: 100ms, path: "%[4]s", fields: {wave_m: {signal: swell}}}}}}
devices: [{kind: buoy, count: 4}]
plan: {for: %[5]s}
`, addr, dir, link, path, length)), file.Sources{Getenv: func(string) (string, bool) { return "harbour-19", true }})
		require.NoError(t, err)
		return playCrowd(t, c, run.Options{})
	}
	signed := `access_token: {text: "md5=${base64url(digest('md5', text(UNTIL) + '/signed/harbour/' + device + '/state of the harbour'))}&expires=${UNTIL}", valid: 6s}` // a request may take long
	p := tokens(strings.ReplaceAll(signed, "UNTIL", "expiry"), "/signed/harbour/${device}/state?${access_token}", "12s")
	assert.Greater(t, p.result.Total.Due(), 120)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	assert.Greater(t, p.result.Links.Renewed, 4)
	for link, status := range map[string]string{strings.ReplaceAll(signed, "UNTIL", "issued - 60"): "410",
		strings.Replace(strings.ReplaceAll(signed, "UNTIL", "expiry"), "of the harbour", "of another", 1): "403"} {
		p = tokens(link, "/signed/harbour/${device}/state?${access_token}", "500ms")
		assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Refused])
		assert.Contains(t, p.result.Findings[0].Said, status)
	}
	p = tokens(`headers: {X-Token: "${env.TOKEN}"}`, "/headed/harbour/${device}/state", "500ms")
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	p = tokens(`headers: {X-Token: "another"}`, "/headed/harbour/${device}/state", "500ms")
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Refused])
}
