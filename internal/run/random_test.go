//go:build unix

package run_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// How many random runs there are, and which is the first: a seed that failed is played
// again with -seed N -seeds 1.
var (
	firstSeed = flag.Uint64("seed", 1, "the first seed of random runs; 0: by the clock")
	seeds     = flag.Int("seeds", 600, "how many random runs are played")
)

// TestRandomRuns plays crowds against a platform in memory that loses, repeats, alters,
// misfiles, delays and refuses; cuts devices off, and witnesses; falls silent; and is
// judged at a random moment as if we had been killed. What is said of each message is held
// against what the platform knows that it did.
func TestRandomRuns(t *testing.T) {
	first := *firstSeed
	if first == 0 {
		first = uint64(time.Now().UnixNano()) >> 10
	}
	dir := t.TempDir()
	if testing.Short() {
		*seeds = min(*seeds, 60)
	}
	t.Parallel()
	var next atomic.Int64
	for range 2 {
		t.Run("", func(t *testing.T) {
			t.Parallel()
			for n := next.Add(1) - 1; n < int64(*seeds) && !t.Failed(); n = next.Add(1) - 1 {
				seed := first + uint64(n)
				synctest.Test(t, func(t *testing.T) { randomRun(t, seed, filepath.Join(dir, fmt.Sprint(seed))) })
				if t.Failed() {
					t.Logf("play it again with: go test ./internal/run -run TestRandomRuns -seed %d -seeds 1", seed)
				}
			}
		})
	}
}

// scenario is what a seed plays.
type scenario struct {
	fates
	way    way
	calm   bool // witnesses are left alone
	within time.Duration
	killed time.Duration // after how long the ledger is judged as it is; 0: not
	row    bool
	events []string
	sleeps string // how the devices are there; empty: always
	repeat bool   // messages go out more than once
	once   bool   // and may be found once alone
	mark   string // how messages are told apart: "" by a mark in the body; nested, sequence, time
	counts bool   // a witness tells how many there are
}

func newScenario(rng *rand.Rand) scenario {
	s := scenario{calm: rng.IntN(2) == 0, within: 1500 * time.Millisecond, row: rng.IntN(2) == 0}
	some := func(most float64) float64 {
		if rng.IntN(3) > 0 {
			return 0
		}
		return rng.Float64() * most
	}
	s.fates = fates{lose: some(0.2), forget: some(0.2), silent: some(0.1), repeat: some(0.2), repeatRow: some(0.2),
		alter: some(0.2), alterRow: some(0.2),
		misfile: some(0.2), refuse: some(0.2), mute: some(0.1), delay: some(0.2), pageSize: 3 + rng.IntN(40),
		limits: some(0.3), keeps: rng.IntN(2) == 0}
	if !s.calm {
		s.cut, s.deafen, s.cutEar, s.storeFails, s.restart, s.stall = some(0.1), some(0.03), some(0.1), some(0.9), some(
			0.05), some(0.1)
		if rng.IntN(2) == 0 {
			s.queue = 2 + rng.IntN(10)
		}
		if rng.IntN(3) == 0 {
			s.killed = time.Duration(200+rng.IntN(9000)) * time.Millisecond
		}
	}
	s.open, s.wrongTime = rng.IntN(2) == 0, some(0.03)
	s.way = ways[rng.IntN(len(ways))]
	for s.way.name[:4] == "mqtt" && strings.Contains(s.way.name, "mqtt3") { // the model speaks version 5
		s.way = ways[rng.IntN(len(ways))]
	}
	if rng.IntN(5) == 0 {
		s.sleeps = []string{"presence: sleeps", "presence: {sleeps: {after: 3}}", "presence: {sleeps: {after: 2, session: " +
			"end, listens: 200ms}}"}[rng.IntN(3)]
	}
	s.mark = []string{"", "", "nested", "sequence", "time"}[rng.IntN(5)]
	switch rng.IntN(8) {
	case 0:
		s.latest = true
	case 1: // a number that a person would choose, of the first or the last rows
		s.pageSize, s.capped, s.newest = []int{10, 20, 25, 50}[rng.IntN(4)], true, rng.IntN(2) == 0
	}
	if s.mark == "sequence" || s.mark == "time" { // of another device, it is another message
		s.misfile = 0
	}
	s.counts = rng.IntN(3) == 0
	if s.echo = s.mark == "time" && rng.IntN(2) == 0; s.echo {
		s.wrongTime = 0
	}
	s.text = rng.IntN(3) == 0
	if !s.calm {
		s.gone = some(0.5)
	}
	if rng.IntN(2) == 0 {
		for range 1 + rng.IntN(3) {
			s.events = append(s.events, s.event(rng))
		}
	}
	return s
}

