//go:build unix

package run_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// goOn goes on with a run that stopped.
func (w *world) goOn(ctx context.Context, folder string) error {
	f, m, err := run.LoadRest(folder)
	if err != nil {
		return err
	}
	opt := w.options()
	opt.File, opt.Part, opt.Resume, opt.Version = m.File, m.Part, folder, "test"
	if m.Part != nil {
		opt.Only = f.Share(m.Part.Share())
	}
	s, err := run.Open(ctx, f, opt)
	if err != nil {
		return err
	}
	return s.Play(ctx)
}

// askAgain asks the witnesses that were not heard, as verify does.
func (w *world) askAgain(t *testing.T, folder string) {
	c, err := run.LoadCopy(folder)
	require.NoError(t, err)
	require.NoError(t, run.HearAgain(context.Background(), folder, c, run.Again{Network: w.net.Dial}))
}

func (w *world) judge(t *testing.T, folder string) *played {
	j, err := run.Judge(folder, run.Judging{})
	require.NoError(t, err)
	return &played{folder: folder, result: j.Result, checks: j.Checks}
}

// cut leaves of a ledger what a process had written that was killed.
func cut(t *testing.T, folder string, share float64) {
	path := filepath.Join(folder, run.LedgerFile)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, whole[:int(share*float64(len(whole)))], 0o600))
}

// plain is a crowd of which all is due at times that chance has no part in.
func plain(text string) string {
	return strings.NewReplacer(", jitter: 20%", "", "  ear: {proves: received, subscribe: \"harbour/#\", link: sea, who: [buoy, lamp, hub]}\n", "").Replace(text)
}

// Wherever its process is killed, a run that goes on plays the rest of its plan: nobody is accused who did nothing, and
// what the platform did is found, but where nothing is known. What is lost of the ledger here is far more than a kill loses.
func TestARunGoesOn(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(20, 6))
	for name, want := range map[string]verdict.Verdict{"": verdict.Proven, "lose=5%": verdict.Lost, "alter=5%": verdict.Altered,
		"repeat=5%": verdict.Repeated, "misfile=5%": verdict.Misfiled} {
		for range 4 {
			share, text := 0.02+0.97*random.Float64(), roads
			if want == verdict.Proven {
				text = plain(roads)
			}
			inWorld(t, standin.Config{Flaws: flawsOf(t, strings.Fields(name)...)}, func(t *testing.T, w *world) {
				folder := w.play(t, text).folder
				what := fmt.Sprintf("%s, cut at %.3f", name, share)
				cut(t, folder, share)
				before := w.judge(t, folder)
				if err := w.goOn(context.Background(), folder); err != nil {
					assert.Regexp(t, "all its rounds were played|it was played to its end", err.Error(), what)
					return // it was cut in the end that tells of all before
				}
				w.askAgain(t, folder)
				p := w.judge(t, folder)
				r, hits := p.result, hitsOf(t, w.StandIn)
				assert.True(t, r.Whole(), what)
				require.Len(t, r.Resumed, 1, what)
				assert.True(t, r.Resumed[0].Killed, what)
				assert.Greater(t, r.Total.Due(), before.result.Total.Due(), what)
				for _, f := range r.Findings {
					if f.Verdict == verdict.Unknown.String() {
						continue
					}
					assert.Contains(t, hits, fmt.Sprintf("%s/%s/%d", f.Device, f.Reading, f.Seq), "%s: %+v", what, f)
				}
				for i := range r.Findings {
					f := &r.Findings[i]
					if want == verdict.Proven { // all else is
						assert.True(t, f.Outcome == "unknown" || strings.Contains(f.Said, "killed"), "%s: %+v", what, f)
					}
				}
			})
		}
	}
}

