package cli

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/grid"
	"runcrowd/internal/ledger"
	"runcrowd/internal/report"
	"runcrowd/internal/run"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
	"runcrowd/internal/wholefile"
)

// formatsHelp lists the forms of --to, for helps.
func formatsHelp() string {
	var b strings.Builder
	for _, f := range report.Formats {
		fmt.Fprintf(&b, "  %-15s %s\n", f.Name, f.Doc)
	}
	return strings.TrimRight(b.String(), "\n")
}

func (e *env) reportTo() *cobra.Command {
	var to targetFlags
	var mem memory
	cmd := &cobra.Command{
		Use:   "report RUN --to FILE...",
		Short: "Write what a run showed to files: HTML, JUnit, JSON, CSV, SQLite, Markdown",
		Long: `Report judges a run folder and writes the result to files, each in the form that its
ending tells, or that an --as after it names:

` + formatsHelp() + `

A name that ends in .zst is compressed. - is standard output, in Markdown if --as does
not say otherwise. A file is written whole or not at all; where one cannot be written,
the others are. Messages are written one by one: a run may be of any size.

No witness is asked again; use verify for that. Exit codes: 0 all files were written,
2 one was not. They say nothing about the verdict.`,
		Example: "  runcrowd report runs/skerry-roads-… --to report.html --to junit.xml\n  runcrowd report " +
			"runs/skerry-roads-… --to messages.csv.zst --to run.db\n  runcrowd report runs/skerry-roads-… --to - >> " +
			"\"$SUMMARY\"",
		Args: someRuns(1, "one run folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(to.list) == 0 {
				return errors.New("report needs at least one file: --to report.html")
			}
			how, err := mem.judging()
			if err != nil {
				return err
			}
			list, err := to.targets()
			if err != nil {
				return err
			}
			folder, release, err := e.opened(args[0])
			if err != nil {
				return err
			}
			defer release()
			return e.write(folder, how, list, false)
		},
	}
	to.flags(cmd, "a file to write")
	mem.flag(cmd)
	return cmd
}

// target is a file to write.
type target struct {
	path   string
	format *report.Format
}

// targetFlags are --to and --as: each --as is for the --to before it.
type targetFlags struct {
	list  []target
	force bool
}

type (
	toFlag struct{ *targetFlags }
	asFlag struct{ *targetFlags }
)

func (f *targetFlags) flags(cmd *cobra.Command, to string) {
	cmd.Flags().Var(toFlag{f}, "to", to+"; may be given several times; - is standard output")
	cmd.Flags().BoolVar(&f.force, "force", false, "write over files that are there already")
	cmd.Flags().Var(asFlag{f}, "as", "the form of the file of the --to before it, where its ending does not tell it")
}

// String implements pflag.Value.
func (*targetFlags) String() string { return "" }

// Type implements pflag.Value.
func (toFlag) Type() string { return "file" }

// Type implements pflag.Value.
func (asFlag) Type() string { return "form" }

// Set implements pflag.Value.
func (f toFlag) Set(path string) error {
	for _, t := range f.list {
		if t.path == path {
			return fmt.Errorf("%s stands twice", path)
		}
	}
	f.list = append(f.list, target{path: path})
	return nil
}

// Set implements pflag.Value.
func (f asFlag) Set(name string) error {
	if len(f.list) == 0 {
		return errors.New("it is for the --to before it, and there is none")
	}
	t := &f.list[len(f.list)-1]
	if t.format = report.FormatNamed(name); t.format == nil {
		var names []string
		for _, x := range report.Formats {
			names = append(names, x.Name)
		}
		return fmt.Errorf("there is no form %q%s; there are %s", name, formula.Hint(name, names), strings.Join(names, ", "))
	}
	return nil
}

// targets finds the form of each file.
func (f *targetFlags) targets() ([]target, error) {
	list := slices.Clone(f.list)
	for i := range list {
		t := &list[i]
		if t.path != "-" {
			if err := wholefile.Free(t.path, f.force); err != nil {
				return nil, fmt.Errorf("--to: %w", err)
			}
		}
		switch {
		case t.format != nil:
		case t.path == "-":
			t.format = report.FormatNamed("markdown")
		default:
			if t.format = report.FormatOf(t.path); t.format == nil {
				return nil, fmt.Errorf("--to: the ending of %s tells no form; say which after it, for example --as messages-csv",
					t.path)
			}
		}
	}
	return list, nil
}

