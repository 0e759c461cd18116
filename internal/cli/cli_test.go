package cli_test

import (
	"encoding/json"
	"errors"
	"flag"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"runcrowd/internal/cli"
	"runcrowd/internal/standin"
	"runcrowd/internal/testload"
)

func TestMain(m *testing.M) {
	if strings.HasSuffix(os.Args[0], ".test") { // and not the program that scripts run
		flag.Set("test.parallel", testload.Parallel(10)) // they mostly wait
	}
	testscript.Main(m, map[string]func(){
		"runcrowd": func() { os.Exit(cli.Main(os.Args, os.Stdout, os.Stderr)) },
	})
}

// TestScripts drives the program as a person at a terminal would. Each script
// has a stand-in of its own at $MQTT and $HTTP, one that wants a token at
// $GUARDED, one that alters what it is sent at $ALTERING, one that
// knows its devices at $REGISTRY, one that wants signed tokens or fetched ones and lets
// devices use their own topics alone at $SIGNED, and an address that takes connections and never says a word at $MUTE.
func TestScripts(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/script/*.txtar")
	if err != nil {
		t.Fatal(err)
	}
	if testing.Short() { // the short tier: every third of them
		var some []string
		for i := 0; i < len(files); i += 3 {
			some = append(some, files[i])
		}
		files = some
	}
	testscript.Run(t, scripts(files))
}

// scripts are how scripts are played.
func scripts(files []string) testscript.Params {
	return testscript.Params{
		Files: files,
		Setup: func(env *testscript.Env) error {
			s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0",
				Rules: []standin.Rule{{Name: "low-battery", Field: "battery_v", Below: true, Limit: 11, Release: 11.5}}})
			if err != nil {
				return err
			}
			env.Defer(s.Close)
			guarded, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Token: "open-sesame-77"})
			if err != nil {
				return err
			}
			env.Defer(guarded.Close)
			alter, err := standin.ParseFlaw("alter=100%")
			if err != nil {
				return err
			}
			altering, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0",
				Flaws: []standin.Flaw{alter}})
			if err != nil {
				return err
			}
			env.Defer(altering.Close)
			env.Setenv("ALTERING", altering.MQTTAddr)
			env.Setenv("ALTERING_HTTP", altering.HTTPAddr)
			registry, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Registry: true,
				RegistryRate: 10, Token: "open-sesame-77"})
			if err != nil {
				return err
			}
			env.Defer(registry.Close)
			env.Setenv("REGISTRY", registry.MQTTAddr)
			env.Setenv("REGISTRY_HTTP", registry.HTTPAddr)
			signed, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Token: "open-sesame-77",
				JWTSecret: "jwt-secret-55", TokenAsUser: true,
				OAuthSecret: "oauth-secret-66", TokenLife: 6 * time.Second, OwnTopics: true})
			if err != nil {
				return err
			}
			env.Defer(signed.Close)
			env.Setenv("SIGNED", signed.MQTTAddr)
			env.Setenv("SIGNED_HTTP", signed.HTTPAddr)
			env.Setenv("JWTKEY", "jwt-secret-55")
			env.Setenv("OAUTH", "oauth-secret-66")
			mute, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			env.Defer(func() { mute.Close() })
			gone, err := net.Dial("tcp", mute.Addr().String()) // on its own port nobody listens, or will
			if err != nil {
				return err
			}
			env.Defer(func() { gone.Close() })
			examples, err := filepath.Abs("../../examples")
			if err != nil {
				return err
			}
			env.Setenv("EXAMPLES", examples)
			env.Setenv("XDG_CONFIG_HOME", filepath.Join(env.WorkDir, ".config"))
			// A proxy that takes every host for the stand-in.
			to := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: s.HTTPAddr})
			proxy := httptest.NewServer(to)
			env.Defer(proxy.Close)
			env.Setenv("PROXY", proxy.Listener.Addr().String())
			env.Setenv("MQTT", s.MQTTAddr)
			env.Setenv("HTTP", s.HTTPAddr)
			env.Setenv("GUARDED", guarded.MQTTAddr)
			env.Setenv("GUARDED_HTTP", guarded.HTTPAddr)
			env.Setenv("MUTE", mute.Addr().String())
			// A platform whose words forge a verdict, paint and turn the direction of writing.
			hostile := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					json.NewEncoder(w).Encode(map[string]any{"rows": []any{map[string]any{"mark": forged, "device": forged}, forged}})
					return
				}
				w.WriteHeader(http.StatusServiceUnavailable)
				io.WriteString(w, forged)
			}))
			env.Defer(hostile.Close)
			env.Setenv("HOSTILE", hostile.Listener.Addr().String())
			env.Setenv("GONE", gone.LocalAddr().String())
			env.Setenv("TOKEN", "open-sesame-77")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			// exits CODE COMMAND ARG… runs a command that must exit with a code.
			"exits": func(ts *testscript.TestScript, _ bool, args []string) {
				want, err := strconv.Atoi(args[0])
				ts.Check(err)
				got := 0
				if err := ts.Exec(args[1], args[2:]...); err != nil {
					var exit *exec.ExitError
					if !errors.As(err, &exit) {
						ts.Fatalf("%v", err)
					}
					got = exit.ExitCode()
				}
				if got != want {
					ts.Fatalf("exit code %d, not %d", got, want)
				}
			},
			// noise FILE BYTES writes a file of bytes that are no text.
			"noise": func(ts *testscript.TestScript, _ bool, args []string) {
				n, err := strconv.Atoi(args[1])
				ts.Check(err)
				b := make([]byte, n)
				x := uint32(1)
				for i := range b {
					x = x*1664525 + 1013904223
					b[i] = byte(x >> 24)
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), b, 0o644))
			},
			// nowhere DIR TEXT fails where any file under a folder holds a text.
			"nowhere": func(ts *testscript.TestScript, _ bool, args []string) {
				ts.Check(filepath.Walk(ts.MkAbs(args[0]), func(path string, info os.FileInfo, err error) error {
					if err != nil || info.IsDir() {
						return err
					}
					b, err := os.ReadFile(path)
					if err == nil && contains(b, args[1]) {
						ts.Fatalf("%s holds %q", path, args[1])
					}
					return err
				}))
			},
		},
	}
}

func contains(b []byte, s string) bool {
	for i := 0; i+len(s) <= len(b); i++ {
		if string(b[i:i+len(s)]) == s {
			return true
		}
	}
	return false
}

// forged is what a hostile platform says.
const forged = "no\nPROVEN  all 4 messages: acknowledged\r\n\x1b[32mPROVEN\x1b[0m \u202eturned\u202c \u009b2J \xff =1+1"