// The rest of a plan is what it would have been: the same messages at the same times of the plan with the same values,
// events that still last, and those that come.
func TestTheRestOfAPlan(t *testing.T) {
	t.Parallel()
	due := func(folder string) (list map[string]string) {
		list = map[string]string{}
		b, err := run.ReadLedger(folder)
		require.NoError(t, err)
		for stream, messages := range b.Messages {
			for _, m := range messages {
				if m.Hole {
					continue
				}
				round := b.Rounds[m.Round-1]
				at := m.Due.Sub(round.Begin) + round.From
				key := fmt.Sprintf("%s/%s round %d at %s", b.Streams[stream].Device, b.Streams[stream].Reading, round.Plan,
					at.Round(time.Millisecond))
				level, _, _ := strings.Cut(string(m.Carried), `,"mark"`)
				list[key] = level
			}
		}
		return list
	}
	var whole map[string]string
	text := plain(roads)
	text = strings.Replace(text, "  events:\n", `  events:
    - {name: new, at: 1s, who: buoy, do: {every: {state: 800ms}}}
    - {name: kept, at: 3s, for: 2500ms, who: 30% of lamp, do: offline}
    - {name: left, at: 1500ms, who: gauge-002, do: leave}
`, 1)
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) { whole = due(w.play(t, text).folder) })
	require.NotEmpty(t, whole)
	for _, share := range []float64{0.25, 0.4, 0.6, 0.7} {
		inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
			folder := w.play(t, text).folder
			cut(t, folder, share)
			require.NoError(t, w.goOn(context.Background(), folder))
			got := due(folder)
			for key, carried := range got {
				if assert.Contains(t, whole, key, "at %v", share); strings.HasPrefix(key, "gauge") { // the tide goes by the time alone
					assert.Equal(t, whole[key], carried, "at %v: %s", share, key)
				}
			}
			missing := 0
			for key := range whole {
				if _, is := got[key]; !is {
					missing++
				}
			}
			// What was due around the cut is lost, or not measured until its device has come again.
			assert.Less(t, missing, len(whole)/10, "at %v: %d of %d", share, missing, len(whole))
		})
	}
}

// A device that had said all that the plan wants of it says no more when the run goes on.
func TestWhatADeviceHasSaid(t *testing.T) {
	t.Parallel()
	text := strings.Replace(plain(roads), "  for: 6s\n  rounds: {count: 2, every: 40s}\n", "  for: 1m\n  messages: 8\n", 1)
	require.Contains(t, text, "messages: 8")
	for _, share := range []float64{0.3, 0.5, 0.6, 0.7} {
		inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
			folder := w.play(t, text).folder
			cut(t, folder, share)
			require.NoError(t, w.goOn(context.Background(), folder))
			b, err := run.ReadLedger(folder)
			require.NoError(t, err)
			said := map[string]int{}
			for stream, messages := range b.Messages {
				for _, m := range messages {
					if !m.Hole {
						said[b.Streams[stream].Device]++
					}
				}
			}
			for device, n := range said {
				assert.Equal(t, 8, n, "at %v: %s", share, device)
			}
			assert.Len(t, said, 27, "at %v", share)
		})
	}
}

// A run that was interrupted goes on as often as it is, and all of it is proven.
func TestAnInterruptedRunGoesOn(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		f := w.interrupted(t, roads, 2*time.Second)
		folders, err := filepath.Glob(filepath.Join(w.dir, "roads-*"))
		require.NoError(t, err)
		require.Len(t, folders, 1)
		folder, due := folders[0], f.Result.Total.Due()
		for range 3 {
			time.Sleep(time.Minute) // of no concern
			ctx, stop := context.WithTimeout(context.Background(), 3500*time.Millisecond)
			require.NoError(t, w.goOn(ctx, folder))
			stop()
			r := w.judge(t, folder).result
			assert.True(t, r.Interrupted)
			assert.Greater(t, r.Total.Due(), due)
			due = r.Total.Due()
		}
		require.NoError(t, w.goOn(context.Background(), folder))
		p := w.judge(t, folder)
		r := p.result
		assert.True(t, r.Whole())
		assert.Len(t, r.Resumed, 4)
		assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven]+r.Total[verdict.Unsent], "%v %+v", r.Total, first(r.Findings))
		assert.Equal(t, [2]int{2, 2}, [2]int{r.Resumed[3].Plan, p.result.Resumed[2].Plan}, "%+v", r.Resumed)
		assert.ErrorContains(t, w.goOn(context.Background(), folder), "cannot go on: it was played to its end")
	})
}

// A part that was killed goes on as that part, and all parts are judged as one run.
func TestAPartGoesOn(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		folder := w.playParts(t, plain(roads), "tonight", 3)
		part := filepath.Join(folder, "part-2-of-3")
		assert.ErrorContains(t, w.goOn(context.Background(), folder), "holds the parts of a run; name one of them")
		cut(t, part, 0.5)
		require.NoError(t, w.goOn(context.Background(), part))
		w.askAgain(t, part)
		r := w.judge(t, folder).result
		assert.True(t, r.Whole())
		assert.Empty(t, r.Missing)
		assert.Greater(t, r.Total[verdict.Proven], r.Total.Due()*3/4, "%v", r.Total)
		for i := range r.Findings {
			assert.Equal(t, "unknown", r.Findings[i].Verdict, "%+v", r.Findings[i])
		}
		_, err := os.Stat(filepath.Join(part, run.EndedFile))
		assert.NoError(t, err)
	})
}

