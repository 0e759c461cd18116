//go:build unix

package jobs_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slurm is a controller and two nodes on this machine, in a folder of its own.
type slurm struct {
	t   *testing.T
	dir string
	env []string
}

const slurmConf = `ClusterName=skerry
SlurmctldHost=localhost(127.0.0.1)
SlurmUser=USER
SlurmdUser=USER
AuthType=auth/munge
AuthInfo=cred_expire=5,socket=D/munge/socket
StateSaveLocation=D/state
SlurmdSpoolDir=D/spool-%n
SlurmctldPidFile=D/controller.pid
SlurmdPidFile=D/%n.pid
SlurmctldLogFile=D/controller.log
SlurmdLogFile=D/%n.log
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
ReturnToService=2
SlurmdParameters=config_overrides
SlurmctldPort=PORT0
SlurmdTimeout=15
KillWait=5
SchedulerParameters=batch_sched_delay=1,sched_interval=5
NodeName=n1 NodeHostname=localhost NodeAddr=127.0.0.1 Port=PORT1 CPUs=8 RealMemory=100000
NodeName=n2 NodeHostname=localhost NodeAddr=127.0.0.1 Port=PORT2 CPUs=8 RealMemory=100000
PartitionName=main Nodes=n1,n2 Default=YES MaxTime=INFINITE State=UP LLN=YES
`

