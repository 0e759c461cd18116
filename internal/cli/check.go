package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/check"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/folder"
	"runcrowd/internal/foreign"
	"runcrowd/internal/quantity"
)

func (e *env) check() *cobra.Command {
	var format string
	var strict, watch bool
	var parts int
	var with changes
	cmd := &cobra.Command{
		Use:   "check [FILE]",
		Short: "Check a crowd file for mistakes, without connecting",
		Long: `Check reads a crowd file and the files it names, makes all devices and their
first messages, and reports what it finds. It connects to nothing.

  mistakes   what cannot work: unknown names, wrong types, formulas that do not
             compile, client ids or device names that two devices share, topics
             that break the standard, values that their payload cannot hold
  warnings   what works and is probably not meant: names that run out of digits,
             topics that collide, witnesses that can never see a message, secrets
             in plain text, no TLS to another machine
  load       what the platform has to expect: messages, bytes and connections a
             second, the most joins a second, the largest message
  needs      what this machine needs to play it, about: open files, memory, cores, disk; with
             --parts 8, what each of eight parts needs

With --watch it checks again at each save, of the file or of one in its folder that it names, until
Ctrl-C.

Exit codes: 0 no mistake; 1 a warning, with --strict; 2 a mistake.`,
		Example: "  runcrowd check harbour/crowd.yaml\n  runcrowd check harbour/crowd.yaml --watch\n  runcrowd check harbour/crowd.yaml " +
			"--strict --format json",
		Args: oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if watch {
				if format != "text" {
					return errors.New("--watch is for people; with --format json, check each time anew")
				}
				return e.watchFile(crowdFile(args), with, parts)
			}
			return e.checkFile(crowdFile(args), with, parts, format, strict)
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	with.flag(cmd)
	with.shortFlags(cmd)
	cmd.Flags().IntVar(&parts, "parts", 1, "in how many parts the crowd is played: tell what each needs")
	cmd.Flags().BoolVar(&watch, "watch", false, "check again at each save, until Ctrl-C")
	cmd.Flags().BoolVar(&strict, "strict", false, "exit code 1 where there is a warning")
	return cmd
}

// watchFile checks a file at each save.
func (e *env) watchFile(path string, with changes, parts int) error {
	ctx, stop := interruptible()
	defer stop()
	live, _ := terminal(e.stdout)
	seen := ""
	for ctx.Err() == nil {
		now := filesBeside(path)
		if now == seen || !strings.Contains(now, filepath.Base(path)+" ") { // an editor may write a new one in its place
			select {
			case <-ctx.Done():
			case <-time.After(200 * time.Millisecond):
			}
			if _, err := os.Stat(path); seen == "" && err != nil {
				return e.checkFile(path, with, parts, "text", false)
			}
			continue
		}
		seen = now
		if live {
			fmt.Fprint(e.raw, "\x1b[H\x1b[2J\x1b[3J") // the screen, and what was scrolled off
		}
		fmt.Fprintf(e.stdout, "%s\n\n", time.Now().Format("15:04:05"))
		if err := e.checkFile(path, with, parts, "text", false); err != nil {
			fmt.Fprintln(e.stdout, err) // it is what is asked for, and no failure
		}
		fmt.Fprint(e.stdout, "\nIt is checked again at each save; Ctrl-C ends it.\n")
	}
	return nil
}

// filesBeside tells a crowd file and those in its folder that it names apart from what they were.
func filesBeside(path string) string {
	text, _ := folder.ReadRegular(path)
	list, _ := os.ReadDir(filepath.Dir(path))
	var b strings.Builder
	for _, x := range list {
		if x.Name() != filepath.Base(path) && !bytes.Contains(text, []byte(x.Name())) {
			continue
		}
		if info, err := os.Stat(filepath.Join(filepath.Dir(path), x.Name())); err == nil && info.Mode().IsRegular() {
			fmt.Fprintf(&b, "%s %d %d\n", x.Name(), info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

func (e *env) checkFile(path string, with changes, parts int, format string, strict bool) error {
	if parts < 1 || parts > fleet.MostParts {
		return fmt.Errorf("--parts: a crowd is played in 1 to %d parts, not in %d", fleet.MostParts, parts)
	}
	f, err := loadFleet(path, with)
	if err != nil {
		p := problemsOf(err)
		if format == "json" && p != nil {
			if err := e.checkJSON(path, p, nil, nil, nil); err != nil {
				return err
			}
			return &exitError{code: exitWrong}
		}
		return err
	}
	warnings, load := check.Check(f, check.Options{MaxFiles: maxFiles(), Parts: parts})
	p := f.Crowd.Problems()
	for _, w := range warnings {
		p.Add(w.Pos, "%s", w.Text)
	}
	p.Hide(f.Crowd.Secrets())
	if format == "json" {
		err = e.checkJSON(path, nil, p, f, &load)
	} else {
		if len(p.List) > 0 {
			label := "warning: "
			if e.colored(e.stdout) {
				label = text.FgYellow.Sprint("warning: ")
			}
			fmt.Fprintf(e.stdout, "%s\n", p.Tell(label))
		}
		fmt.Fprintf(e.stdout, "%s: no mistakes, %s\n\n%s", path, plural(len(p.List), "warning"), loadText(f, &load))
	}
	if err == nil && strict && len(p.List) > 0 {
		return &exitError{code: exitBroken}
	}
	return err
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if n == 0 {
		return "no " + what + "s"
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// loadText tells the load to expect.
func loadText(f *fleet.Fleet, l *check.Load) string {
	var b strings.Builder
	line := func(name, format string, args ...any) {
		fmt.Fprintf(&b, "  %-12s %s\n", name, fmt.Sprintf(format, args...))
	}
	b.WriteString("The load to expect\n")
	var kinds []string
	for _, k := range l.Kinds {
		kinds = append(kinds, thousands(float64(k.N))+" "+k.Name)
	}
	if len(kinds) == 1 {
		line("devices", "%s", kinds[0])
	} else {
		line("devices", "%s: %s", thousands(float64(l.Devices)), strings.Join(kinds, ", "))
	}
	plan := &f.Crowd.Plan
	for _, k := range l.Links {
		if k.Connections == 0 {
			line("link "+k.Name, "%s", unusedLink(f.Crowd, k.Name))
			continue
		}
		joins := "all at once"
		if plan.Join.Over > 0 || plan.Join.Rate > 0 {
			joins = fmt.Sprintf("at most %s a second", rate(k.JoinsPerSecond))
		}
		asks := ""
		if k.AsksPerSecond > 0 {
			asks = fmt.Sprintf("; commands are asked for %s times a second", rate(k.AsksPerSecond))
		}
		line("link "+k.Name, "%s, opened %s; %s messages/s, %s/s%s", count(k.Connections, "connection"), joins,
			rate(k.PerSecond), size(k.BytesPerSecond), asks)
	}
	if len(l.Links) > 1 {
		line("all links", "%s messages/s, %s/s on the wire, acknowledgements included", rate(l.PerSecond),
			size(l.BytesPerSecond))
	}
	rounds := ""
	switch {
	case plan.Rounds > 1:
		rounds = fmt.Sprintf(" in each of %d rounds, about %s in all", plan.Rounds, thousands(l.Messages))
	case plan.Rounds == 0:
		rounds = " in each round, without end"
	}
	if l.PerRound == 0 {
		line("messages", "without end%s", rounds)
	} else {
		line("messages", "about %s%s", thousands(l.PerRound), rounds)
	}
	line("largest", "a body of %s (%s)", size(float64(l.Largest)), l.LargestOf)
	if day := plan.Begin.Day; day.Is {
		next := day.Next(time.Now())
		line("begins", "%s, in %s: the run waits for it", at(next), time.Until(next).Round(time.Second))
	}
	switch {
	case plan.Speed.Max:
		line("takes", "as long as the platform does to acknowledge them, and the time until the witnesses are heard")
	case l.Length == 0:
		line("takes", "as long as it is let: stop it with Ctrl-C")
	default:
		line("takes", "%s, and the time until the witnesses are heard",
			quantity.FormatDuration(l.Length.Round(time.Millisecond)))
	}
	b.WriteString(needsText(&l.Needs))
	for i, r := range l.Recordings {
		if i == 0 {
			b.WriteString("What is played again\n")
		}
		line(r.File, "%s of %s, recorded from %s to %s; %s at this pace", count(int(r.Messages), "message"),
			count(r.Devices, "device"), r.From.UTC().Format("2006-01-02 15:04:05"), r.To.UTC().Format("2006-01-02 15:04:05"),
			quantity.FormatDuration(r.Lasts.Round(time.Millisecond)))
	}
	for i, n := range l.Alerts {
		if i == 0 {
			b.WriteString("What the platform must say by itself in a round\n")
		}
		times := fmt.Sprintf("%s, about %s", count(n.Times, "time"), count(n.Devices, "device"))
		if !n.All {
			times = "at least " + times
		}
		line(n.Alert, "%s", times)
	}
	if len(l.Story) == 0 {
		return b.String()
	}
	what := "What happens in a round"
	if l.Span < plan.Lasts(time.Now()) {
		what += ", in its first " + quantity.FormatDuration(l.Span.Round(time.Second))
	}
	b.WriteString(what + "\n")
	for _, x := range l.Story {
		how := count(x.Times, "time") + ", " + count(x.Devices, "device")
		if x.Longest > 0 {
			how += ", up to " + quantity.FormatDuration(rounded(x.Longest))
		}
		line(x.Event, "%s: %s", x.Do, how)
	}
	return b.String()
}

// needsText tells what a process needs that plays the crowd, or a part of it.
func needsText(n *check.Needs) string {
	var b strings.Builder
	line := func(name, format string, args ...any) {
		fmt.Fprintf(&b, "  %-12s %s\n", name, fmt.Sprintf(format, args...))
	}
	if n.Parts > 1 {
		fmt.Fprintf(&b, "What each of %d parts needs, about\n", n.Parts)
		line("devices", "%s", thousands(float64(n.Devices)))
	} else {
		b.WriteString("What it needs here, about\n")
	}
	files := thousands(float64(n.Files))
	if n.MaxFiles > 0 {
		files += fmt.Sprintf("; this machine allows a process %s", thousands(float64(n.MaxFiles)))
	}
	line("open files", "%s", files)
	line("memory", "%s", size(n.Memory))
	if n.Cores < 0.1 {
		line("cores", "less than 0.1")
	} else {
		line("cores", "%s", rate(n.Cores))
	}
	if n.Ledger > 0 {
		line("disk", "%s for the ledger", size(n.Ledger))
	}
	return b.String()
}

// count is a number of things.
func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return thousands(float64(n)) + " " + what
}

func rate(x float64) string {
	switch {
	case x == 0:
		return "0"
	case x < 0.095:
		return fmt.Sprintf("%.2g", x)
	case x < 9.95:
		return strings.TrimSuffix(fmt.Sprintf("%.1f", x), ".0")
	}
	return thousands(x)
}

// thousands is a whole number with a blank between groups of three digits.
func thousands(x float64) string {
	s := fmt.Sprintf("%.0f", x)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

func size(bytes float64) string {
	switch {
	case bytes >= 1e9:
		return fmt.Sprintf("%.1f GB", bytes/1e9)
	case bytes >= 1e6:
		return fmt.Sprintf("%.1f MB", bytes/1e6)
	case bytes >= 1e4:
		return fmt.Sprintf("%.0f kB", bytes/1e3)
	case bytes >= 1e3:
		return fmt.Sprintf("%.1f kB", bytes/1e3)
	}
	return fmt.Sprintf("%.0f bytes", bytes)
}

type placed struct {
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
	Text   string `json:"text"`
}

func placedList(p *crowd.Problems) []placed {
	list := []placed{}
	if p != nil {
		for _, q := range p.List {
			list = append(list, placed{q.Pos.Line, q.Pos.Column, q.Text})
		}
	}
	return list
}

func (e *env) checkJSON(path string, mistakes, warnings *crowd.Problems, f *fleet.Fleet, l *check.Load) error {
	doc := map[string]any{"file": path, "mistakes": placedList(mistakes), "warnings": placedList(warnings)}
	if l != nil {
		var links []map[string]any
		for _, k := range l.Links {
			links = append(links, map[string]any{"name": k.Name, "address": k.Address, "connections": k.Connections,
				"messages_per_second": k.PerSecond, "bytes_per_second": k.BytesPerSecond, "joins_per_second": k.JoinsPerSecond,
				"asks_for_commands_per_second": k.AsksPerSecond})
		}
		kinds := map[string]int{}
		for _, k := range l.Kinds {
			kinds[k.Name] = k.N
		}
		doc["load"] = map[string]any{"devices": l.Devices, "kinds": kinds, "readings": l.Readings, "links": links,
			"messages_per_second": l.PerSecond, "bytes_per_second": l.BytesPerSecond, "messages_per_round": l.PerRound,
			"messages": l.Messages,
			"rounds":   f.Crowd.Plan.Rounds, "largest_body_bytes": l.Largest, "largest_body_of": l.LargestOf,
			"seconds": l.Length.Seconds()}
		n := &l.Needs
		doc["needs"] = map[string]any{"parts": n.Parts, "devices": n.Devices, "open_files": n.Files, "open_files_allowed": n.MaxFiles,
			"parts_within_open_files": n.Enough, "memory_bytes": math.Round(n.Memory), "cores": n.Cores, "ledger_bytes": math.Round(n.Ledger)}
		if len(l.Recordings) > 0 {
			doc["recordings"] = l.Recordings
		}
		if len(l.Alerts) > 0 {
			doc["alerts"] = l.Alerts
		}
	}
	return e.json(doc)
}

// json writes one JSON document.
func (e *env) json(doc any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(doc); err != nil {
		return err
	}
	_, err := e.raw.Write(foreign.JSON(b.Bytes()))
	return err
}

// unusedLink says who uses a link that no device does.
func unusedLink(c *crowd.Crowd, name string) string {
	var list []string
	for _, w := range c.Witnesses {
		if w.Link != nil && w.Link.Name == name {
			list = append(list, w.Name)
		}
	}
	switch len(list) {
	case 0:
		return "used by nobody"
	case 1:
		return "used by the witness " + list[0]
	}
	return "used by the witnesses " + strings.Join(list, ", ")
}