// Where nobody could tell what was sent, a run does not go on, and nothing is changed.
func TestRunsThatCannotGoOn(t *testing.T) {
	t.Parallel()
	for says, change := range map[string]string{
		"messages of buoy carry no mark of their own":                   "buoy: {link: sea, => buoy: {link: sea, mark: none,",
		"nobody knows how far it came":                                  "for: 6s => for: 6s\n  speed: max",
		"its plan begins in the past":                                   "begin: 2026-01-15T02:00:00Z => begin: -6s",
		"secrets stood in the crowd file in plain text, and are not in": `sea: {mqtt: "mqtt://MQTT"} => sea: {mqtt: "mqtt://MQTT", password: a-plain-secret-text}`,
		"its ledger is damaged":                                         "",
	} {
		inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
			text := strings.Replace(plain(roads), "{count: 2, every: 40s}", "{count: 1, every: 40s}", 1)
			if from, to, is := strings.Cut(change, " => "); is {
				require.Contains(t, text, from)
				text = strings.Replace(text, from, to, 1)
			}
			folder := w.play(t, text).folder
			cut(t, folder, 0.5)
			path := filepath.Join(folder, run.LedgerFile)
			if change == "" {
				whole, err := os.ReadFile(path)
				require.NoError(t, err)
				whole[len(whole)/2] ^= 0xff
				require.NoError(t, os.WriteFile(path, whole, 0o600))
			}
			was, err := ledger.Look(path)
			require.NoError(t, err)
			assert.ErrorContains(t, w.goOn(context.Background(), folder), says)
			is, err := ledger.Look(path)
			require.NoError(t, err)
			assert.Equal(t, was.Last, is.Last, says)
			assert.Empty(t, is.Resumed, says)
		})
	}
}

// What was sent and not recorded may have raised an alert: none is missing then that was raised before, nor is one unexpected
// or repeated. One that the platform does not raise at all is missing.
func TestAlertsOfARunThatWasKilled(t *testing.T) {
	t.Parallel()
	const text = `
crowd: roads
links: {sea: {mqtt: "mqtt://MQTT"}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${device}/state", qos: 1, fields: {battery_v: 12.5}}}}}
devices: [{kind: buoy, count: 6, name: "buoy-${n}"}]
plan:
  for: 6s
  events: [{name: cold, at: 3s, who: buoy, do: {set: {battery_v: 10.5}}}, {name: warm, at: 4s, who: buoy, do: {set: {battery_v: 12.6}}}, {name: night, at: 5s, who: buoy, do: {set: {battery_v: 10.4}}}]
witnesses: {alarm: {proves: alerts, get: "http://HTTP/alerts", rows: ".alerts[]", row: .id, time: .at, wait: 5s}}
alerts: {low-battery: {heard_by: alarm, about: .device, match: .rule == "low-battery", when: battery_v < 11, until: battery_v > 11.5, within: 2s}}
require: {alerts: exact}
`
	rule, err := standin.ParseRule("low-battery: battery_v < 11 until > 11.5")
	require.NoError(t, err)
	for _, share := range []float64{0.2, 0.35, 0.45, 0.5, 0.55, 0.6, 0.65, 0.7, 0.75} {
		inWorld(t, standin.Config{Rules: []standin.Rule{rule}}, func(t *testing.T, w *world) {
			folder := w.play(t, text).folder
			cut(t, folder, share)
			require.NoError(t, w.goOn(context.Background(), folder))
			p := w.judge(t, folder)
			assert.NotEqual(t, proof.NotMet, p.checks[0].State, "at %v: %+v", share, p.checks)
			for _, a := range p.result.Alerts {
				assert.Zero(t, a.Missing+a.Late, "at %v: %+v", share, a)
			}
		})
	}
}

// Counts and alerts of a run that was killed may hold what its ledger does not tell of: more than ours accuses nobody,
// fewer do.
func TestCountsOfARunThatWasKilled(t *testing.T) {
	t.Parallel()
	text := strings.Replace(plain(roads), "limit: none}", `limit: none}
  number: {proves: counts, get: "http://HTTP/stored/${device}", rows: "[.][]", count: .total}`, 1)
	text = strings.Replace(text, "require: {proven: 100%}", "require: {counts: exact}", 1)
	for name, flaws := range map[string]string{"all are there": "", "some are lost": "lose=20%"} {
		inWorld(t, standin.Config{Flaws: flawsOf(t, strings.Fields(flaws)...)}, func(t *testing.T, w *world) {
			folder := w.play(t, text).folder
			cut(t, folder, 0.6)
			require.NoError(t, w.goOn(context.Background(), folder))
			w.askAgain(t, folder)
			c := w.judge(t, folder).checks[0]
			assert.NotEqual(t, proof.Met, c.State, name)
			if flaws == "" {
				assert.Equal(t, proof.Undecided, c.State, "%+v", c)
				assert.Contains(t, c.Got, "the run was killed, and what it sent last is not known")
			}
		})
	}
}