// startSlurm starts one. It notices the loss of a node in seconds.
func startSlurm(t *testing.T) *slurm {
	// Nothing below changes what is installed: keys, sockets and state are in this folder.
	dir, err := os.MkdirTemp("/tmp", "slurm")
	require.NoError(t, err)
	s := &slurm{t: t, dir: dir}
	t.Cleanup(func() { os.RemoveAll(dir) })
	t.Cleanup(func() {
		for _, name := range []string{"n1", "n2", "controller", "munge/munged"} {
			s.kill(name, syscall.SIGTERM)
		}
	})
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "state"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "munge"), 0o711))
	require.NoError(t, os.Chmod(filepath.Join(dir, "munge"), 0o711))
	key := make([]byte, 1024)
	rand.Read(key)
	at := func(name string) string { return filepath.Join(dir, "munge", name) }
	require.NoError(t, os.WriteFile(at("key"), key, 0o400))
	s.run("munged", "--force", "--key-file", at("key"), "--socket", at("socket"), "--pid-file", at("munged.pid"), "--log-file", at("log"),
		"--seed-file", at("seed"))
	user, err := exec.Command("id", "-un").Output()
	require.NoError(t, err)
	conf := strings.NewReplacer("D/", dir+"/", "USER", strings.TrimSpace(string(user))).Replace(slurmConf)
	for i := range 3 {
		conf = strings.ReplaceAll(conf, fmt.Sprint("PORT", i), freePort(t))
	}
	file := filepath.Join(dir, "slurm.conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o644))
	s.env = append(os.Environ(), "SLURM_CONF="+file)
	s.run("slurmctld")
	s.run("slurmd", "-N", "n1")
	s.run("slurmd", "-N", "n2")
	s.await(time.Minute, "two idle nodes", func() bool { return strings.Count(s.run("sinfo", "-h", "-N", "-o", "%T"), "idle") == 2 })
	return s
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

func (s *slurm) run(name string, args ...string) string {
	s.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = s.env
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s %s: %s", name, args, out)
	return strings.TrimSpace(string(out))
}

func (s *slurm) kill(name string, signal syscall.Signal) {
	text, err := os.ReadFile(filepath.Join(s.dir, name+".pid"))
	if pid, _ := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && pid > 1 {
		syscall.Kill(pid, signal)
	}
}

func (s *slurm) await(most time.Duration, what string, is func() bool) {
	s.t.Helper()
	for end := time.Now().Add(most); !is(); time.Sleep(300 * time.Millisecond) {
		if time.Now().After(end) {
			log, _ := os.ReadFile(filepath.Join(s.dir, "controller.log"))
			s.t.Fatalf("no %s after %s; the controller says: %s", what, most, log[max(0, len(log)-3000):])
		}
	}
}

const fleetOfBuoys = `crowd: skerry-roads
links:
  sea: {mqtt: "mqtt://MQTT", username: "${device}", password: "${env.HARBOUR_TOKEN}"}
  ear: {mqtt: "mqtt://MQTT", username: ear, password: "${env.HARBOUR_TOKEN}"}
kinds:
  buoy: {link: sea, readings: {state: {every: 500ms, topic: "harbour/${device}/state", qos: 1, fields: {wave_m: {signal: swell, height: 3, period: 9s, round: 2}}}}}
devices: [{kind: buoy, count: 22, name: "buoy-${pad(n, 2)}"}]
plan: {for: FOR, events: [{name: squall, at: 2s, for: 2s, who: 30% of buoy, do: {offline: keep}}]}
witnesses:
  ear: {proves: received, subscribe: "harbour/#", wait: 5s, link: ear}
  store: {proves: stored, get: "http://HTTP/stored/${device}", headers: {Authorization: "Bearer ${env.HARBOUR_TOKEN}"}, rows: ".rows[]", next: .next, mark: .content.mark, values: .content, wait: 5s}
require: {proven: 100%}
`

// A crowd is played in parts by a real Slurm: the parts are judged as one run, also where a node is lost in the middle.
// ./test.sh cluster plays it.
func TestOnSlurm(t *testing.T) {
	if os.Getenv("RUNCROWD_CLUSTER") == "" {
		t.Skip("it needs Slurm: ./test.sh cluster")
	}
	t.Setenv("HARBOUR_TOKEN", "a-long-secret-token")
	s := startSlurm(t)
	program := filepath.Join(s.dir, "runcrowd")
	build := exec.Command("go", "build", "-o", program, "runcrowd/cmd/runcrowd")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	mqtt, http := "127.0.0.1:"+freePort(t), "127.0.0.1:"+freePort(t)
	platform := exec.Command(program, "standin", "--mqtt", mqtt, "--http", http, "--token-env", "HARBOUR_TOKEN")
	require.NoError(t, platform.Start())
	t.Cleanup(func() { platform.Process.Kill(); platform.Wait() })
	s.await(time.Minute, "platform", func() bool {
		c, err := net.Dial("tcp", mqtt)
		if err == nil {
			c.Close()
		}
		return err == nil
	})

	// submit writes the scripts for a crowd, submits them, and names the array.
	submit := func(name, lasts string) (array, folder string) {
		dir := filepath.Join(s.dir, name)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		text := strings.NewReplacer("MQTT", mqtt, "HTTP", http, "FOR", lasts, "skerry-roads", name).Replace(fleetOfBuoys)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "crowd.yaml"), []byte(text), 0o600))
		s.run(program, "parts", "slurm", filepath.Join(dir, "crowd.yaml"), "--parts", "8", "--to", filepath.Join(dir, "jobs"), "--out",
			filepath.Join(dir, "runs"), "--program", program)
		said := s.run("sh", filepath.Join(dir, "jobs", "submit.sh"))
		_, rest, _ := strings.Cut(said, "The parts are the array ")
		array, _, _ = strings.Cut(rest, ".")
		require.NotEmpty(t, array, said)
		return array, filepath.Join(dir, "runs")
	}
	gone := func() bool { return s.run("squeue", "-h") == "" }
	type verdict struct {
		Due         int            `json:"due"`
		Verdicts    map[string]int `json:"verdicts"`
		Met         bool           `json:"requirements_met"`
		Ended       bool           `json:"ended"`
		Interrupted bool           `json:"interrupted"`
		Missing     []string       `json:"parts_missing"`
		Attempts    []string       `json:"attempts_not_counted"`
	}
	judged := func(runs, array string) (v verdict, parts []string) {
		list, _ := filepath.Glob(filepath.Join(runs, "*-"+array+"-*", "report.json"))
		logs, _ := filepath.Glob(filepath.Join(runs, "*.log"))
		said := ""
		for _, name := range logs {
			b, _ := os.ReadFile(name)
			said += "\n" + name + ":\n" + string(b)
		}
		require.Len(t, list, 1, said)
		text, err := os.ReadFile(list[0])
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &v))
		t.Logf("%+v", v)
		parts, _ = filepath.Glob(filepath.Join(filepath.Dir(list[0]), "part-*"))
		assert.NotContains(t, said, "a-long-secret-token")
		return v, parts
	}

	array, runs := submit("calm", "8s")
	s.await(2*time.Minute, "end of the jobs", gone)
	v, parts := judged(runs, array)
	assert.Len(t, parts, 8)
	assert.True(t, v.Met && v.Ended)
	assert.Equal(t, 22*16, v.Verdicts["proven"])
	assert.Equal(t, 22*16, v.Due)

	// A time limit ends the parts in order: what was sent until then is judged.
	array, runs = submit("cut", "60s")
	playing := func() bool { // what defines the run is in it, and some seconds of messages
		list, _ := filepath.Glob(filepath.Join(runs, "*", "part-*", "ledger"))
		n := 0
		for _, name := range list {
			if info, err := os.Stat(name); err == nil && info.Size() > 8_000 {
				n++
			}
		}
		return n == 8
	}
	s.await(time.Minute, "messages of all parts", playing)
	s.run("scancel", "--batch", "--signal=TERM", array)
	s.await(2*time.Minute, "end of the jobs", gone)
	v, parts = judged(runs, array)
	assert.Len(t, parts, 8)
	assert.True(t, v.Interrupted)
	assert.Greater(t, v.Due, 22)
	assert.Less(t, v.Due, 22*120)
	assert.Equal(t, v.Due, v.Verdicts["proven"]+v.Verdicts["unsent"], "unsent: of devices that the squall keeps away")
	assert.Empty(t, v.Missing)

	// A node is lost: its parts begin again on the other, while their first attempts may live on.
	array, runs = submit("storm", "60s")
	s.await(time.Minute, "messages of all parts", playing)
	lost := strings.Fields(s.run("squeue", "-h", "-r", "-t", "R", "-w", "n1", "-o", "%K"))
	require.NotEmpty(t, lost)
	s.kill("n1", syscall.SIGKILL)
	s.await(2*time.Minute, "second attempts", func() bool {
		list, _ := filepath.Glob(filepath.Join(runs, "*", "part-*-attempt-2"))
		return len(list) == len(lost)
	})
	s.await(4*time.Minute, "end of the jobs", gone)
	v, parts = judged(runs, array)
	assert.Len(t, parts, 8+len(lost))
	assert.Len(t, v.Attempts, len(lost))
	assert.Empty(t, v.Missing)
	assert.True(t, v.Ended)
	assert.Equal(t, 22*120, v.Due)
	assert.Equal(t, 22*120, v.Verdicts["proven"])
}
