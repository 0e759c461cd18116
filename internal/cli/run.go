package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"runcrowd/internal/check"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/evidence"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/report"
	"runcrowd/internal/run"
	"runcrowd/internal/seal"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
	"runcrowd/internal/wholefile"
)

// output is how a command that judges a run tells it.
type output struct {
	out          string // where run folders are made
	format       string
	quiet        bool
	memory       memory
	to           targetFlags // files to write at the end
	metrics, log string
	part         partFlags
	askLater     bool
	judgeLater   bool
	resume       string // the folder of a run that goes on
	rest         *fleet.Fleet
	restOf       *run.Part
}

func (o *output) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVarP(&o.out, "out", "o", "runs", "folder in which the run folder is made")
	f.StringVar(&o.format, "format", "text", "the report on standard output: text or json")
	f.BoolVarP(&o.quiet, "quiet", "q", false, "no progress")
	o.to.flags(cmd, "a file to write at the end, such as junit.xml or report.html, as report does")
	f.StringVar(&o.metrics, "metrics", "", "an address such as :9090 (this machine alone) or 0.0.0.0:9090 at which metrics for "+
		"Prometheus (/metrics) and /healthz are served while the run plays")
	f.StringVar(&o.log, "log", "", "a file to which what happens is written as it happens, as JSON lines")
	o.memory.flag(cmd)
}

// memory is how much of it judging may take.
type memory struct{ text string }

func (m *memory) flag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&m.text, "memory", quantity.FormatSize(evidence.DefaultMemory), "about how much memory "+
		"judging may take; more is sorted on disk")
}

// judging is how runs are judged.
func (m *memory) judging() (run.Judging, error) {
	n, err := quantity.ParseSize(m.text)
	if err == nil && n < leastMemory {
		err = fmt.Errorf("%q is too little; the least is %s", m.text, quantity.FormatSize(leastMemory))
	}
	if err != nil {
		return run.Judging{}, fmt.Errorf("--memory: %w", err)
	}
	return run.Judging{Keep: keepFindings, Memory: n}, nil
}

// leastMemory is the least that judging may be given.
const leastMemory = 16 << 20

