//go:build unix

package run_test

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// mosquitto is a broker that we did not write.
type mosquitto struct {
	t       *testing.T
	program string
	config  string
	addr    string
	cmd     *exec.Cmd
}

// startMosquitto starts a broker on a free loopback port. Where the program is
// missing the test is skipped, unless RUNCROWD_REAL says that it must be there.
func startMosquitto(t *testing.T, config string) *mosquitto {
	t.Helper()
	program, err := exec.LookPath("mosquitto")
	if err != nil {
		program = "/usr/sbin/mosquitto"
		if _, err := os.Stat(program); err != nil {
			if os.Getenv("RUNCROWD_REAL") != "" {
				t.Fatal("mosquitto is not installed; test.sh installs it")
			}
			t.Skip("mosquitto is not installed")
		}
	}
	dir, port := t.TempDir(), freePort(t)
	bind := " 127.0.0.1"
	if strings.Contains(config, "websockets") {
		// Its WebSocket library takes the name of an interface here, and without
		// another listener this version does not start.
		bind = ""
		config += fmt.Sprintf("\nlistener 0 %s", filepath.Join(dir, "unused"))
	}
	// Not 0, no limit: with that, this version closes the connection of a client
	// after each publish that its access list denies.
	text := fmt.Sprintf("listener %s%s\n%s\nmax_queued_messages 1000000\n", port, bind, config)
	if os.Getuid() == 0 {
		text += "user root\n" // it would change to a user that cannot read the folder
	}
	m := &mosquitto{t: t, program: program, config: filepath.Join(dir, "broker.conf"), addr: "127.0.0.1:" + port}
	require.NoError(t, os.WriteFile(m.config, []byte(text), 0o600))
	m.start()
	t.Cleanup(m.stop)
	return m
}

func (m *mosquitto) start() {
	m.cmd = exec.Command(m.program, "-c", m.config)
	said, err := m.cmd.StderrPipe()
	require.NoError(m.t, err)
	require.NoError(m.t, m.cmd.Start())
	lines := bufio.NewScanner(said)
	for lines.Scan() { // what answers at the port could be another's
		if strings.HasSuffix(lines.Text(), " running") {
			go io.Copy(io.Discard, said)
			return
		}
	}
	m.t.Fatal("the broker does not run")
}

func (m *mosquitto) stop() {
	if m.cmd != nil {
		m.cmd.Process.Signal(syscall.SIGTERM)
		m.cmd.Wait()
		m.cmd = nil
	}
}

// overMQTT is a crowd of one kind that a subscription watches.
func overMQTT(version string, qos int, length string) string {
	return fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: mqtt://MQTT, version: %s, back_off: 300ms to 1s, connect_timeout: 60s}}
kinds:
  buoy:
    readings:
      state:
        every: 100ms
        topic: harbour/${device}/state
        qos: %d
        fields: {wave_m: {signal: swell, round: 2}, at: {signal: clock}}
devices: [{kind: buoy, count: 20}]
plan: {for: %s, settle: 60s, join: spread over 200ms}
witnesses: {ear: {proves: received, subscribe: harbour/#, wait: WAIT}}
`, version, qos, length)
}

func TestMosquitto(t *testing.T) {
	t.Parallel()
	for _, version := range []string{"3.1.1", "5"} {
		for qos := range 3 {
			t.Run(fmt.Sprintf("version %s QoS %d", version, qos), func(t *testing.T) {
				fewer(t)
				t.Parallel()
				m := startMosquitto(t, "allow_anonymous true")
				p := playAgainst(t, m.addr, "", overMQTT(version, qos, "2s"))
				assert.Greater(t, p.result.Total.Due(), 300)
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
				assert.True(t, p.holds())
				assert.Zero(t, p.result.Resent)
			})
		}
	}
}

// Bodies that are no JSON, and several messages in one, through a broker that we
// did not write, with and without a content type.
func TestMosquittoForms(t *testing.T) {
	t.Parallel()
	for _, version := range []string{"3.1.1", "5"} {
		for _, form := range []string{"payload: senml-cbor", "payload: cbor\n        batch: 4",
			"payload: {form: csv, head: true}"} {
			t.Run(version+" "+form, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				m := startMosquitto(t, "allow_anonymous true")
				var p *played
				for range 3 { // on a machine that stands still a witness may not be heard to the end: nobody is accused
					p = playAgainst(t, m.addr, "", strings.Replace(overMQTT(version, 1, "2s"), "qos: 1", "qos: 1\n        "+form, 1))
					if unknown := p.result.Total[verdict.Unknown]; unknown == 0 ||
						unknown+p.result.Total[verdict.Proven] < p.result.Total.Due() {
						break
					}
				}
				assert.Greater(t, p.result.Total.Due(), 250)
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			})
		}
	}
}

// A broker that is restarted in mid-run: devices and witness come back, what
// was not acknowledged is sent again, and nothing that the witness could not
// hear is called lost.
func TestMosquittoRestart(t *testing.T) {
	t.Parallel()
	for _, version := range []string{"3.1.1", "5"} {
		t.Run(version, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			m := startMosquitto(t, "allow_anonymous true")
			var r *tally.Result
			for range 3 { // a machine that is so slow that nothing was sent far from the restart tells nothing
				done := make(chan struct{})
				go func() {
					defer close(done)
					time.Sleep(1500 * time.Millisecond)
					m.stop()
					time.Sleep(500 * time.Millisecond)
					m.start()
				}()
				r = playAgainst(t, m.addr, "", strings.Replace(overMQTT(version, 1, "5s"), "WAIT", "5s", 1)).result
				<-done
				if r.Total[verdict.Proven] > 0 {
					break
				}
			}
			assert.GreaterOrEqual(t, r.Links.Drops, 20, "every device lost its connection")
			assert.Greater(t, r.Total.Due(), 800, "a broken link does not stop the schedule")
			assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven]+r.Total[verdict.Unknown], "%v %+v", r.Total, r.Findings)
			assert.Positive(t, r.Total[verdict.Proven])
			for _, f := range r.Findings { // however long the broker takes to come back; a copy is watched for so long
				away := slices.ContainsFunc(r.Deaf, func(g tally.Deaf) bool {
					return f.Sent.After(g.From.Add(-5*time.Second)) && (g.To.IsZero() || f.Due.Before(g.To.Add(time.Second)))
				})
				assert.True(t, f.Verdict != "unknown" || away, "only what was sent while the witness was away is not known: %+v", f)
			}
			assert.Equal(t, r.Proofs[0].Asked, r.Proofs[0].AsSent, "in the end all is acknowledged")
		})
	}
}