// event is something that happens on the way.
func (s *scenario) event(rng *rand.Rand) string {
	of := func(list ...string) string { return list[rng.IntN(len(list))] }
	when := fmt.Sprintf("at: %dms", rng.IntN(2500))
	if rng.IntN(3) == 0 {
		when = of("every: 900ms", "chance: 60% per 1s")
	}
	long := fmt.Sprintf("for: %dms, who: %s", 200+rng.IntN(1200), of("all", "buoy-1", "1 of buoy", "50% of buoy"))
	what := of("{offline: keep}", "{offline: idle}", "{offline: {how: clean, order: newest first}}",
		"{offline: {how: silent}}", "{offline: {keep: 2, drops: newest}}", "{offline: {keep: 1, pace: 5/s}}",
		"restart", "{restart: {session: end, counters: anew, backlog: lose}}", "{set: {level: 7}}", "{stuck: level}",
		"{erratic: {level: 9}}", "{missing: note}", "{every: 100ms}", "{every: never}",
		"{network: {delay: 60ms, jitter: 30ms}}", "{network: {stall: 100ms every 400ms}}", "{network: {cut_after: 400 B}}",
		"leave", "{clock: 90s}", "{send: {state: 3}}",
		"{repeat: 1}", "{repeat: 2}, expect: once", "swap", "{credential: wrong}, expect: refused",
		"{credential: none}, expect: refused", "{corrupt: wrong types}, expect: discarded")
	if (s.mark == "sequence" || s.mark == "time") && (strings.Contains(what, "corrupt") || strings.Contains(what, "anew")) {
		what = "restart" // the model knows the message by its seq
	}
	s.repeat, s.once = s.repeat || strings.Contains(what, "repeat"), s.once || strings.Contains(what, "once")
	if strings.Contains(what, "send") { // it is over at once
		_, long, _ = strings.Cut(long, ", ")
	}
	return fmt.Sprintf("{%s, %s, do: %s}", when, long, what)
}

func (s *scenario) crowd() string {
	row := ""
	if s.row {
		row = "\n    row: .id"
	}
	s.way.link = strings.Replace(s.way.link, "{mqtt:", `{username: "${device}", password: "right-${device}", mqtt:`, 1)
	s.way.link = strings.Replace(s.way.link, "{http:", `{headers: {Authorization: "Bearer right-${device}"}, http:`, 1)
	level, payload, rides, mark, at, more := "level", "", "", "mark: .mark", "time: {at: .at, of: platform}", ""
	if s.mark != "" {
		level, payload = "head.level", "\n        payload: {form: json, nested: true}"
	}
	switch s.mark {
	case "nested":
		rides, mark = "\n    mark: {field: head.mark}", ""
	case "sequence":
		rides, mark = "\n    mark: {sequence: head.n}", ""
	case "time":
		rides, mark = "\n    mark: {time: head.at}", ""
		more = "\n          head.at: {signal: clock}"
	}
	if s.echo {
		at = "time: .at"
	}
	if s.mark != "" {
		more += "\n          head.seq: {formula: seq}"
	}
	values := "values: .body"
	if s.text {
		values = "body: .text"
	}
	if !s.capped {
		mark += "\n    limit: none"
	}
	if s.latest {
		mark += "\n    shows: latest"
	}
	counts := ""
	if s.counts {
		counts = "\n  many: {proves: counts, get: http://model/count, rows: '.rows[]', device: .device, count: .n, wait: 10s}"
	}
	events := ""
	if len(s.events) > 0 {
		events = strings.ReplaceAll("\n  events:\n    - "+strings.Join(s.events, "\n    - "), "level:", level+":")
		events = strings.ReplaceAll(events, "stuck: level", "stuck: "+level)
	}
	queue := ""
	if s.queue > 0 {
		queue = fmt.Sprintf("queue: %d, ", s.queue)
	}
	link := strings.NewReplacer("MQTT", "model:1883", "HTTP", "model:80", "TIMEOUT", "700ms").Replace(s.way.link)
	return `
crowd: harbour
links:
  way: ` + link + `
  ear: {mqtt: mqtt://model:1883, version: 5, connect_timeout: 2s}
kinds:
  buoy:
    link: way` + rides + `
    ` + s.sleeps + `
    readings:
      state:
        every: 300ms
        ` + strings.ReplaceAll(s.way.reading, ", ", "\n        ") + payload + `
        fields:
          ` + level + `: {signal: tide, range: 4, round: 3}
          note: calm` + more + `
devices: [{kind: buoy, count: 4, name: "buoy-${n}"}]
plan:
  for: 3s
  settle: 1s` + events + `
witnesses:
  ear: {proves: received, subscribe: harbour/#, link: ear, qos: 1, topic: "harbour/${device}/${reading}", ` + queue +
		`wait: 5s, watch_copies: 600ms}
  store:
    proves: stored
    get: http://model/stored
    rows: .rows[]
    page: {cursor: .cursor}
    ` + at + `
    device: .device
    ` + mark + `
    ` + values + row + `
    wait: 30s
    watch_copies: 600ms` + counts + `
require: {proven: 100%, received: 100% within ` + s.within.String() + `, stored: 100% within ` + s.within.String() + `}
`
}