func (e *env) run() *cobra.Command {
	var o output
	var begin, like, resume string
	var with changes
	cmd := &cobra.Command{
		Use:   "run [FILE]",
		Short: "Play a crowd file and judge what became of every message",
		Long: `Run plays a crowd file against the platform that it names: devices join, send
and leave, as the plan says, in one round or several. It then waits for the
witnesses, gives every message one verdict and prints the report. The run folder that it
leaves holds the evidence; verify judges it again at any time.

With --begin the plan's clock is set to a time: two runs with the same carry the same
values, to the last digit, as preview --at shows them.

With --set another value stands in the crowd file for this once; the file itself is not
changed, and the run folder keeps what was played. KEY is the way to the value in the file;
an entry of a list is meant by its kind, its name or its number, from 1. --for, --count and
--seed are short for --set plan.for=…, devices.count=… and seed=…. --address puts another
address in the place of a link's, and wherever else the file has it: witnesses look there.

With --like it plays what an earlier run sent: the same messages at the same
distances, through the devices of the same names. FILE may be left out: it is then the
one that was played.

Ctrl-C once stops the devices, waits for the witnesses and reports. Ctrl-C twice
leaves at once; the run folder can still be verified.

With --resume a run that was killed or interrupted goes on with its plan where it stopped, in its own
run folder and under the same marks.

Exit codes: 0 every requirement is met; 1 the run was played, but a requirement is
not met or undecided; 2 the command, the file or the disk is wrong; 3 the platform
could not be reached; 4 interrupted.`,
		Example: "  runcrowd run harbour/crowd.yaml\n  runcrowd run --like runs/harbour-20300601-120000-abcdefgh\n  " +
			"runcrowd run harbour/crowd.yaml --format json > report.json\n  runcrowd run harbour/crowd.yaml --begin " +
			"2026-01-15T02:00:00Z\n  runcrowd run harbour/crowd.yaml --for 30s --set kinds.buoy.readings.state.every=100ms",
		Args: func(cmd *cobra.Command, args []string) error {
			if resume != "" && len(args) > 0 {
				return errors.New("--resume goes on with a run as it was, and its folder has the crowd file: leave FILE out")
			}
			if (like != "" || resume != "") && len(args) == 0 {
				return nil
			}
			return oneCrowd(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(o.format); err != nil {
				return err
			}
			if resume != "" {
				if like != "" || begin != "" || len(with) > 0 || o.part != (partFlags{}) || cmd.Flags().Changed("out") {
					return errors.New("--resume goes on with a run as it was: what would change it does not go with it")
				}
				return e.runOn(resume, &o)
			}
			if like != "" {
				if begin != "" {
					return errors.New("--like does not go with --begin: it plays now")
				}
				if len(with) > 0 {
					return errors.New("--like plays what an earlier run sent, so nothing of it can be changed")
				}
				return e.runLike(args, like, &o)
			}
			if _, err := o.memory.judging(); err != nil {
				return err
			}
			c, err := with.load(crowdFile(args))
			if err != nil {
				return err
			}
			if begin != "" {
				if c.Plan.Begin, err = file.ParseBegin(begin); err != nil {
					return fmt.Errorf("--begin: %w", err)
				}
				if err := file.CheckBegin(&c.Plan); err != nil {
					return fmt.Errorf("--begin: %w", err)
				}
			}
			_, err = e.play(c, crowdFile(args), &o, nil)
			return err
		},
	}
	o.flags(cmd)
	o.part.flags(cmd)
	cmd.Flags().BoolVar(&o.judgeLater, "judge-later", false, "only play and record: verify judges what was recorded; exit code 0 where it was "+
		"played to its end")
	cmd.Flags().BoolVar(&o.askLater, "ask-later", false, "do not ask the platform what it has after each round: verify asks it when the run is over")
	with.flag(cmd)
	with.shortFlags(cmd)
	cmd.Flags().StringVar(&like, "like", "", "the folder of an earlier run, whose messages are sent again")
	cmd.Flags().StringVar(&resume, "resume", "", "the folder of a run that was killed or interrupted: go on with its plan where it stopped")
	cmd.Flags().StringVar(&begin, "begin", "", "when the plan's clock begins: a time (2026-01-15T02:00:00Z), a time of "+
		"day to wait for (\"02:00\", UTC), or how long ago (-7d)")
	return cmd
}

// runAgain plays what an earlier run sent.
func (e *env) runLike(args []string, like string, o *output) error {
	folder, release, err := e.unpacked(like)
	if err != nil {
		return err
	}
	defer release()
	if len(args) == 0 {
		m, err := run.ReadManifest(folder)
		if err != nil {
			return err
		}
		if m.Origin(e.key(false)) != run.Own {
			return fmt.Errorf("%s was not played by you here, or was changed; name the crowd file: %s run FILE --like %s",
				folder, e.program, folder)
		}
		if _, err := os.Stat(m.File); err != nil {
			return fmt.Errorf("%s was played from %s, which is not here; name the crowd file: %s run FILE --like %s", folder,
				m.File, e.program, folder)
		}
		args = []string{m.File}
	}
	c, err := file.Load(args[0])
	if err != nil {
		return err
	}
	n, cleanup, err := run.Resend(c, folder)
	if err != nil {
		return err
	}
	defer cleanup()
	if o.format == "text" && !o.quiet {
		fmt.Fprintf(e.stderr, "%s of %s go out again.\n", plural(n, "message"), folder)
	}
	_, err = e.play(c, args[0], o, nil)
	return err
}

// runOn goes on with a run that stopped.
func (e *env) runOn(name string, o *output) error {
	folder, err := run.Find(usualRuns, name)
	if err != nil {
		return err
	}
	f, m, err := run.LoadRest(folder)
	if err != nil {
		return err
	}
	if m.Origin(e.key(false)) != run.Own || len(run.Changed(folder)) > 0 {
		return fmt.Errorf("%s was not played by you here, or was changed: it cannot go on; begin a new run", folder)
	}
	o.resume, o.rest, o.restOf = folder, f, m.Part
	_, err = e.play(f.Crowd, m.File, o, nil)
	return err
}

// played is what a run left.
type played struct {
	folder string
	input  *report.Input
}

// play plays a crowd, writes its reports and prints one. After is called behind
// the report, before the exit code is decided.
func (e *env) play(c *crowd.Crowd, file string, o *output, after func(*played)) (*played, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var session atomic.Pointer[run.Session]
	view := newView(e, c, o.quiet)
	defer e.onInterrupt(cancel, &session, view)()

	f, err := o.rest, error(nil)
	if f == nil {
		f, err = fleet.Build(c, credential.New(c))
	}
	if err != nil {
		return nil, fail(err, c)
	}
	how, err := o.memory.judging()
	if err != nil {
		return nil, err
	}
	if o.judgeLater && (o.format != "text" || len(o.to.list) > 0) {
		return nil, errors.New("--judge-later makes no report: leave --format and --to out, and give them to verify")
	}
	results, err := o.results(c)
	if err != nil {
		return nil, err
	}
	part, from, err := o.part.read(os.LookupEnv)
	if err != nil {
		return nil, err
	}
	startAt, over, err := o.part.start(time.Now())
	if err != nil {
		return nil, err
	}
	if o.part.startAt != "" && c.Plan.Begin.Day.Is {
		return nil, errors.New("--start-at does not go with a plan that begins at a time of day; leave one of them out")
	}
	if over > 0 {
		fmt.Fprintf(e.stderr, "Warning: the time of --start-at is over since %s: the run begins at once.\n", over.Round(time.Second))
	}
	var only []*fleet.Device
	if o.resume != "" {
		part, from = o.restOf, "--part"
	}
	if part != nil {
		if only = f.Share(part.Share()); len(only) == 0 {
			return nil, fmt.Errorf("part %s has no device: the crowd has %s", part.Share(), plural(len(f.Devices), "device"))
		}
		if from != "--part" && !o.quiet {
			fmt.Fprintf(e.stderr, "This is part %s of the run %s, as %s says.\n", part.Share(), part.Name, from)
		}
	} else if other := run.Plays(o.out, c.Name); other != "" && o.resume == "" {
		fmt.Fprintf(e.stderr, "Warning: %s still plays, and is a run of this crowd, too: where both reach the same broker, "+
			"their devices throw each other off.\n", other)
	}
	if check.NothingDue(f) {
		fmt.Fprintf(e.stderr, "Warning: %s.\n", check.NothingDueText(f))
	}
	if o.metrics != "" {
		release, err := serveMetrics(o.metrics, c.Name, &session)
		if err != nil {
			return nil, err
		}
		defer release()
	}
	log, closeLog, err := openLog(o.log)
	if err != nil {
		return nil, err
	}
	defer closeLog(e)
	judging := &how
	if o.judgeLater {
		judging = nil
	}
	s, err := run.Open(ctx, f, run.Options{Out: o.out, Version: Version(), File: file, Judging: judging, Log: log,
		Key: e.key(true), Part: part, StartAt: startAt, Only: only, AskLater: o.askLater,
		Resume: o.resume})
	if err != nil {
		if ctx.Err() != nil {
			return nil, &exitError{exitInterrupted, errors.New("interrupted before anything was sent")}
		}
		return nil, fail(err, c)
	}
	session.Store(s)
	view.start(s, f)
	closeHand := s.OpenHand()
	if log != nil {
		log.Info("the run begins", "run", s.ID, "crowd", c.Name, "folder", s.Folder, "devices", len(f.Devices))
	}
	err = s.Play(ctx)
	if log != nil {
		log.Info("the run is over", "run", s.ID)
	}
	closeHand()
	view.stop()
	if err != nil {
		err = fmt.Errorf("%w\nWhat was recorded until then can be judged: %s verify %s", err, e.program, s.Folder)
		return nil, fail(err, c)
	}
	if n, first := s.ValuesFailed(); n > 0 {
		fmt.Fprintf(e.stderr, "In %s a value could not be made; null or the nearest that fits was sent; the first: %s\n",
			plural(int(n), "message"), c.Redact(first.Error()))
	}
	if o.judgeLater {
		p := s.Progress()
		fmt.Fprintf(e.stdout, "%s of %s were acknowledged; what became of them is not judged yet.\nJudge it with: %s verify %s\n",
			thousands(float64(p.Accepted)), count(int(p.Due), "message"), e.program, s.Folder)
		if ctx.Err() != nil || s.GaveWay() {
			return nil, &exitError{code: exitInterrupted}
		}
		return nil, nil
	}
	for i := range c.Results { // those of the file stand in the run folder, and come first
		results[i].path = filepath.Join(s.Folder, results[i].path)
	}
	w := e.create(results, &how)
	j, err := s.Judge(how)
	if err != nil {
		w.abandon()
		return nil, fail(err, c)
	}
	in, err := e.report(s.Folder, j, o.format, true)
	if err != nil {
		w.abandon()
		return nil, fail(err, c)
	}
	p := &played{s.Folder, in}
	if after != nil {
		after(p)
	} else if o.format == "text" {
		fmt.Fprintf(e.stdout, "\nThe run folder is %s\nJudge it again with: %s verify %s\n", s.Folder, e.program, s.Folder)
	}
	if err = w.end(in, o.quiet || o.format != "text"); err != nil {
		err = fail(err, c)
		if ctx.Err() != nil || !in.Met() { // how the run went weighs more
			fmt.Fprintf(e.stderr, "runcrowd: %s\n", err)
		}
	}
	e.tellEnding(in, o.format, ctx.Err() != nil)
	if ctx.Err() != nil {
		return p, &exitError{code: exitInterrupted}
	}
	if !in.Met() {
		return p, &exitError{code: exitBroken}
	}
	return p, err
}

// results are the files to write at the end: those of the crowd file first. What cannot be
// written is told before the run, as far as that can be known.
func (o *output) results(c *crowd.Crowd) ([]target, error) {
	var own []target
	for _, name := range c.Results { // the file was checked
		own = append(own, target{name, report.FormatOf(name)})
	}
	more, err := o.to.beside(o.format)
	return append(own, more...), err
}

// beside are the files to write beside a report on standard output, in its format.
func (f *targetFlags) beside(format string) ([]target, error) {
	list, err := f.targets()
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		if t.path == "-" && format == "json" {
			return nil, errors.New("--to - and --format json both write to standard output; give --to a file")
		}
		if dir := filepath.Dir(t.path); t.path != "-" {
			if info, err := os.Stat(dir); err != nil || !info.IsDir() {
				return nil, fmt.Errorf("--to: %s cannot be written: there is no folder %s", t.path, dir)
			}
		}
	}
	return list, nil
}

