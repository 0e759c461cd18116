package report_test

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	reflected "github.com/invopop/jsonschema"
	"github.com/klauspost/compress/zstd"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/report"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// mischief is what a platform may say: it must end no page, no cell and no document.
const mischief = "</script><b>\"'&|`\x01=1+1\n]]>"

// book is a run of so many devices that send each twice; every tenth loses one, and the
// second is altered.
func book(devices int) *ledger.Book {
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Crowd: "harbour", Start: start, Ended: true,
		LastWrite: start.Add(5 * time.Second), Rounds: []ledger.Round{{N: 1, Begin: start, End: start.Add(3 * time.Second)}},
		Witnesses: []ledger.Witness{{Name: "ear", Proof: "received", Listens: true,
			Heard: map[int]ledger.Hearing{1: {Complete: true}}}}}}
	for i := range devices {
		b.Streams = append(b.Streams, ledger.Stream{Device: fmt.Sprintf("buoy-%05d", i+1), Kind: "buoy", Reading: "state",
			Units: map[string]string{"wave_m": "m"}})
		var list []ledger.Message
		for k := range 2 {
			due := start.Add(time.Duration(k)*time.Second + time.Duration(i%1000)*time.Millisecond)
			m := ledger.Message{Seq: uint64(k + 1), Round: 1, Due: due, Sent: due.Add(time.Millisecond),
				At: due.Add(3 * time.Millisecond), Attempts: 1,
				Outcome: outcome.Accepted, Text: mischief, Carried: fmt.Appendf(nil, `{"wave_m":%d.25,"site":"outer"}`, k)}
			list = append(list, m)
			if i%10 == 9 && k == 1 {
				continue
			}
			values := m.Carried
			if i == 1 {
				values = []byte(`{"wave_m":7,"site":"</script>"}`)
			}
			b.Sightings = append(b.Sightings, ledger.Sighting{Stream: i, Seq: m.Seq, Seen: due.Add(4 * time.Millisecond),
				Values: values})
		}
		b.Messages = append(b.Messages, list)
	}
	return b
}

// written writes a run in some forms, and gives the folder.
func written(t *testing.T, b *ledger.Book, names ...string) (dir string, in *report.Input) {
	dir = t.TempDir()
	var files []*report.File
	for _, name := range names {
		f, err := report.Create(filepath.Join(dir, name), report.FormatOf(name), nil, true)
		require.NoError(t, err)
		files = append(files, f)
	}
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)),
		tally.Options{PerVerdict: 100, Series: true, Rows: tally.RowValues,
			Feed: func(f *ledger.Facts) tally.Each { return report.Feed(f, nil, files) }}).Judge()
	require.NoError(t, err)
	in = &report.Input{Folder: "runs/x", Result: r, Checks: r.Check(
		[]proof.Requirement{{Key: "proven", Text: "100%", Proven: true, Measure: "share", Percent: 100}}), AtMost: 100}
	for _, f := range files {
		require.NoError(t, f.End(in))
	}
	return dir, in
}

func read(t *testing.T, dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(b)
}