func randomRun(t *testing.T, seed uint64, dir string) {
	rng := rand.New(rand.NewPCG(seed, 1))
	s := newScenario(rng)
	m := newModel(t, seed)
	m.fate = s.fates
	defer os.RemoveAll(dir)
	defer m.close()
	c, err := file.Parse("harbour.yaml", []byte(s.crowd()),
		file.Sources{Getenv: func(string) (string, bool) { return "", false }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	session, err := run.Open(context.Background(), f, run.Options{Out: dir, File: "harbour.yaml", Network: m.dial})
	require.NoError(t, err, "seed %d", seed)
	manifest, err := run.ReadManifest(session.Folder)
	require.NoError(t, err)
	m.run = manifest.Run
	copied := ""
	if s.killed > 0 {
		m.later(s.killed, func() {
			m.mu.Lock()
			defer m.mu.Unlock()
			copied = copyFolder(t, session.Folder)
		})
	}
	require.NoError(t, session.Play(context.Background()))
	j, err := run.Judge(session.Folder, run.Judging{})
	require.NoError(t, err)
	o := &oracle{T: t, seed: seed, model: m, scenario: s}
	m.mu.Lock()
	o.check(j, false)
	killed := copied != ""
	m.mu.Unlock()
	if !killed {
		return
	}
	judge := func() {
		j, err := run.Judge(copied, run.Judging{})
		require.NoError(t, err)
		m.mu.Lock()
		defer m.mu.Unlock()
		o.check(j, true)
	}
	judge()
	// The store is asked again, once or twice, and not always to the end.
	for range 1 + rng.IntN(2) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Duration(rng.IntN(20))*time.Second)
		err := run.HearAgain(ctx, copied, c, run.Again{All: rng.IntN(2) == 0, Network: m.dial})
		cancel()
		if err != nil {
			require.Error(t, ctx.Err(), "seed %d: %v", seed, err)
		}
		judge()
	}
}

// copyFolder copies what a killed process would have left.
func copyFolder(t *testing.T, folder string) string {
	to := folder + "-killed"
	require.NoError(t, os.MkdirAll(to, 0o755))
	for _, name := range []string{run.LedgerFile, run.ManifestFile, run.CrowdFile} {
		b, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, name), b, 0o644))
	}
	return to
}

// oracle knows what happened to every message.
type oracle struct {
	*testing.T
	scenario
	*model
	seed   uint64
	judged *run.Judgement
	newest map[string]uint64 // the last that went out of each device
}

func (o *oracle) wrong(f *verdict.Finding, tr *truth, why string) {
	if o.Failed() { // one is enough
		return
	}
	emits, rows := []string{}, []string{}
	for _, e := range tr.emits {
		emits = append(emits, fmt.Sprintf("%s altered=%t heard=%t", e.at.Sub(tr.first), e.altered, e.heard))
	}
	for _, r := range tr.rows {
		rows = append(rows, fmt.Sprintf("%s %s altered=%t", r.at.Sub(tr.first), r.device, r.altered))
	}
	o.Errorf("seed %d, %s: %s/%s/%d is said to be %s: %s\n  outcome %s %s, %d attempts, testimony %v\n  it came %d "+
		"times, the first at %s, acknowledged %d, refused %t\n  came out %v\n  stored %v\n  decided %+v\n  witnesses "+
		"%+v\n  scenario %+v",
		o.seed, o.way.name, f.Device, f.Reading, f.Seq, f.Verdict, why, f.Outcome, f.Said, f.Attempts, f.Testimony, tr.came,
		tr.first.Format("05.000"), tr.acked, tr.refused, emits, rows, *tr.decided, o.judged.Witnesses, o.scenario)
}