// openLog opens the file of --log, to add to it; nil without one.
func openLog(path string) (log *slog.Logger, close func(*env), err error) {
	if path == "" {
		return nil, func(*env) {}, nil
	}
	if err := wholefile.NoEvidence(path); err != nil {
		return nil, nil, fmt.Errorf("--log: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, nil, fmt.Errorf("--log: %s cannot be written: %w", path, wholefile.Cause(err))
	}
	w := &lossy{w: f}
	return slog.New(slog.NewJSONHandler(w, nil)), func(e *env) {
		err := f.Close()
		if w.err != nil {
			err = w.err
		}
		if err != nil {
			fmt.Fprintf(e.stderr, "The log %s is not whole: %s\n", path, wholefile.Cause(err))
		}
	}, nil
}

// lossy is a writer that remembers its first error: a full disk ends no run.
type lossy struct {
	w   io.Writer
	err error
}

// Write implements io.Writer. The handler of a log calls it from one goroutine at a time.
func (l *lossy) Write(b []byte) (int, error) {
	n, err := l.w.Write(b)
	if l.err == nil {
		l.err = err
	}
	return n, err
}

// oneSignal is how long signals are one: some send theirs to a process and to its group.
const oneSignal = time.Second

// onInterrupt stops a run at the first signal and leaves at the second.
func (e *env) onInterrupt(cancel func(), session *atomic.Pointer[run.Session], view *view) (release func()) {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, endSignals()...)
	done := make(chan struct{})
	go func() {
		var first time.Time
		for n := 1; ; n++ {
			select {
			case <-done:
				return
			case s := <-signals:
				if n > 1 && (hungUp(s) || time.Since(first) < oneSignal) {
					continue
				}
			}
			first = time.Now()
			if n == 1 {
				view.note("Stopping: devices leave, then the witnesses finish. Press Ctrl-C again to leave at once.")
				cancel()
				continue
			}
			view.stop()
			text := "runcrowd: left at once"
			if s := session.Load(); s != nil {
				s.Flush()
				text += fmt.Sprintf("; judge what was recorded with: %s verify %s", e.program, s.Folder)
			}
			fmt.Fprintln(e.stderr, text)
			os.Exit(exitInterrupted)
		}
	}()
	return func() {
		signal.Stop(signals)
		close(done)
	}
}

