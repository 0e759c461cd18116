//go:build unix

package run_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/fleet"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// roads is a crowd of lights and gauges, some behind a gateway, to which things happen by chance.
const roads = `
crowd: roads
seed: 7
links: {sea: {mqtt: "mqtt://MQTT"}, shore: {http: "http://HTTP"}}
kinds:
  hub: {link: sea, readings: {load: {every: 1s, qos: 1, topic: "harbour/${device}/load", fields: {v: {signal: normal, mean: 5, spread: 1}}}}}
  lamp: {link: sea, presence: {through: hub}, readings: {lit: {every: 700ms, jitter: 20%, qos: 1, topic: "harbour/${device}/lit", fields: {lux: {signal: walk, start: 20, step: 1, round: 2}}}}}
  buoy: {link: sea, readings: {state: {every: 400ms, jitter: 20%, qos: 1, topic: "harbour/${device}/state", fields: {battery_v: {signal: drain, from: 12.8, per_hour: 900, round: 2}}}}}
  gauge: {link: shore, readings: {level: {every: 600ms, path: "/in/harbour/${device}/level", fields: {level_m: {signal: tide, range: 4.1, round: 3}}}}}
devices:
  - {kind: hub, count: 3}
  - {kind: lamp, count: 7}
  - {kind: buoy, count: 12}
  - {kind: gauge, count: 5}
plan:
  for: 6s
  rounds: {count: 2, every: 40s}
  begin: 2026-01-15T02:00:00Z
  events:
    - {name: outage, at: 2s, for: 1s, who: 30% of buoy, do: offline}
    - {name: faster, chance: 50% per minute, who: gauge, do: {every: {level: 300ms}}, for: 2s}
witnesses:
  ear: {proves: received, subscribe: "harbour/#", link: sea, who: [buoy, lamp, hub]}
  store: {proves: stored, get: "http://HTTP/stored/${device}", rows: ".rows[]", next: .next, mark: .content.mark, values: .content, limit: none}
require: {proven: 100%}
`

// playPart plays one part of a crowd, and gives its folder.
func (w *world) playPart(t *testing.T, text, name string, n, of int, change func(*run.Options)) (folder string) {
	c := crowdOf(t, w.MQTTAddr, w.HTTPAddr, text)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	opt := w.options()
	opt.Version, opt.File, opt.Part = "test", "harbour.yaml", &run.Part{Name: name, N: n, Of: of}
	if change != nil {
		change(&opt)
	}
	opt.Only = f.Share(opt.Part.Share())
	s, err := run.Open(context.Background(), f, opt)
	require.NoError(t, err)
	require.NoError(t, s.Play(context.Background()))
	return s.Folder
}

// playParts plays a crowd in parts beside each other, and gives the folder that holds them.
func (w *world) playParts(t *testing.T, text, name string, of int) string {
	var group sync.WaitGroup
	at := time.Now().Add(2 * time.Second)
	for n := range of {
		group.Go(func() { w.playPart(t, text, name, n+1, of, func(o *run.Options) { o.StartAt = at }) })
	}
	group.Wait()
	return run.WholeFolder(w.dir, "roads", name)
}

// carriedIn is what each message of some ledgers carried, when it was due after the first was, and its mark.
func carriedIn(t *testing.T, folders ...string) (list []string) {
	for _, folder := range folders {
		b, err := run.ReadLedger(folder)
		require.NoError(t, err)
		for stream, messages := range b.Messages {
			for _, m := range messages {
				if !m.Hole {
					s := b.Streams[stream]
					assert.False(t, s.Elsewhere)
					list = append(list, fmt.Sprintf("%s/%s/%s/%d round %d due %s: %s", b.Run, s.Device, s.Reading, m.Seq, m.Round,
						m.Due.Sub(b.Rounds[m.Round-1].Begin).Round(time.Millisecond), m.Carried))
				}
			}
		}
	}
	sort.Strings(list)
	return list
}

// The parts of a crowd are the crowd: what they send together is, to the last byte, what it sends as a whole, and
// they are judged as one run.
func TestPartsAreTheWhole(t *testing.T) {
	t.Parallel()
	var parts, whole []string
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		folder := w.playParts(t, roads, "tonight", 4)
		parts = carriedIn(t, run.Parts(folder)...)
		j, err := run.Judge(folder, run.Judging{})
		require.NoError(t, err)
		r := j.Result
		assert.Equal(t, len(parts), r.Total.Due())
		assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven], "%v %+v", r.Total, first(r.Findings))
		assert.Equal(t, 27, r.DeviceCount)
		assert.Len(t, r.Witnesses, 2, "each is told once")
		stored, _ := w.Stored()
		assert.Equal(t, len(parts), stored)
		assert.True(t, r.Whole())
		for _, p := range run.Parts(folder) {
			j, err := run.Judge(p, run.Judging{})
			require.NoError(t, err)
			assert.Equal(t, j.Result.Total.Due(), j.Result.Total[verdict.Proven], p)
			assert.Less(t, j.Result.DeviceCount, 27)
			assert.NotZero(t, j.Result.Total.Due())
		}
	})
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		whole = carriedIn(t, w.playPart(t, roads, "tonight", 1, 1, nil))
	})
	assert.Equal(t, whole, parts)
}