// check holds a judgement against what happened.
func (o *oracle) check(j *run.Judgement, killed bool) {
	o.judged = j
	findings := map[string]*verdict.Finding{}
	o.newest = map[string]uint64{}
	for _, tr := range o.truths {
		m, _ := ledger.ParseMark(tr.mark)
		o.newest[tr.device] = max(o.newest[tr.device], m.Seq)
	}
	for _, f := range j.Findings { // what did not come is newer, too, where it went out
		if f.Attempts > 0 {
			o.newest[f.Device] = max(o.newest[f.Device], f.Seq)
		}
	}
	for i := range j.Findings {
		f := &j.Findings[i]
		findings[ledger.Mark{Run: j.Run, Device: f.Device, Reading: f.Reading, Seq: f.Seq}.String()] = f
	}
	require.Zero(o, j.UnmatchedCount, "seed %d: %+v", o.seed, j.Unmatched)
	seen, right := 0, [3]int{}
	for _, mark := range o.order {
		tr := o.truths[mark]
		outs, rows := 0, 0
		for _, e := range tr.emits {
			if !e.altered && !tr.decided.misfile {
				outs = 1
			}
		}
		for _, r := range tr.rows {
			if !r.altered && !tr.decided.misfile {
				rows = 1
			}
		}
		right[0], right[1], right[2] = right[0]+min(1, tr.acked), right[1]+outs, right[2]+rows
		f := findings[mark]
		if f == nil {
			if killed {
				continue // its record was not written, and no witness saw it: nothing is said
			}
			f = &verdict.Finding{Device: tr.device, Verdict: "proven", Attempts: 1}
		}
		seen++
		o.one(f, tr, killed)
	}
	o.required(j, killed)
	for i, p := range j.Proofs {
		require.LessOrEqual(o, p.AsSent, right[i], "seed %d, killed %t: %s of more than there are", o.seed, killed, p.Name)
	}
	if !killed {
		// What the platform never got was refused by nobody and is proven by nobody.
		for mark, f := range findings {
			if o.truths[mark] == nil && f.Verdict != "unsent" && f.Verdict != "unanswered" && f.Verdict != "lost" &&
				f.Verdict != "unknown" && (f.Verdict != "let in" || !o.open) {
				o.wrong(f, &truth{decided: &decision{}}, "the platform never got it")
			}
		}
		// What never came, and is no finding, was dropped, or refused with the connection.
		away := j.Total[verdict.Dropped] + j.KeptOut
		for mark, tr := range o.truths {
			if (tr.variant || tr.corrupted) && findings[mark] == nil {
				away--
			}
		}
		require.Equal(o, seen+len(findings)-o.both(findings)+away, j.Total.Due(), "seed %d: a message has no verdict", o.seed)
	}
}

// both is how many findings are of messages that the platform got.
func (o *oracle) both(findings map[string]*verdict.Finding) (n int) {
	for mark := range findings {
		if o.truths[mark] != nil {
			n++
		}
	}
	return n
}