// keepFindings is how many messages of each bad verdict the JSON report lists.
const keepFindings = 10_000

// report prints the report of a run; write leaves it in the folder too.
func (e *env) report(folder string, j *run.Judgement, format string, write bool) (*report.Input, error) {
	in := &report.Input{Folder: folder, Result: j.Result, Checks: j.Checks, AtMost: keepFindings}
	doc, err := report.JSON(in)
	if err != nil {
		return nil, err
	}
	if write {
		if err := writeReports(folder, in, doc); err != nil {
			fmt.Fprintf(e.stderr, "The report could not be left in the run folder: %s\n", err)
		}
	}
	if format == "json" {
		_, err = e.raw.Write(doc)
		return in, err
	}
	_, err = fmt.Fprint(e.stdout, report.Text(in, e.style()))
	return in, err
}

// tellEnding repeats in the last line how a run went.
func (e *env) tellEnding(in *report.Input, format string, cut bool) {
	if format == "text" {
		fmt.Fprint(e.stdout, "\n"+report.Ending(in, cut, e.style()))
	}
}

func writeReports(folder string, in *report.Input, doc []byte) error {
	if err := wholefile.WriteOwn(filepath.Join(folder, run.ReportJSON), doc); err != nil {
		return err
	}
	return wholefile.WriteOwn(filepath.Join(folder, run.ReportText),
		[]byte(report.Text(in, report.Style{})))
}

