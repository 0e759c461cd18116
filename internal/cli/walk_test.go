package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// here puts what a document says into this test's world: its stand-in, and shorter times.
var here = strings.NewReplacer("mqtts://broker.example:8883", "mqtt://$MQTT", "mqtt://broker.example:1883", "mqtt://$MQTT",
	"mqtt://127.0.0.1:1883", "mqtt://$MQTT", "http://127.0.0.1:8080", "http://$HTTP", "--for 24h", "--for 2s", "--for 30s", "--for 3s",
	"--listen 2m", "--listen 3s", "--listen 10m", "--listen 3s", " --user watch", "", "spread over 30s", "spread over 1s", "0.0.0.0:8090",
	"127.0.0.1:0", "--count 300", "--count 30", "runcrowd run harbour/crowd.yaml", "runcrowd run harbour/crowd.yaml --for 3s -q", " RUN", " last",
	" FILE", " harbour/crowd.yaml --for 3s", "examples/ten-lines.crowd.yaml", "$EXAMPLES/ten-lines.crowd.yaml --address mqtt://$MQTT", "skerry-roads-abcdefgh.run.tar.zst", "*.run.tar.zst",
	"/etc/bash_completion.d/runcrowd", "done.bash", "$GITHUB_STEP_SUMMARY", "summary.md", ":9090", "127.0.0.1:0",
	"devices.buoy.count=500", "devices.buoy.count=5", "plan.events.outage.for=10s", "plan.settle=2s")

// unwalked are command lines that are not typed, and why.
var unwalked = map[string]string{
	"runcrowd standin &":           "each script has a stand-in",
	"runcrowd standin --rule":      "the script of alerts plays this",
	"runcrowd run batteries.yaml":  "the script of alerts plays this",
	"runcrowd listen mqtt:":        "it goes on until it is stopped; its script plays it",
	"runcrowd record intake.jsonl": "it goes on until it is stopped; its script plays it",
	"runcrowd record winter.jsonl --crowd harbour/crowd.yaml --topic": "it goes on until it is stopped",
	"runcrowd do ": "its script plays them against a run",
	"runcrowd run harbour/crowd.yaml --for 30s --set": "its crowd file is the reader's",
	"runcrowd run FILE --metrics":                     "its test plays it",
}

// exits are those of command lines that do not end with 0.
var exits = map[string]int{"runcrowd compare": 1}

var (
	commandLine = regexp.MustCompile(`^    runcrowd .*`)
	crowdName   = regexp.MustCompile(`(?m)^crowd: (\S+)$`)
	remark      = regexp.MustCompile(`\s{2,}#.*$`)
)

// prelude is what every document finds there: traffic at the broker, a message in a file, and a
// crowd file of today.
const prelude = "exec sh -c 'sed \"s#[$]MQTT#$MQTT#\" today.in > today.yaml'\n" +
	"exec sh -c 'for i in 1 2 3 4 5 6; do runcrowd run today.yaml -q --out heard; done > traffic.log 2>&1 &'\n"

const preludeFiles = `-- today.in --
crowd: today
links: {sea: {mqtt: "mqtt://$MQTT"}}
kinds: {buoy: {readings: {sea-state: {every: 200ms, topic: "harbour/${device}/sea-state", qos: 1, fields: {wave_m: {signal: swell, round: 2}}}}}}
devices: [{kind: buoy, count: 3, name: "old-${n}"}]
plan: {for: 8s}
witnesses: {ear: {proves: received, subscribe: harbour/#}}
-- message.json --
{"deviceId": "b1", "temp": 21.5}
`

// Whoever types what the documents say, from an empty folder, gets what they say: each command of
// theirs is played, or stands above with the reason.
func TestDocumentsAreWalked(t *testing.T) {
	if testing.Short() {
		t.Skip("the long tier walks them")
	}
	t.Parallel()
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	var files []string
	dir, walked := t.TempDir(), 0
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		name := strings.TrimSuffix(filepath.Base(page), ".md")
		var steps, blocks strings.Builder
		made := map[string]bool{} // folders that new made, with another name the second time
		lines := strings.Split(string(text), "\n")
		for i := 0; i < len(lines); i++ {
			if lines[i] == "```yaml" {
				end := i + 1
				for ; end < len(lines) && lines[end] != "```"; end++ {
				}
				block := strings.Join(lines[i+1:end], "\n") + "\n"
				if m := crowdName.FindStringSubmatch(block); m != nil && m[1] != "harbour" {
					fmt.Fprintf(&blocks, "-- %s.in --\n%s", m[1], here.Replace(block))
					fmt.Fprintf(&steps, "exec sh -c 'sed \"s#[$]MQTT#$MQTT#g; s#[$]HTTP#$HTTP#g\" %[1]s.in > %[1]s.yaml'\n", m[1])
					fmt.Fprintf(&steps, "exec runcrowd check %s.yaml\n", m[1])
				}
				i = end
				continue
			}
			if !commandLine.MatchString(lines[i]) {
				continue
			}
			said := strings.TrimSpace(remark.ReplaceAllString(lines[i], ""))
			if name == "witness-sql" { // the database is the reader's; the tests of databases play it
				continue
			}
			skip := false
			for start := range unwalked {
				skip = skip || strings.HasPrefix(said, start)
			}
			if skip {
				continue
			}
			walked++
			command, code := here.Replace(said), 0
			for start, c := range exits {
				if strings.HasPrefix(said, start) {
					code = c
				}
			}
			if m := regexp.MustCompile(`^runcrowd new (\S+)`).FindStringSubmatch(command); m != nil {
				if made[m[1]] {
					fmt.Fprintf(&steps, "exec rm -rf %s\n", m[1])
				}
				made[m[1]] = true
			}
			want := "[0]"
			if code != 0 {
				want = fmt.Sprintf("[0%d]", code)
			}
			fmt.Fprintf(&steps, "# %s\nexec sh -c '%s; echo \"exit: $?\"'\nstdout '(?m)^exit: %s$'\n", said,
				strings.ReplaceAll(command, "'", `"`), want)
		}
		if steps.Len() > 0 {
			file := filepath.Join(dir, name+".txtar")
			require.NoError(t, os.WriteFile(file, []byte(prelude+start[name]+steps.String()+preludeFiles+blocks.String()), 0o600))
			files = append(files, file)
		}
	}
	assert.Greater(t, walked, 40)
	testscript.Run(t, scripts(files))
}

// start is what a document expects to be there.
var start = map[string]string{
	"results":    "exec sh -c 'runcrowd new harbour --address mqtt://$MQTT; runcrowd demo --for 5s -q; runcrowd demo --for 5s -q'\n",
	"ci":         "exec sh -c 'runcrowd new harbour --address mqtt://$MQTT && runcrowd run harbour/crowd.yaml --for 6s -q'\n",
	"recording":  "exec sh -c 'runcrowd record winter.jsonl --crowd today.yaml --topic harbour/# --for 4s'\n",
	"crowd-file": "exec sh -c 'runcrowd new harbour --address mqtt://$MQTT'\n",
}