// required holds what is said of requirements against what happened.
func (o *oracle) required(j *run.Judgement, killed bool) {
	good, clean := [2]int{}, [2]int{} // in time and unaltered; and just once
	rows, least, most := map[string]int{}, map[string]int{}, map[string]int{}
	alike := true // what was counted is certain, and right
	for _, tr := range o.truths {
		for _, r := range tr.rows {
			rows[r.device]++
		}
		if tr.variant || tr.corrupted {
			alike = false
			continue
		}
		alike = alike && tr.acked > 0 && !tr.refused && len(tr.rows) == 1 && !tr.decided.misfile
		if most[tr.device]++; tr.acked > 0 {
			least[tr.device]++
		}
		out := slices.ContainsFunc(tr.emits, func(e emission) bool { return !e.altered && e.at.Sub(tr.first) <= o.within })
		in := slices.ContainsFunc(tr.rows, func(r row) bool { return !r.altered && r.at.Sub(tr.first) <= o.within })
		for i, is := range []bool{out, in} {
			if is && !tr.decided.misfile {
				if good[i]++; []int{len(tr.emits), len(tr.rows)}[i] == 1 {
					clean[i]++
				}
			}
		}
	}
	due := j.Total.Due() - j.Total[verdict.Dropped] - j.MustNot
	for _, c := range j.Checks {
		must := func(is bool, why string) {
			if !is && !o.Failed() {
				o.Errorf("seed %d, %s, killed %t: %s %s is %s, %s: %s; good %v of %d; rows %v, from %v to %v\n  scenario %+v",
					o.seed, o.way.name, killed, c.Key, c.Want, c.State, c.Got, why, good, due, rows, least, most, o.scenario)
			}
		}
		i := map[string]int{"received": 0, "stored": 1}[c.Key]
		switch met, not := c.State == proof.Met, c.State == proof.NotMet; {
		case c.Key == "proven":
			must(!met || min(good[0], good[1]) >= due || o.latest && good[0] >= due, "not all are good")
		case c.Key == "received", c.Key == "stored":
			must(!met || good[i] >= due || o.latest && i == 1, "there are fewer that are good")
			must(!not || clean[i] < due || o.wrongTime > 0 || o.echo || !o.calm || o.broken(), "all are good")
		case c.Key == "let_in" && met:
			for _, tr := range o.truths {
				must(!tr.variant && !tr.corrupted || len(tr.emits)+len(tr.rows) == 0, tr.mark+" got in")
			}
		case c.Key == "counts":
			for d := range most {
				must(!met || rows[d] >= least[d] && (rows[d] <= most[d] || o.delay > 0), "of "+d+" there is another number")
			}
			must(!not || !alike || !o.calm || killed || o.broken() || o.repeat, "the numbers are alike")
		}
	}
}