// write judges a run folder and writes files. The error is of those that could not be
// written, when the others are. Quiet: that they were written is not told.
func (e *env) write(folder string, how run.Judging, list []target, quiet bool) error {
	if _, err := run.ReadManifest(folder); err != nil {
		return err
	}
	w := e.create(list, &how)
	if len(w.files) == 0 {
		return errors.Join(w.failed...)
	}
	j, err := run.Judge(folder, how)
	if err != nil {
		w.abandon()
		return errors.Join(append(w.failed, err)...)
	}
	return w.end(&report.Input{Folder: folder, Result: j.Result, Checks: j.Checks, AtMost: keepFindings}, quiet)
}

// writing are the files that a judgement fills.
type writing struct {
	env    *env
	files  []*report.File
	failed []error // of those that cannot be written
	forget func()  // them, where a signal ends the program
}

// create begins files, and has a judgement fill them.
func (e *env) create(list []target, how *run.Judging) *writing {
	w := &writing{env: e}
	for _, t := range list {
		f, err := report.Create(t.path, t.format, e.raw, true)
		if err != nil {
			w.failed = append(w.failed, err)
			continue
		}
		w.files = append(w.files, f)
	}
	w.forget = onInterrupt(func() {
		for _, f := range w.files {
			f.Remove()
		}
	})
	var wanting []*report.File
	for _, f := range w.files {
		how.Series = how.Series || f.Format.Name == "html"
		switch f.Format.Name {
		case "html":
			how.Rows = max(how.Rows, tally.RowCounts)
		case "sqlite", "devices-csv", "devices-jsonl":
			how.Rows = tally.RowValues
		}
		if f.Format.Messages {
			wanting = append(wanting, f)
		}
	}
	feed(how, nil, wanting)
	return w
}

// end writes what the files need at the end.
func (w *writing) end(in *report.Input, quiet bool) error {
	defer w.forget()
	for _, f := range w.files {
		if err := f.End(in); err != nil {
			w.failed = append(w.failed, err)
		} else if f.Path != "-" && !quiet {
			fmt.Fprintf(w.env.stderr, "%s is written.\n", f.Path)
		}
	}
	return errors.Join(w.failed...)
}

// abandon removes the files: there is no judgement.
func (w *writing) abandon() {
	defer w.forget()
	for _, f := range w.files {
		f.Abandon()
	}
}

// leftovers are what has to be taken away where a signal ends the program.
var leftovers struct {
	mu    sync.Mutex
	clean map[int]func()
	n     int
	stop  func() // listening for signals
}

// onInterrupt does something where a signal ends the program, until release.
func onInterrupt(clean func()) (release func()) {
	l := &leftovers
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.clean) == 0 {
		signals, done := make(chan os.Signal, 1), make(chan bool)
		signal.Notify(signals, endSignals()...)
		go func() {
			select {
			case <-signals:
				l.mu.Lock()
				for _, f := range l.clean {
					f()
				}
				os.Exit(exitInterrupted)
			case <-done:
			}
		}()
		l.clean, l.stop = map[int]func(){}, func() { signal.Stop(signals); close(done) }
	}
	l.n++
	n := l.n
	l.clean[n] = clean
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if delete(l.clean, n); len(l.clean) == 0 {
			l.stop()
		}
	}
}

// opened is unpacked for a command that a signal just ends.
func (e *env) opened(arg string) (folder string, release func(), err error) {
	folder, remove, err := e.unpacked(arg)
	if err != nil {
		return "", nil, err
	}
	forget := onInterrupt(remove)
	return folder, func() { remove(); forget() }, nil
}

// feed has a judgement hand each message to files that want it; only, if not nil, chooses.
func feed(how *run.Judging, only func(device string, v verdict.Verdict) bool, files []*report.File) {
	if len(files) > 0 {
		how.Feed = func(facts *ledger.Facts) tally.Each { return report.Feed(facts, only, files) }
	}
}