// What a platform does to messages is found, and laid to it alone, where the run was played in parts; a part that
// was killed or is missing is told as that.
func TestFlawsAreFoundInParts(t *testing.T) {
	t.Parallel()
	for flaw, want := range map[string]verdict.Verdict{"lose=5%": verdict.Lost, "alter=5%": verdict.Altered, "repeat=5%": verdict.Repeated,
		"misfile=5%": verdict.Misfiled} {
		inWorld(t, standin.Config{Flaws: flawsOf(t, flaw)}, func(t *testing.T, w *world) {
			folder := w.playParts(t, roads, "tonight", 3)
			judge := func() *played {
				j, err := run.Judge(folder, run.Judging{})
				require.NoError(t, err)
				return &played{folder: folder, result: j.Result, checks: j.Checks}
			}
			p := judge()
			hits := hitsOf(t, w.StandIn)
			require.NotEmpty(t, hits)
			assert.Equal(t, hits, p.found(want), "%s: %v", flaw, p.result.Total)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven]+p.result.Total[want], "%s: %v", flaw, p.result.Total)

			// Its ledger is cut in the middle: of its messages some are not known any more, of the others nothing changes.
			path := filepath.Join(folder, "part-2-of-3", run.LedgerFile)
			whole, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, whole[:len(whole)/2], 0o600))
			own := map[string]bool{}
			facts, err := run.LookLedger(filepath.Join(folder, "part-2-of-3"))
			require.NoError(t, err)
			for _, s := range facts.Streams {
				own[s.Device] = !s.Elsewhere
			}
			cut := judge()
			assert.False(t, cut.result.Whole())
			assert.Less(t, cut.result.Total[verdict.Proven], p.result.Total[verdict.Proven])
			for _, f := range cut.result.Findings {
				// What was filed under a device of another part is only known to be missing, where that part does not tell.
				if f.Verdict == want.String() || want == verdict.Misfiled && f.Verdict == verdict.Lost.String() {
					assert.Contains(t, hits, fmt.Sprintf("%s/%s/%d", f.Device, f.Reading, f.Seq), "nobody is accused who did nothing")
				} else {
					assert.Equal(t, verdict.Unknown.String(), f.Verdict, "%s: %+v", flaw, f)
					assert.True(t, own[f.Device], "%s is of another part", f.Device)
				}
			}
			require.NoError(t, os.RemoveAll(filepath.Join(folder, "part-2-of-3")))
			gone := judge()
			assert.Equal(t, []string{"part 2 of 3 is missing: nothing is known of its devices, nor of what was filed under them"}, gone.result.Missing)
			assert.False(t, gone.result.Whole())
			assert.Zero(t, gone.result.Total[verdict.Unknown])
			for _, f := range gone.result.Findings {
				assert.Contains(t, hits, fmt.Sprintf("%s/%s/%d", f.Device, f.Reading, f.Seq))
			}
		})
	}
}

// A scheduler may begin a part again while its first attempt lives on: the first gives way, and what it sent is not
// taken for what the second sent.
func TestAnotherAttemptAtAPart(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		done := make(chan string, 1)
		go func() { done <- w.playPart(t, roads, "tonight", 1, 2, nil) }()
		time.Sleep(3 * time.Second)
		second := w.playPart(t, roads, "tonight", 1, 2, nil)
		first := <-done
		other := w.playPart(t, roads, "tonight", 2, 2, nil)
		assert.Equal(t, "part-1-of-2", filepath.Base(first))
		assert.Equal(t, "part-1-of-2-attempt-2", filepath.Base(second))
		a, err := run.LookLedger(first)
		require.NoError(t, err)
		b, err := run.LookLedger(second)
		require.NoError(t, err)
		c, err := run.LookLedger(other)
		require.NoError(t, err)
		assert.True(t, a.Interrupted, "it gave way")
		assert.Less(t, len(carriedIn(t, first)), len(carriedIn(t, second)))
		assert.NotEqual(t, a.Run, b.Run, "their marks differ")
		assert.Equal(t, a.Run, c.Run)
		j, err := run.Judge(filepath.Dir(first), run.Judging{})
		require.NoError(t, err)
		r := j.Result
		assert.Equal(t, []string{"attempt 1 at part 1 of 2 is not counted, attempt 2 is; what it sent carries other marks"}, r.Attempts)
		assert.Equal(t, len(carriedIn(t, second, other)), r.Total.Due())
		assert.Zero(t, r.Total[verdict.Lost]+r.Total[verdict.Repeated]+r.Total[verdict.Altered]+r.Total[verdict.Misfiled], "%v", r.Total)
		assert.True(t, r.Whole())
	})
}

