package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	files "runcrowd/internal/folder"
	"runcrowd/internal/run"
)

// handWords are what a hand may want of a whole run.
var handWords = []string{run.HandPause, run.HandResume, run.HandEnd, run.HandStatus}

func (e *env) do() *cobra.Command {
	var length, expect, link, format string
	var asEvents bool
	cmd := &cobra.Command{
		Use:   "do [RUN] WHO ACTION [WHAT …]",
		Short: "Act by hand on a run that plays",
		Long: `Do acts on a run that plays in another terminal. RUN is its run folder; without it,
it is the one that plays in ./runs.

  runcrowd do [RUN] pause | resume    the plan's clock stands still; connections stay
  runcrowd do [RUN] end               as if the time of the plan were over
  runcrowd do [RUN] status            how far it is
  runcrowd do [RUN] WHO ACTION …        does something to devices, now

WHO is a device, kind, tag, pattern, share or formula, as in a crowd file; several
words in quotes. ACTION is one that events have, with what it needs after it:

  set FIELD=VALUE …          stuck FIELD …          missing FIELD …
  send READING [FIELD=VALUE …]                      every 2s
  offline [keep | idle | cut | clean | silent]      restart
  network delay=400ms rate='9600 bit/s'             clock off=-40s
  credential wrong --expect refused                 corrupt 'cut off' --expect discarded
  command NAME [KEY=VALUE …]                        register, unregister, join, leave, repeat, swap

It lasts for --for, or for good. What was done stands in the ledger and in the
report as "by hand 1", "by hand 2", …; --as-events prints it as events of a plan.
Who may act is who may read and write the run folder: its owner.

Exit codes: 0 it was done; 1 it could not be done; 2 the command is wrong, or nobody
plays that run.`,
		Example: "  runcrowd do buoy-007 set battery_v=10.9 --for 1m\n  runcrowd do \"20% of light-buoy\" offline --for " +
			"30s\n  runcrowd do buoy-007 send sea-state wave_m=2\n  runcrowd do runs/harbour-20300601-120000-abcdefgh " +
			"pause\n  runcrowd do runs/harbour-20300601-120000-abcdefgh --as-events",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && !asEvents {
				return fmt.Errorf("do needs who and what: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			folder := ""
			if len(args) > 0 {
				// The beginning of a name could as well be who is meant.
				if found, err := run.Find(usualRuns, args[0]); err == nil && (args[0] == "last" ||
					filepath.Base(found) == args[0] || strings.HasSuffix(found, "-"+args[0])) {
					args[0] = found
				}
				if _, err := os.Stat(filepath.Join(args[0], run.LedgerFile)); err == nil {
					folder, args = args[0], args[1:]
				}
			}
			if folder == "" {
				list := run.PlayedNow("runs")
				switch {
				case len(list) == 1:
					folder = list[0]
				case len(list) > 1:
					return fmt.Errorf("several runs play in ./runs; name one of them: %s", strings.Join(list, ", "))
				default:
					return fmt.Errorf("no run plays in ./runs; name its folder: %s do RUN …", e.program)
				}
			}
			if asEvents {
				return e.handEvents(folder)
			}
			q, err := handRequest(args, length, expect, link)
			if err != nil {
				return err
			}
			return e.byHand(folder, q, format)
		},
	}
	cmd.Flags().StringVar(&link, "link", "", "of command: the link whose credentials publish it, if not a witness's or the "+
		"device's")
	cmd.Flags().StringVar(&length, "for", "", "how long, such as 30s; for good if not given")
	cmd.Flags().StringVar(&expect, "expect", "", "what the platform must do with the messages meanwhile: "+
		strings.Join(crowd.ExpectNames, ", "))
	cmd.Flags().BoolVar(&asEvents, "as-events", false, "print what was done by hand as events of a plan")
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

// handRequest is what the words of a command line want.
func handRequest(args []string, length, expect, link string) (*run.HandRequest, error) {
	if len(args) == 1 && slices.Contains(handWords, args[0]) {
		if length != "" || expect != "" || link != "" {
			return nil, fmt.Errorf("%s takes no --for, no --expect and no --link", args[0])
		}
		return &run.HandRequest{Want: args[0]}, nil
	}
	if len(args) < 2 {
		return nil, fmt.Errorf("do: say what is to be done: %s, or an action after who, such as offline",
			strings.Join(handWords, ", "))
	}
	who, action, words := args[0], args[1], args[2:]
	if !slices.Contains(crowd.ActionNames[:], action) {
		return nil, unknownName("do", "there is no action", action, slices.Clone(crowd.ActionNames[:]))
	}
	do, err := actionOf(action, words)
	if err != nil {
		return nil, err
	}
	if link != "" {
		if action != "command" {
			return nil, fmt.Errorf("--link is of command: %s goes through the device's own", action)
		}
		put(do.Content[1], "link", scalar(link))
	}
	event := flow()
	put(event, "who", scalar(who))
	if slices.Contains([]string{"all", "everybody"}, who) {
		event = flow()
	}
	if action == "send" && length == "" && len(do.Content) > 2 { // the values are those of this message alone
		length = "1ms"
	}
	if length != "" {
		put(event, "for", scalar(length))
	}
	put(event, "do", do)
	if expect != "" {
		put(event, "expect", scalar(expect))
	}
	b, err := yaml.Dump(event, yaml.WithLineWidth(-1))
	if err != nil {
		return nil, err
	}
	return &run.HandRequest{Want: run.HandEvent, Event: strings.TrimSpace(string(b))}, nil
}

// actionOf makes a mapping of actions of the words behind one.
func actionOf(action string, words []string) (*yaml.Node, error) {
	do, plain, values := flow(), []string{}, flow()
	for _, w := range words {
		key, value, is := strings.Cut(w, "=")
		if !is {
			plain = append(plain, w)
			continue
		}
		if key == "" {
			return nil, fmt.Errorf("do: %q names nothing; write NAME=VALUE", w)
		}
		put(values, key, scalar(value))
	}
	if action == "offline" { // how it leaves is one word here
		plain = slices.DeleteFunc(plain, func(w string) bool {
			how := slices.Contains([]string{"cut", "clean", "silent"}, w)
			if how {
				put(values, "how", scalar(w))
			}
			return how
		})
	}
	some := len(values.Content) > 0
	switch {
	case action == "send":
		if len(plain) != 1 {
			return nil, errors.New("do: say which reading to send: send READING FIELD=VALUE …")
		}
		set, left := flow(), &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
		for i := 0; i < len(values.Content); i += 2 {
			if name, value := values.Content[i].Value, values.Content[i+1]; value.Value == "missing" {
				left.Content = append(left.Content, scalar(name))
			} else {
				put(set, name, value)
			}
		}
		if len(set.Content) > 0 {
			put(do, "set", set)
		}
		if len(left.Content) > 0 {
			put(do, "missing", left)
		}
		put(do, "send", scalar(plain[0]))
	case action == "command":
		if len(plain) != 1 {
			return nil, errors.New("do: say which command: command NAME KEY=VALUE …")
		}
		command := flow()
		put(command, "name", scalar(plain[0]))
		if some {
			put(command, "with", values)
		}
		put(do, action, command)
	case some && len(plain) > 0:
		return nil, fmt.Errorf("do: %s takes names, or NAME=VALUE, not both", action)
	case some:
		put(do, action, values)
	case len(plain) == 1:
		put(do, action, scalar(plain[0]))
	case len(plain) > 1:
		list := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
		for _, p := range plain {
			list.Content = append(list.Content, scalar(p))
		}
		put(do, action, list)
	default:
		put(do, action, scalar("true"))
	}
	return do, nil
}

func flow() *yaml.Node { return &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle} }

func put(m *yaml.Node, key string, value *yaml.Node) {
	m.Content = append(m.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, value)
}

// scalar is a value as it would stand in a file: a number is a number.
func scalar(s string) *yaml.Node {
	var n yaml.Node
	if yaml.Unmarshal([]byte(s), &n) == nil && len(n.Content) == 1 && n.Content[0].Kind == yaml.ScalarNode &&
		n.Content[0].Value == s {
		x := n.Content[0]
		return &yaml.Node{Kind: yaml.ScalarNode, Value: s, Tag: x.Tag, Style: x.Style}
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Value: s, Style: yaml.DoubleQuotedStyle}
}

func (e *env) byHand(folder string, q *run.HandRequest, format string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	a, err := run.ByHand(ctx, folder, q)
	if err != nil {
		if errors.Is(err, run.ErrNobodyPlays) {
			return fmt.Errorf("%w (%s)", err, folder)
		}
		return err
	}
	if format == "json" {
		if err := e.json(a); err != nil {
			return err
		}
	} else {
		e.tellHand(q, a)
	}
	if a.Error != "" || slices.ContainsFunc(a.Done, func(h engine.Handed) bool { return h.Why != "" }) {
		return &exitError{code: exitBroken}
	}
	return nil
}

// tellHand says what a hand did.
func (e *env) tellHand(q *run.HandRequest, a *run.HandAnswer) {
	for _, line := range handLines(q, a) {
		fmt.Fprintln(e.stdout, line)
	}
}

// handLines are what a hand did, for people.
func handLines(q *run.HandRequest, a *run.HandAnswer) (lines []string) {
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if a.Error != "" {
		say("It was not done: %s", a.Error)
		if len(a.Done) == 0 {
			return lines
		}
	}
	switch q.Want {
	case run.HandPause:
		say("%s stands still. Let it go on with: resume", a.Crowd)
	case run.HandResume:
		say("%s goes on.", a.Crowd)
	case run.HandEnd:
		say("%s ends: what is under way is settled, and the witnesses are heard.", a.Crowd)
	case run.HandStatus:
		p := a.Status
		paused := ""
		if p.Paused {
			paused = ", paused by hand"
		}
		say("%s  run %s: %s%s", a.Crowd, a.Run, phaseText(p), paused)
		say("  %d of %d devices connected; %d messages due, %d acknowledged, %d refused", p.Up, p.Devices, p.Due, p.Accepted,
			p.Refused)
	case run.HandEvent:
		if len(a.Done) == 0 && a.Error == "" {
			say("Nobody is selected.")
			return lines
		}
		const most = 10
		for i, h := range a.Done {
			if i == most {
				say("  … and %d more devices", len(a.Done)-most)
				break
			}
			switch {
			case h.Why != "":
				say("  %s: it was not done: %s", h.Device, h.Why)
			case h.Later:
				say("  %s: its connection is opened anew first, so that the run can shape it; then it is done", h.Device)
			default:
				var list []string
				for _, d := range h.Did {
					list = append(list, didText(d.Kind, d.Name, d.Value))
				}
				say("  %s: %s", h.Device, strings.Join(list, "; "))
			}
		}
		say("In the report it is %q.", a.Event)
	}
	return lines
}

// didText is an action that was done, in a few words.
func didText(kind, name, value string) string {
	s := kind
	if name != "" {
		s += " " + name
	}
	if value != "" {
		if kind == "send" {
			return "sent as " + name + " #" + value
		}
		s += ": " + value
	}
	return s
}

func phaseText(p *run.Progress) string {
	switch p.Phase {
	case run.Playing:
		return fmt.Sprintf("round %d has played for %s", p.Round, time.Since(p.Begin).Round(time.Second))
	case run.Hearing:
		return fmt.Sprintf("the witnesses are heard for round %d", p.Round)
	case run.Pausing:
		return fmt.Sprintf("waits for round %d", p.Round)
	}
	return "it begins, or ends"
}

// handEvents prints what was done by hand to a run, as events of a plan.
func (e *env) handEvents(folder string) error {
	b, err := files.ReadIn(folder, run.HandFile)
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("nothing was done by hand to %s", folder)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "  events:\n")
	for line := range strings.Lines(string(b)) {
		fmt.Fprintf(e.stdout, "    %s", line)
	}
	return nil
}