// fleetOf makes the devices of a run folder, of its crowd file.
func fleetOf(folder string) (*fleet.Fleet, error) {
	c, err := run.ReadCopy(folder)
	if err != nil {
		return nil, err
	}
	return fleet.Build(c, nil)
}

// verdictNamed finds verdicts by their names.
func verdictsNamed(names []string) (map[verdict.Verdict]bool, error) {
	set := map[verdict.Verdict]bool{}
	for _, name := range names {
		i := slices.IndexFunc(verdict.All(), func(v verdict.Verdict) bool { return v.String() == name })
		if i < 0 {
			var known []string
			for _, v := range verdict.All() {
				known = append(known, v.String())
			}
			return nil, fmt.Errorf("--verdict: there is no verdict %q%s; there are %s", name, formula.Hint(name, known),
				strings.Join(known, ", "))
		}
		set[verdict.Verdict(i)] = true
	}
	return set, nil
}

// selection tells which devices are chosen; nil: all.
func selection(folder string, who []string) (func(device string) bool, *fleet.Fleet, error) {
	if len(who) == 0 {
		return func(string) bool { return true }, nil, nil
	}
	f, err := fleetOf(folder)
	if err != nil {
		return nil, nil, err
	}
	devices, err := selectDevices(f, "who", who)
	if err != nil {
		return nil, nil, err
	}
	set := map[string]bool{}
	for _, d := range devices {
		set[d.Name] = true
	}
	return func(device string) bool { return set[device] }, f, nil
}