// What are no parts of one run is not judged as one.
func TestWhatAreNotParts(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		folder := w.playParts(t, roads, "tonight", 2)
		judge := func() error { _, err := run.Judge(folder, run.Judging{}); return err }
		require.NoError(t, judge())
		move := func(from, to string) {
			require.NoError(t, os.Rename(filepath.Join(folder, from), filepath.Join(folder, to)))
		}
		move("part-2-of-2", "part-2-of-3")
		assert.ErrorContains(t, judge(), "its run.json is not of this part")
		move("part-2-of-3", "part-2-of-2")
		// The ledger of another part under its name.
		at := filepath.Join(folder, "part-2-of-2", run.LedgerFile)
		own, err := os.ReadFile(at)
		require.NoError(t, err)
		data, err := os.ReadFile(filepath.Join(folder, "part-1-of-2", run.LedgerFile))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at, data, 0o600))
		assert.ErrorContains(t, judge(), "they are not parts of one run: two of them play hub-")
		require.NoError(t, os.WriteFile(at, own, 0o600))
		require.NoError(t, judge())
		// One that says nothing is missing; without any there is nothing to judge.
		for _, left := range [][]byte{nil, own[:50], own[:120]} {
			require.NoError(t, os.WriteFile(at, left, 0o600))
			j, err := run.Judge(folder, run.Judging{})
			require.NoError(t, err)
			require.Len(t, j.Result.Missing, 1)
			assert.Contains(t, j.Result.Missing[0], "part 2 of 2 cannot be read (")
			assert.Equal(t, j.Result.Total.Due(), j.Result.Total[verdict.Proven])
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, "part-1-of-2", run.LedgerFile), nil, 0o600))
		assert.ErrorContains(t, judge(), "no part of the run can be read: part 1 of 2 cannot be read")
		require.NoError(t, os.WriteFile(filepath.Join(folder, "part-1-of-2", run.LedgerFile), data, 0o600))
		require.NoError(t, os.WriteFile(at, own, 0o600))
		require.NoError(t, os.Mkdir(filepath.Join(folder, "part-9-of-2"), 0o700))
		require.NoError(t, judge(), "that is no part")
		other := w.playPart(t, roads, "another", 2, 2, nil)
		theirs, err := os.ReadFile(filepath.Join(other, run.LedgerFile))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at, theirs, 0o600))
		assert.ErrorContains(t, judge(), "of part 2 of 2: it is of the run ", "the same part of another run")
		require.NoError(t, os.RemoveAll(filepath.Join(folder, "part-2-of-2")))
		require.NoError(t, os.Rename(other, filepath.Join(folder, "part-2-of-2")))
		assert.ErrorContains(t, judge(), `it is part 2 of 2 of the run "another", and others beside it are of 2, of the run "tonight"`)
	})
}

// Where a part has no device that a witness looks for, the witness has nothing to find, in no round; and an event that
// befalls none of its devices is no event that was not carried out.
func TestPartsOfAFew(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		text := strings.NewReplacer("require: {proven: 100%}", "require: {proven: 100%, events: done}", "chance: 50% per minute", "at: 1s").Replace(roads)
		folder := w.playParts(t, text, "tonight", 10)
		j, err := run.Judge(folder, run.Judging{})
		require.NoError(t, err)
		assert.Equal(t, j.Result.Total.Due(), j.Result.Total[verdict.Proven])
		for _, x := range j.Result.Witnesses {
			assert.True(t, x.Heard, "%+v", x)
		}
		for _, c := range j.Checks {
			assert.Equal(t, proof.Met, c.State, "%+v", c)
		}
		for _, part := range run.Parts(folder) {
			j, err := run.Judge(part, run.Judging{})
			require.NoError(t, err)
			for _, c := range j.Checks {
				assert.NotEqual(t, proof.NotMet, c.State, "%s: %+v", part, c)
			}
		}
	})
}

// What a platform counts is of both attempts at a part: it accuses nobody.
func TestCountsOfAttempts(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		text := strings.Replace(roads, "require: {proven: 100%}", `  many: {proves: counts, get: "http://HTTP/stored/${device}", rows: "[.][]", count: .total}
require: {counts: exact}`, 1)
		done := make(chan string, 1)
		go func() { done <- w.playPart(t, text, "tonight", 1, 1, nil) }()
		time.Sleep(3 * time.Second)
		second := w.playPart(t, text, "tonight", 1, 1, nil)
		<-done
		for _, folder := range []string{second, filepath.Dir(second)} {
			j, err := run.Judge(folder, run.Judging{})
			require.NoError(t, err)
			assert.NotEqual(t, proof.NotMet, j.Checks[0].State, "%+v", j.Checks)
		}
	})
}