// one holds one verdict against the truth.
func (o *oracle) one(f *verdict.Finding, tr *truth, killed bool) {
	qos0, mqtt1 := strings.HasSuffix(o.way.name, "qos0"), strings.HasSuffix(o.way.name, "qos1")
	emits, rows, copies := len(tr.emits), len(tr.rows), len(tr.emits)
	mark, _ := ledger.ParseMark(tr.mark)
	hidden := o.latest && mark.Seq < o.newest[tr.device] // the store shows a newer one, and may have shown it
	altered, misfiled := false, tr.decided.misfile && (emits > 0 || rows > 0)
	late, earliest := false, time.Duration(0)
	for _, e := range tr.emits {
		altered = altered || e.altered
		if e.dropped { // a copy that nobody could get is none
			copies--
		}
	}
	for _, r := range tr.rows {
		altered = altered || r.altered
	}
	if rows > 0 {
		earliest = tr.rows[0].at.Sub(tr.first)
	}
	if emits > 0 {
		earliest = max(earliest, tr.emits[0].at.Sub(tr.first))
	}
	late = earliest > o.within
	allowed := 1
	if mqtt1 {
		allowed = max(1, f.Attempts, tr.came)
	}
	if o.repeat { // how often it went out is how often it came, at least
		allowed = max(allowed, tr.came)
	}
	// Nobody but the device knows how often it went out where the plan breaks connections.
	repeated := copies > allowed || rows > allowed
	once := o.once && (copies > 1 || rows > 1)
	must := func(is bool, why string) {
		if !is {
			o.wrong(f, tr, why)
		}
	}
	recovered := killed && f.Attempts == 0 && f.Outcome == "unknown" // what was meant of it is not known
	if (tr.variant || tr.corrupted) && !recovered {
		o.apart(f, tr, must)
		return
	}
	switch f.Verdict {
	case "proven":
		must(!killed, "it was not heard to the end")
		must(tr.acked > 0 || qos0, "it was not acknowledged")
		must(!tr.refused || qos0, "it was refused")
		must(emits > 0, "it never came out")
		must(rows > 0 || hidden, "it is not stored")
		must(!altered || hidden && !slices.ContainsFunc(tr.emits, func(e emission) bool { return e.altered }),
			"it was altered")
		must(!misfiled, "it was misfiled")
		must(!late || hidden && tr.emits[0].at.Sub(tr.first) <= o.within, "it was late")
		// What the plan's network swallowed was sent again, and may be there twice.
		must(!repeated || (mqtt1 || o.repeat) && o.broken() || o.latest && copies <= allowed, "it was repeated")
	case "lost":
		older := o.latest && rows > 0 && o.overwritten(tr, mark.Seq) // the platform shows an older one
		must(emits == 0 || rows == 0 || older || o.latest && misfiled, "it came out and is stored")
	case "refused":
		must(tr.refused, "the platform did not refuse it")
	case "unanswered":
		must(emits == 0 && rows == 0, "it was taken")
	case "unacknowledged":
		must(emits > 0 || rows > 0, "it is nowhere")
		must(tr.acked == 0 || !o.calm || o.broken(), "it was acknowledged")
	case "altered":
		must(altered, "it was not altered")
	case "misfiled":
		must(misfiled, "it was not misfiled")
	case "repeated":
		must(repeated || once || o.repeat && (o.broken() || !o.calm), "it was found as often as it was sent")
	case "late":
		wrong := slices.ContainsFunc(tr.rows, func(r row) bool { return r.wrong > 0 }) // as the platform tells it
		must(earliest > o.within || wrong, "it was in time")
	case "unsent":
		must(tr.came == 0, "the platform got it")
	case "dropped":
		must(tr.came == 0, "the platform got it")
	case "unknown":
		if o.broken() && qos0 || strings.Contains(fmt.Sprint(f.Testimony), "the plan disturbed") {
			return
		}
		if said := fmt.Sprint(f.Testimony); o.wrongTime > 0 && (strings.Contains(said, "wrong time") ||
			strings.Contains(said, "do not agree well enough")) {
			return
		}
		must(!o.calm || killed || !o.row && (rows > 1 || o.repeat) || o.capped || o.latest || o.echo ||
			o.mark == "time" && len(o.events) > 0, "nothing disturbed the witnesses")
	}
	if o.capped || o.latest || o.echo || o.mark == "time" && len(o.events) > 0 || !o.calm || killed || once || repeated && (mqtt1 || o.repeat) && o.broken() ||
		!o.row && (rows > 1 || o.repeat) { // without identities, two rows on two pages may be one
		return
	}
	// Nobody was disturbed: every message has just the verdict that it deserves.
	want := "proven"
	if o.broken() && (f.Verdict == "unanswered" || f.Verdict == "unacknowledged") && (tr.acked > 0 || tr.refused) {
		return // its acknowledgement was on a connection that the plan broke
	}
	switch acked := tr.acked > 0 || qos0; {
	case tr.refused && !qos0:
		want = "refused"
	case !acked && (emits > 0 || rows > 0):
		want = "unacknowledged"
	case !acked:
		want = "unanswered"
	case emits == 0 || rows == 0:
		want = "lost"
	case altered:
		want = "altered"
	case misfiled:
		want = "misfiled"
	case repeated:
		want = "repeated"
	case late:
		want = "late"
	}
	must(f.Verdict == want, "it deserves "+want)
}

// overwritten tells whether an older message of the device was stored after one.
func (o *oracle) overwritten(tr *truth, seq uint64) bool {
	for _, other := range o.truths {
		if m, _ := ledger.ParseMark(other.mark); other.device == tr.device && m.Seq < seq &&
			slices.ContainsFunc(other.rows, func(r row) bool { return r.number == o.last[tr.device] }) {
			return true
		}
	}
	return false
}

// apart holds the verdict of a message that must not get in against the truth.
func (o *oracle) apart(f *verdict.Finding, tr *truth, must func(bool, string)) {
	in := len(tr.emits) > 0 || len(tr.rows) > 0
	qos0 := strings.HasSuffix(o.way.name, "qos0")
	switch f.Verdict {
	case "proven":
		must(!in, "it got in")
		must(!tr.variant || tr.acked == 0 && !qos0, "it was taken")
	case "let in":
		must(in || tr.variant && (tr.acked > 0 || qos0), "it did not get in")
	case "unanswered":
		must(tr.acked == 0 || !o.calm || o.broken(), "it was answered")
	case "unknown":
		must(!o.calm || f.Outcome == "unknown" || o.broken() || o.capped || o.latest || tr.variant && tr.corrupted, "nothing disturbed the witnesses")
	case "unsent":
		must(tr.came == 0, "the platform got it")
	default:
		must(false, "such a message is let in, or is not")
	}
}

// broken tells whether the plan breaks connections.
func (o *oracle) broken() bool {
	return strings.Contains(strings.Join(o.events, " "), "offline") ||
		strings.Contains(strings.Join(o.events, " "), "cut_after")
}