func (e *env) messages() *cobra.Command {
	var who, verdicts []string
	var format, to string
	var force bool
	var mem memory
	cmd := &cobra.Command{
		Use:   "messages RUN",
		Short: "List the messages of a run, each with its times, values and what each witness says",
		Long: `Messages lists every message of a run, of some devices or with some verdicts: when it
was due, sent and answered, what it carried, and what each witness says of it. It is the
export of one device, or of what went wrong.

The text shows a line a message; json is JSON Lines; csv has a column for all there is.`,
		Example: "  runcrowd messages runs/skerry-roads-… --who buoy-007\n  runcrowd messages runs/skerry-roads-… " +
			"--verdict lost --verdict altered\n  runcrowd messages runs/skerry-roads-… --who tide-gauge --format csv > " +
			"gauges.csv",
		Args: someRuns(1, "one run folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			how, err := mem.judging()
			if err != nil {
				return err
			}
			name, known := map[string]string{"text": "text", "json": "messages-jsonl", "csv": "messages-csv"}[format]
			if !known {
				return fmt.Errorf("--format is text, json or csv, not %q", format)
			}
			set, err := verdictsNamed(verdicts)
			if err != nil {
				return err
			}
			folder, release, err := e.opened(args[0])
			if err != nil {
				return err
			}
			defer release()
			chosen, _, err := selection(folder, who)
			if err != nil {
				return err
			}
			f, out := report.FormatNamed(name), e.raw
			if format == "text" {
				f, out = report.Lines(e.colored(e.stdout)), e.stdout
			}
			file, err := report.Create(to, f, out, force)
			if err != nil {
				return err
			}
			defer onInterrupt(file.Remove)()
			how.Keep = 1
			feed(&how, func(device string, v verdict.Verdict) bool {
				return chosen(device) && (len(set) == 0 || set[v])
			}, []*report.File{file})
			j, err := run.Judge(folder, how)
			if err != nil {
				file.Abandon()
				return err
			}
			e.tellStanding(j.Result)
			return file.End(&report.Input{Folder: folder, Result: j.Result, Checks: j.Checks})
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&who, "who", nil, "only these devices, such as buoy-007, light-buoy or 'site == \"outer\"'; may be "+
		"given several times")
	f.StringArrayVar(&verdicts, "verdict", nil, "only messages with this verdict; may be given several times")
	f.StringVar(&format, "format", "text", "text, json (JSON Lines) or csv")
	f.StringVar(&to, "to", "-", "a file to write, whole or not at all; - is standard output")
	f.BoolVar(&force, "force", false, "write over a file that is there already")
	mem.flag(cmd)
	return cmd
}

// devicesOf is how devices asks.
type devicesOf struct {
	who, verdicts    []string
	by, sort, format string
	witness          string
	all, values      bool
	memory           memory
}

func (e *env) devices() *cobra.Command {
	var d devicesOf
	cmd := &cobra.Command{
		Use:   "devices RUN",
		Short: "Sum up a run device by device: verdicts, last values here and there, gaps",
		Long: `Devices sums up a run: a row for each reading of each device with what was due and
proven, what was not, the last sequence number that was sent and that was found, gaps, and
how often the device lost its connection. With --values there is a line for each field:
lowest, highest, mean and last, as sent, and as the witness has it where that differs.

The witness is the first that proves that messages are stored, or else received, if
--witness names no other.`,
		Example: "  runcrowd devices runs/skerry-roads-…\n  runcrowd devices runs/skerry-roads-… --verdict lost --sort " +
			"due\n  runcrowd devices runs/skerry-roads-… --who buoy-007 --values\n  runcrowd devices " +
			"runs/skerry-roads-… --by site",
		Args: someRuns(1, "one run folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			folder, release, err := e.opened(args[0])
			if err != nil {
				return err
			}
			defer release()
			return e.sumUp(folder, &d)
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&d.who, "who", nil, "only these devices, such as buoy-007, light-buoy or 'site == \"outer\"'; may "+
		"be given several times")
	f.StringArrayVar(&d.verdicts, "verdict", nil, "only those with a message of this verdict; may be given several times")
	f.StringVar(&d.by, "by", "", "sum up by this property, or by kind or tag, instead of by device")
	f.StringVar(&d.sort, "sort", "", "order: device, due, not-proven, gaps or disconnects; if not given, that of the "+
		"crowd file")
	f.StringVar(&d.format, "format", "text", "text, json (JSON Lines) or csv")
	f.StringVar(&d.witness, "witness", "", "the witness whose values and times are shown")
	f.BoolVar(&d.values, "values", false, "the values of each field, too; json and csv always have them")
	f.BoolVar(&d.all, "all", false, "all rows, not the first 100")
	d.memory.flag(cmd)
	return cmd
}

func (e *env) sumUp(folder string, d *devicesOf) error {
	how, err := d.memory.judging()
	if err != nil {
		return err
	}
	if d.format != "text" && d.format != "json" && d.format != "csv" {
		return fmt.Errorf("--format is text, json or csv, not %q", d.format)
	}
	set, err := verdictsNamed(d.verdicts)
	if err != nil {
		return err
	}
	orders := map[string]func(a, b *tally.Row) int{
		"device":      func(a, b *tally.Row) int { return cmp.Compare(a.Device, b.Device) },
		"due":         func(a, b *tally.Row) int { return cmp.Compare(b.Counts.Due(), a.Counts.Due()) },
		"not-proven":  func(a, b *tally.Row) int { return cmp.Compare(notProven(b), notProven(a)) },
		"gaps":        func(a, b *tally.Row) int { return cmp.Compare(b.Gaps, a.Gaps) },
		"disconnects": func(a, b *tally.Row) int { return cmp.Compare(b.Disconnects, a.Disconnects) },
	}
	order := orders[d.sort]
	if d.sort != "" && order == nil {
		return fmt.Errorf("--sort is device, due, not-proven, gaps or disconnects, not %q", d.sort)
	}
	chosen, f, err := selection(folder, d.who)
	if err != nil {
		return err
	}
	how.Rows, how.Keep, how.Witness = tally.RowCounts, 1, d.witness
	if d.witness != "" {
		facts, err := run.LookLedger(folder)
		if err != nil {
			return err
		}
		var names []string
		for i := range facts.Own() {
			if p := facts.Witnesses[i].Proof; p == "received" || p == "stored" {
				names = append(names, facts.Witnesses[i].Name)
			}
		}
		if !slices.Contains(names, d.witness) {
			return unknownName("--witness", "there is no witness of single messages", d.witness, names)
		}
	}
	if d.values || d.format != "text" {
		how.Rows = tally.RowValues
	}
	j, err := run.Judge(folder, how)
	if err != nil {
		return err
	}
	e.tellStanding(j.Result)
	rows := slices.DeleteFunc(j.Rows, func(r tally.Row) bool {
		if !chosen(r.Device) {
			return true
		}
		for v := range set {
			if r.Counts[v] > 0 {
				return false
			}
		}
		return len(set) > 0
	})
	if d.by != "" {
		if f == nil {
			if f, err = fleetOf(folder); err != nil {
				return err
			}
		}
		if rows, err = groupRows(f, rows, d.by); err != nil {
			return err
		}
	}
	if order != nil {
		slices.SortStableFunc(rows, func(a, b tally.Row) int { return order(&a, &b) })
	}
	in := &report.Input{Folder: folder, Result: &tally.Result{Rows: rows}}
	switch d.format {
	case "json":
		b, err := report.DevicesJSON(in)
		if err == nil {
			_, err = e.raw.Write(b)
		}
		return err
	case "csv":
		b, err := report.DevicesCSV(in)
		if err == nil {
			_, err = e.raw.Write(b)
		}
		return err
	}
	return e.tableOfDevices(rows, d)
}

// tellStanding says what keeps a run from being whole.
func (e *env) tellStanding(r *tally.Result) {
	if text := report.Standing(r); text != "" {
		fmt.Fprintln(e.stderr, text)
	}
	if len(r.Damage) > 0 {
		fmt.Fprintln(e.stderr, "The ledger is damaged: not all that was sent is here.")
	}
}

func notProven(r *tally.Row) int {
	return r.Counts.Due() - r.Counts[verdict.Proven] - r.Counts[verdict.Dropped]
}

// groupRows sums rows up by a property, a kind or tags.
func groupRows(f *fleet.Fleet, rows []tally.Row, by string) ([]tally.Row, error) {
	groups := map[string][]string{} // by device
	known := map[string]bool{"kind": true, "tag": true}
	for _, d := range f.Devices {
		for _, p := range d.Cast.Properties {
			known[p.Name] = true
		}
		switch by {
		case "kind":
			groups[d.Name] = []string{d.Cast.Kind.Name}
		case "tag":
			groups[d.Name] = d.Tags
		default:
			if v, has := d.Env[by]; has && known[by] {
				groups[d.Name] = []string{foreign.Line(formula.String(v), foreign.Most)}
			}
		}
	}
	if !known[by] {
		names := slices.Sorted(func(yield func(string) bool) {
			for n := range known {
				if !yield(n) {
					return
				}
			}
		})
		return nil, fmt.Errorf("--by: no device has the property %q%s; there are %s", by, formula.Hint(by, names),
			strings.Join(names, ", "))
	}
	var list []tally.Row
	at := map[[2]string]int{}
	for i := range rows {
		of := groups[rows[i].Device]
		if len(of) == 0 {
			of = []string{"(none)"}
		}
		for _, name := range of {
			k := [2]string{name, rows[i].Reading}
			n, has := at[k]
			if !has {
				n = len(list)
				at[k] = n
				list = append(list, tally.Row{Device: name, Kind: rows[i].Kind, Reading: rows[i].Reading})
			}
			list[n].Merge(&rows[i])
		}
	}
	return list, nil
}

func (e *env) tableOfDevices(rows []tally.Row, d *devicesOf) error {
	if len(rows) == 0 {
		_, err := fmt.Fprintln(e.stdout, "No device fits.")
		return err
	}
	if d.values {
		return e.valuesOfDevices(rows, d)
	}
	heads := []string{"device", "reading", ">due", ">proven", "what was not", ">last seq", ">found", "sent last", "found last",
		">gaps", ">disconnects"}
	if d.by != "" {
		heads = append([]string{d.by}, slices.Delete(heads[1:], 4, 8)...)
	}
	t := grid.New(heads...)
	shown := 0
	for i := range rows {
		if shown == tableRows && !d.all {
			break
		}
		shown++
		r := &rows[i]
		line := []any{r.Device, r.Reading, r.Counts.Due(), r.Counts[verdict.Proven], whatWasNot(r)}
		if d.by == "" {
			line = append(line, r.SeqHere, r.SeqThere, clockOf(r.LastHere), clockOf(r.LastThere))
		}
		t.Row(append(line, r.Gaps, r.Disconnects)...)
	}
	e.table(t, "sent last", "found last", "last seq", "found", "disconnects", "gaps")
	if more := len(rows) - shown; more > 0 {
		fmt.Fprintf(e.stdout, "… and %d more; --all shows them\n", more)
	}
	return nil
}

// style is how reports look on standard output.
func (e *env) style() report.Style {
	_, width := terminal(e.stdout)
	return report.Style{Color: e.colored(e.stdout), Width: width}
}

// table prints a table, as wide as the terminal is at most; spare columns are left out first.
func (e *env) table(t *grid.Grid, spare ...string) {
	_, width := terminal(e.stdout)
	text, left := t.Fit("", false, width, spare...)
	fmt.Fprintln(e.stdout, text)
	if len(left) > 0 {
		fmt.Fprintf(e.stdout, "A wider terminal shows also: %s.\n", strings.Join(left, ", "))
	}
}

// whatWasNot is what was not proven of a row, by verdict.
func whatWasNot(r *tally.Row) string {
	var not []string
	for _, v := range verdict.All() {
		if v != verdict.Proven && r.Counts[v] > 0 {
			not = append(not, fmt.Sprintf("%d %s", r.Counts[v], v))
		}
	}
	return strings.Join(not, ", ")
}

// valuesOfDevices shows each row with its fields below it.
func (e *env) valuesOfDevices(rows []tally.Row, d *devicesOf) error {
	for i := range rows {
		if i == tableRows && !d.all {
			fmt.Fprintf(e.stdout, "\n… and %d more; --all shows them\n", len(rows)-i)
			break
		}
		r := &rows[i]
		line := fmt.Sprintf("%s %s: %d of %d proven", r.Device, r.Reading, r.Counts[verdict.Proven], r.Counts.Due())
		if not := whatWasNot(r); not != "" {
			line += ", " + not
		}
		if d.by == "" {
			line += fmt.Sprintf("; last seq %d, found %d", r.SeqHere, r.SeqThere)
		}
		if r.Gaps > 0 {
			line += "; " + plural(r.Gaps, "gap")
		}
		if r.Disconnects > 0 {
			line += "; connection lost " + plural(r.Disconnects, "time")
		}
		fmt.Fprintln(e.stdout, line)
		t := grid.New("field", ">lowest", ">highest", ">mean", "last")
		for k := range r.Fields {
			f := &r.Fields[k]
			name := f.Name
			if f.Unit != "" {
				name += " (" + f.Unit + ")"
			}
			t.Row(name, here(&f.Here, &f.There, func(s *tally.Spans) float64 { return s.Low }, -1),
				here(&f.Here, &f.There, func(s *tally.Spans) float64 { return s.High }, -1),
				here(&f.Here, &f.There, (*tally.Spans).Mean, digitsOfMean), lastOf(&f.Here, &f.There))
		}
		fmt.Fprintln(e.stdout, t.Plain("  "))
	}
	_, err := fmt.Fprintln(e.stdout, "Where the witness has another value, it stands after the one that was sent: sent "+
		"/ found.")
	return err
}

// clockOf is a time of day (UTC), or nothing.
func clockOf(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("15:04:05.000")
}

// here is a number as sent, and as found where that differs.
func here(sent, found *tally.Spans, of func(*tally.Spans) float64, digits int) string {
	number := func(s *tally.Spans, none string) string {
		if s.N == 0 {
			return none
		}
		return strconv.FormatFloat(of(s), 'g', digits, 64)
	}
	a, b := number(sent, "not sent"), number(found, "not found")
	switch {
	case sent.N == 0 && found.N == 0:
		return ""
	case a == b:
		return a
	}
	return a + " / " + b
}

// digitsOfMean is how many are shown: the order in which numbers are added changes the last.
const digitsOfMean = 7

func lastOf(sent, found *tally.Spans) string {
	a, b := clipCell(sent.Last), clipCell(found.Last)
	if b == "" {
		b = "not found"
	}
	if a == b {
		return a
	}
	return a + " / " + b
}

func clipCell(s string) string {
	if r := []rune(s); len(r) > 32 {
		return string(r[:31]) + "…"
	}
	return s
}