// All forms tell the same figures, and what a platform said ends none of them.
func TestForms(t *testing.T) {
	t.Parallel()
	dir, in := written(t, book(20), "r.json", "r.html", "r.md", "junit.xml", "m.csv", "m.jsonl.zst", "devices.csv",
		"devices.jsonl", "run.db")
	require.Equal(t, 36, in.Result.Total[verdict.Proven])
	require.Equal(t, 2, in.Result.Total[verdict.Lost])
	require.Equal(t, 2, in.Result.Total[verdict.Altered])

	var suites struct {
		Suites []struct {
			Name            string `xml:"name,attr"`
			Tests, Failures int    `xml:",attr"`
			Cases           []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
					Text    string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(strings.NewReplacer(`tests="`, `Tests="`, `failures="`, `Failures="`).Replace(
		read(t, dir, "junit.xml"))), &suites))
	require.Len(t, suites.Suites, 1)
	assert.Equal(t, 1, suites.Suites[0].Failures)
	require.NotNil(t, suites.Suites[0].Cases[0].Failure)
	assert.Equal(t, "90% (36 of 40)", suites.Suites[0].Cases[0].Failure.Message)
	assert.Contains(t, suites.Suites[0].Cases[0].Failure.Text, "lost  buoy-00010 state #2")
	assert.Contains(t, read(t, dir, "junit.xml"), "<system-out>round 1: 36 of 40 messages proven")

	rows, err := csv.NewReader(strings.NewReader(read(t, dir, "m.csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 41)
	assert.Equal(t, []string{"buoy-00001", "buoy", "state", "1", "1", "proven"}, rows[1][:6])
	assert.NotContains(t, read(t, dir, "m.csv"), ",=")
	rows, err = csv.NewReader(strings.NewReader(read(t, dir, "devices.csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 41, "a line a field")
	sum := 0
	for _, row := range rows[1:] {
		n, _ := strconv.Atoi(row[3])
		sum += n
	}
	assert.Equal(t, in.Result.Total.Due(), sum, "each message is counted once")

	packed, err := zstd.NewReader(strings.NewReader(read(t, dir, "m.jsonl.zst")))
	require.NoError(t, err)
	text, err := io.ReadAll(packed)
	require.NoError(t, err)
	counts := map[string]int{}
	for line := range bytes.Lines(text) {
		var m report.Message
		require.NoError(t, json.Unmarshal(line, &m))
		counts[m.Verdict]++
		if m.Verdict == "altered" {
			assert.JSONEq(t, `{"wave_m":7,"site":"</script>"}`, string(m.Witnesses[0].Found))
		}
	}
	assert.Equal(t, map[string]int{"proven": 36, "lost": 2, "altered": 2}, counts)

	db, err := sql.Open("sqlite", filepath.Join(dir, "run.db"))
	require.NoError(t, err)
	defer db.Close()
	for query, want := range map[string]any{
		"select proven from run":                                                                        int64(36),
		"select messages from verdicts where verdict = 'lost'":                                          int64(2),
		"select count(*) from not_proven":                                                               int64(4),
		"select device from by_device limit 1":                                                          "buoy-00002",
		"select found_highest from field where device = 'buoy-00002' and field = 'wave_m'":              7.0,
		"select count(*) from testimony where state = 'missing'":                                        int64(2),
		"select max(answered_after_ms) from delays":                                                     2.0,
		"select max(answered_after_ns) from delays":                                                     int64(2_000_000),
		"select count(*) from message join testimony on message = message.id where state = 'altered'":   int64(2),
		"select json_extract(carried, '$.wave_m') from message where device = 'buoy-00003' and seq = 2": 1.25,
	} {
		var got any
		require.NoError(t, db.QueryRow(query).Scan(&got), query)
		assert.Equal(t, want, got, query)
	}

	md := read(t, dir, "r.md")
	assert.Contains(t, md, "## harbour: FAILED, 36 of 40 messages proven\n")
	assert.Contains(t, md, "| proven | 100% | 90% (36 of 40) | **not met** |\n")
	assert.NotContains(t, md, "<b>")

	page := read(t, dir, "r.html")
	assert.Contains(t, page, "<h1>Failed <span>90% proven</span></h1>")
	assert.Equal(t, 3, strings.Count(page, "</script>"), "its own three end, and nothing that was said ends one")
	assert.NotRegexp(t, `(src|href)="?(https?:)?//`, page)
}

var update = flag.Bool("update", false, "write the schema of the report anew")

// made is the schema, made of the type of the document.
func made() *reflected.Schema {
	r := reflected.Reflector{ExpandedStruct: true, AllowAdditionalProperties: true,
		Mapper: func(t reflect.Type) *reflected.Schema {
			switch t {
			case reflect.TypeFor[time.Duration]():
				return &reflected.Schema{Type: "integer", Description: "nanoseconds"}
			case reflect.TypeFor[proof.State]():
				return &reflected.Schema{Type: "string", Enum: []any{proof.Met, proof.NotMet, proof.Undecided}}
			}
			return nil
		}}
	s := r.Reflect(&report.Document{})
	s.ID, s.Title = "", "The report of a run"
	s.Description = "What runcrowd writes with --format json, and as report.json. Times are RFC 3339, delays " +
		"milliseconds. The member format grows when a member changes its meaning or goes away."
	return s
}

// The document fits its schema, and so does one in which everything that can be there is.
func TestTheSchemaOfTheReport(t *testing.T) {
	t.Parallel()
	text, err := json.MarshalIndent(made(), "", "  ")
	require.NoError(t, err)
	text = append(text, '\n')
	if *update {
		require.NoError(t, os.WriteFile("report.schema.json", text, 0o644))
	} else {
		require.Equal(t, string(text), string(report.Schema), "it is not up to date: go test ./internal/report -update")
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("report.json", schema))
	s, err := c.Compile("report.json")
	require.NoError(t, err)
	_, bad := written(t, book(20))
	for _, in := range []*report.Input{input(true), input(false), asked(), bad} {
		doc, err := report.JSON(in)
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(doc))
		require.NoError(t, err)
		assert.NoError(t, s.Validate(v))
		v.(map[string]any)["due"] = "many"
		assert.Error(t, s.Validate(v))
	}
}

// fullDisk is a disk with room for so many bytes.
type fullDisk struct{ left int }

var errFull = errors.New("no space left on device")

// Write implements io.Writer.
func (d *fullDisk) Write(b []byte) (int, error) {
	if d.left -= len(b); d.left < 0 {
		return 0, errFull
	}
	return len(b), nil
}

// A sink that cannot write says so once, and leaves no half of a file.
func TestSinksThatCannotWrite(t *testing.T) {
	t.Parallel()
	for _, f := range report.Formats {
		if f.Name == "sqlite" {
			continue
		}
		x, err := report.Create("-", f, &fullDisk{left: 10}, true)
		require.NoError(t, err)
		b := book(2000)
		r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)),
			tally.Options{PerVerdict: 10, Series: true, Rows: tally.RowValues, Feed: func(f *ledger.Facts) tally.Each {
				return report.Feed(f, nil, []*report.File{x})
			}}).Judge()
		require.NoError(t, err, "the judging goes on")
		assert.ErrorIs(t, x.End(&report.Input{Result: r}), errFull, f.Name)
	}
	dir := t.TempDir()
	x, err := report.Create(filepath.Join(dir, "run.db"), report.FormatNamed("sqlite"), nil, true)
	require.NoError(t, err)
	x.Abandon()
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// dom opens a page in a headless browser, and gives what stands there when its scripts ran,
// and what it told on its console.
func dom(t *testing.T, path string) (page, console string) {
	program := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil {
			program = p
			break
		}
	}
	if program == "" {
		if os.Getenv("RUNCROWD_REAL") != "" {
			t.Fatal("chromium is not installed; test.sh installs it")
		}
		t.Skip("chromium is not installed")
	}
	cmd := exec.CommandContext(t.Context(), program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic",
		"--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--user-data-dir="+t.TempDir(), "--enable-logging=stderr", "--log-level=0", "--virtual-time-budget=5000",
		"--window-size=1280,800", "--dump-dom", "file://"+path)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	require.NoError(t, cmd.Run(), said.String())
	for line := range strings.Lines(said.String()) {
		if strings.Contains(line, "CONSOLE") {
			console += line
		}
	}
	return out.String(), console
}

// The page's figures are those of the JSON; its scripts run without an error and ask for
// nothing, also with a large fleet.
func TestThePageInABrowser(t *testing.T) {
	for _, devices := range []int{20, 20_000} {
		dir, in := written(t, book(devices), "r.html")
		page, console := dom(t, filepath.Join(dir, "r.html"))
		assert.Empty(t, console)
		lost := 0
		for i := range in.Result.Devices {
			if in.Result.Devices[i].Counts[verdict.Lost] > 0 {
				lost++
			}
		}
		flat := regexp.MustCompile(`<[^>]*>`).ReplaceAllString(page, "")
		assert.Contains(t, flat, fmt.Sprintf("lost: %d devices", lost))
		assert.Contains(t, flat, fmt.Sprintf("%d of %d messages proven", in.Result.Total[verdict.Proven],
			in.Result.Total.Due()))
		shown := len(in.Result.Findings)
		assert.Contains(t, flat, fmt.Sprintf("%d shown", shown))
		assert.Equal(t, 3, strings.Count(page, `class="uplot`), "three plots are drawn")
	}
}

// Every part of the page is written, also those that few runs have.
func TestEveryPartOfThePage(t *testing.T) {
	t.Parallel()
	_, in := written(t, book(4), "r.html")
	at := time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)
	turn := &tally.Turn{Seq: 7, Sent: at, Carried: `{"battery_v":10.9}`}
	r := in.Result
	r.Alerts = []tally.AlertCount{{Name: "low-battery", Witness: "alarm", Called: 9, Given: 3, Missing: 1, Late: 2,
		Unknown: 1, Repeated: 1, Unexpected: 1}}
	r.AlertFindings = []tally.AlertFinding{{Alert: "low-battery", Verdict: tally.Missing, Device: "buoy-1",
		Reading: "state", Before: turn, Call: turn, Armed: turn, Said: "a word", Why: "a reason"}}
	r.Counted = []tally.Counted{{Witness: "many"}}
	page, err := report.HTML(in)
	require.NoError(t, err)
	for _, text := range []string{"low-battery", "unexpected", "many"} {
		assert.True(t, bytes.Contains(page, []byte(text)), text)
	}
}