func (e *env) verify() *cobra.Command {
	var format string
	var again, offline, trust bool
	var wait, await string
	var mem memory
	var to targetFlags
	cmd := &cobra.Command{
		Use:   "verify RUN",
		Short: "Judge a run folder again",
		Long: `Verify judges a run folder again, at any time, also that of a run that was cut
off. The same evidence gives the same verdicts.

A witness that queries the platform and was not heard to the end is asked now,
and what it says is added to the run folder: with --wait 5m it looks that long for
what is missing, whatever the crowd file says. A run that still plays is only read.

That goes for runs that you played on this machine. A run folder of somebody else, or
one that was changed, is judged by the evidence in it alone, and nothing is written
into it; what its witnesses would use is listed. With --trust they are asked.

A run in parts is judged as one run. With --await-parts 2h it waits up to two hours until every
part has ended.

Exit codes: 0 all requirements are met; 1 one is not met; 2 the folder cannot be
judged; 4 they are met, but the run was interrupted or killed before its end.`,
		Example: "  runcrowd verify runs/skerry-roads-20300102-030405-abcdefgh",
		Args:    someRuns(1, "one run folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			ask := run.Again{All: again}
			if wait != "" {
				d, err := quantity.ParseDuration(wait)
				if err != nil || d <= 0 || d > quantity.Day {
					return fmt.Errorf("--wait: %q is no time up to a day; write, for example, --wait 5m", wait)
				}
				ask.Wait = d
			}
			if (again || ask.Wait > 0) && offline {
				return errors.New("--ask-again and --wait are for asking the platform, and --offline forbids it; give one")
			}
			how, err := mem.judging()
			if err != nil {
				return err
			}
			if await != "" {
				if err := e.awaitParts(args[0], await); err != nil {
					return err
				}
			}
			list, err := to.beside(format)
			if err != nil {
				return err
			}
			open := e.unpacked
			if isPack(args[0]) {
				open = e.opened
			}
			folder, release, err := open(args[0])
			if err != nil {
				return err
			}
			defer release()
			if folder != args[0] { // what a witness would say has no place to go to
				if again || ask.Wait > 0 {
					return errors.New("--ask-again and --wait do not go with a packed run: what witnesses say would be lost")
				}
				offline = true
			}
			return e.judge(folder, format, how, list, ask, offline, trust)
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "the report on standard output: text or json")
	cmd.Flags().BoolVar(&again, "ask-again", false, "ask every querying witness again, also those that were heard")
	cmd.Flags().StringVar(&wait, "wait", "", "how long each witness that is asked looks for what is missing, such as 5m")
	cmd.Flags().BoolVar(&offline, "offline", false, "contact no platform; judge from the recorded evidence")
	cmd.Flags().BoolVar(&trust, "trust", false, "treat the run folder as your own, though somebody else made it or it was "+
		"changed")
	cmd.Flags().StringVar(&await, "await-parts", "", "of a run in parts: wait until every part has ended, at most this long, such as 2h")
	to.flags(cmd, "a file to write as well, such as report.html, as report does")
	mem.flag(cmd)
	return cmd
}

// awaitParts waits for the parts of a run.
func (e *env) awaitParts(folder, most string) error {
	d, err := quantity.ParseDuration(most)
	if err != nil || d <= 0 {
		return fmt.Errorf("--await-parts: %q is no time; write, for example, --await-parts 2h", most)
	}
	ctx, stop := interruptible()
	defer stop()
	open := run.AwaitParts(ctx, folder, d)
	if ctx.Err() != nil {
		return &exitError{exitInterrupted, errors.New("interrupted; nothing was judged")}
	}
	for _, x := range open { // what is there is judged, and says what is missing
		fmt.Fprintf(e.stderr, "Waited %s for %s.\n", quantity.FormatDuration(d), x)
	}
	return nil
}

// key is the user's key; nil, and told, where there is none and none can be made.
func (e *env) key(make bool) *seal.Key {
	k, err := seal.User(make)
	if err != nil && make {
		fmt.Fprintf(e.stderr, "The run folder is not sealed, and verify will treat it as somebody else's: %s\n", err)
	}
	return k
}

func (e *env) judge(folder, format string, how run.Judging, to []target, ask run.Again, offline, trust bool) error {
	m, err := run.ReadManifest(folder)
	if err != nil {
		return err
	}
	origin, changed := m.Origin(e.key(false)), run.Changed(folder)
	if origin == run.Altered && !trust {
		return fmt.Errorf("%s: its %s was changed after you played the run: what it requires may be another. Nothing was "+
			"judged; --trust judges it all the same", folder, run.ManifestFile)
	}
	for _, name := range changed {
		fmt.Fprintf(e.stderr, "%s in the run folder is not as the run left it: it was changed, or is missing. The verdicts "+
			"come from the ledger alone.\n", name)
	}
	own := trust || origin == run.Own && len(changed) == 0
	if origin == run.Foreign && !trust {
		fmt.Fprintln(e.stderr, "You did not play this run on this machine: it is judged by the evidence and the requirements "+
			"in its folder, and nothing is written there.")
	}
	if !offline {
		folders := m.JudgedParts(folder)
		if folders == nil {
			folders = []string{folder}
		}
		for _, folder := range folders {
			if err := e.hearAgain(folder, ask, own); err != nil {
				return err
			}
		}
	}
	w := e.create(to, &how)
	j, err := run.Judge(folder, how)
	if err != nil {
		w.abandon()
		return err
	}
	in, err := e.report(folder, j, format, own && !run.Busy(folder))
	if err != nil {
		w.abandon()
		return err
	}
	if err = w.end(in, format != "text"); err != nil && !in.Met() { // how the run went weighs more
		fmt.Fprintf(e.stderr, "runcrowd: %s\n", err)
	}
	if format == "text" && in.Result.Torn > 0 && !in.Result.Playing {
		fmt.Fprintf(e.stdout, "\n%d bytes of the ledger of run %s were not written whole, because it was killed, and were "+
			"left out.\n", in.Result.Torn, m.Run)
	}
	e.tellEnding(in, format, false)
	switch {
	case !in.Met():
		return &exitError{code: exitBroken}
	case err == nil && !in.Result.Whole():
		return &exitError{code: exitInterrupted} // a part of a plan is not the plan
	}
	return err
}

// hearAgain asks the witnesses that can still be asked. What cannot be asked is
// told, and judged as not heard.
func (e *env) hearAgain(folder string, ask run.Again, own bool) error {
	b, err := run.LookLedger(folder)
	if err != nil {
		return err
	}
	needed := ask.All
	for _, w := range b.Witnesses {
		needed = needed || len(w.Lost) > 0
		for _, r := range b.Rounds {
			needed = needed || !w.Heard[r.N].Complete
		}
	}
	if !needed {
		return nil
	}
	cannot := func(err error) error {
		fmt.Fprintf(e.stderr, "The witnesses cannot be asked, because the run folder's crowd file cannot be used:\n%s\n", err)
		return nil
	}
	c, err := run.ReadCopy(folder)
	if err != nil {
		return cannot(err)
	}
	unheard := run.Unheard(b, c, ask.All)
	if len(unheard) == 0 {
		return nil
	}
	if !own && !e.agree(run.Uses(c, unheard)) {
		return nil
	}
	if c, err = run.LoadCopy(folder); err != nil {
		return cannot(err)
	}
	ctx, stop := interruptible()
	defer stop()
	ask.Asking = func(witness string) { fmt.Fprintf(e.stderr, "Asking the witness %s …\n", witness) }
	err = run.HearAgain(ctx, folder, c, ask)
	if errors.Is(err, ledger.ErrBusy) {
		fmt.Fprintln(e.stderr, "No witness is asked: another process plays or verifies this run.")
		return nil
	}
	if err != nil {
		if ctx.Err() != nil {
			return &exitError{exitInterrupted, errors.New("interrupted")}
		}
		fmt.Fprintf(e.stderr, "%s\n", c.Redact(err.Error()))
	}
	return nil
}

// agree lists what the witnesses of somebody else's run would use, and asks on a terminal
// whether they may.
func (e *env) agree(uses []string) bool {
	fmt.Fprintln(e.stderr, "Not all was heard. If the witnesses were asked now:")
	for _, line := range uses {
		fmt.Fprintf(e.stderr, "  %s\n", line)
	}
	in := os.Stdin
	if asked, _ := terminal(e.stderr); !asked || !term.IsTerminal(int(in.Fd())) {
		fmt.Fprintln(e.stderr, "They are not asked; --trust asks them.")
		return false
	}
	fmt.Fprint(e.stderr, "Ask them? [y/N] ")
	answer := ""
	fmt.Fscanln(in, &answer)
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// verdictOf finds the verdict of a message among the findings.
func verdictOf(r *tally.Result, device, reading string, seq uint64) string {
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Device == device && f.Reading == reading && f.Seq == seq {
			return f.Verdict
		}
	}
	return verdict.Proven.String()
}
