package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/ask"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/quantity"
)

func (e *env) ask() *cobra.Command {
	var linkName, wait, format string
	cmd := &cobra.Command{
		Use:   "ask FILE DEVICE COMMAND [KEY=VALUE …]",
		Short: "Ask a device something, as the platform would, and time the answer",
		Long: `Ask plays the platform's side of a command that the crowd file describes. It
publishes the command where the device listens, with a response topic and
correlation data where the link speaks MQTT 5; or, where the command has a
request, it asks the platform's own API to give it. Then it waits for the answer.

The device must be connected: a real one, or one that another runcrowd run plays.

It sends a JSON object: the values that tell the command (match), and those given here. A VALUE
is a number, true, false, null, JSON, or else a text. A command whose only value is body is sent
as that plain text: match: {body: "on"} sends on.

Ask connects with the link of the first subscribing witness, or with the one that
--link names. The link of a device may carry credentials of that device alone.

Exit codes: 0 it was answered, or no answer is due; 1 it was not answered, or the
answer says that it was not done; 2 the command or the
file is wrong; 3 the platform could not be reached; 4 interrupted.`,
		Example: "  runcrowd ask harbour/crowd.yaml buoy-007 set-rate seconds=2\n  runcrowd ask harbour/crowd.yaml " +
			"buoy-007 set-lamp watts=35 --wait 30s",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 3 {
				return fmt.Errorf("ask needs a crowd file, a device and a command: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			d, err := quantity.ParseDuration(wait)
			if err != nil || d <= 0 {
				return fmt.Errorf("--wait: %q is not a time, such as 10s", wait)
			}
			q, err := question(args[0], args[1], args[2], args[3:], linkName)
			if err != nil {
				return err
			}
			q.Wait = d
			return e.askOne(q, format)
		},
	}
	cmd.Flags().StringVar(&linkName, "link", "", "the link with which to connect to the broker")
	cmd.Flags().StringVar(&wait, "wait", "10s", "how long to wait for the answer")
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

// question finds device, command and link.
func question(path, device, command string, args []string, linkName string) (*ask.Question, error) {
	f, err := loadFleet(path, nil)
	if err != nil {
		return nil, err
	}
	c := f.Crowd
	q := &ask.Question{Crowd: c, Credentials: f.Credentials, Values: map[string]any{}}
	if q.Device, err = deviceNamed(f, "ask", device); err != nil {
		return nil, err
	}
	var names []string
	for _, k := range q.Device.Commands {
		if names = append(names, k.Name); k.Name == command {
			q.Command = k
		}
	}
	switch {
	case len(names) == 0:
		return nil, fmt.Errorf("ask: the kind %q knows no commands; write, for example, commands: {set-rate: {topic: "+
			"\"harbour/${device}/ask\", do: {every: \"${ask.seconds}s\"}, reply: {}}}", q.Device.Cast.Kind.Name)
	case q.Command == nil:
		return nil, unknownName("ask", "the kind "+q.Device.Cast.Kind.Name+" has no command", command, names)
	}
	for _, a := range args {
		name, v, ok := strings.Cut(a, "=")
		if !ok || name == "" {
			return nil, fmt.Errorf("%q gives no value; write KEY=VALUE, such as seconds=2", a)
		}
		q.Values[name] = askValue(v)
	}
	q.Link = askLink(f, q.Device)
	if linkName != "" {
		if q.Link, err = linkNamed(c, linkName); err != nil {
			return nil, err
		}
		if q.Link.Protocol != crowd.MQTT {
			return nil, fmt.Errorf("--link: %q speaks %s; commands over HTTP are given by the request of the command", linkName,
				q.Link.Protocol)
		}
	}
	return q, nil
}

// askLink is the link that the platform's side uses: a witness's, or else the device's.
func askLink(f *fleet.Fleet, d *fleet.Device) *crowd.Link {
	for _, w := range f.Crowd.Witnesses {
		if len(w.Filters) > 0 && w.Link != nil && (d.Cast.Link.Protocol != crowd.MQTT || w.Link.Address == d.Cast.Link.Address) {
			return w.Link
		}
	}
	return d.Cast.Link
}

// askValue reads a value as JSON has it; anything else is a text.
func askValue(s string) any {
	if _, is := crowd.Number(s); is {
		return json.Number(s)
	}
	switch {
	case s == "true", s == "false", s == "null", strings.HasPrefix(s, "{"), strings.HasPrefix(s, "["):
		if json.Valid([]byte(s)) {
			return json.RawMessage(s)
		}
	}
	return s
}

func (e *env) askOne(q *ask.Question, format string) error {
	ctx, stop := interruptible()
	defer stop()
	c := q.Crowd
	a, err := q.Ask(ctx)
	if ctx.Err() != nil {
		return &exitError{exitInterrupted, errors.New("interrupted before the answer came")}
	}
	if err != nil {
		return fail(err, c)
	}
	if format == "json" {
		err = e.json(map[string]any{"device": q.Device.Name, "command": q.Command.Name, "where": c.Redact(a.Where),
			"asked": rawOrText(c.Redact(string(a.Body))),
			"taken": !a.Refused, "taken_after_ms": milliseconds(a.Took), "said": c.Redact(a.Said), "answer_due": a.Wanted,
			"answered":          a.Answered,
			"answered_after_ms": milliseconds(a.After), "denied": a.Denied, "answer": rawOrText(c.Redact(string(a.Told))),
			"matched_by_correlation_data": a.Matched})
	} else {
		e.tellAnswer(q, a)
	}
	if err == nil && (a.Refused || a.Denied || a.Wanted && !a.Answered) {
		err = &exitError{code: exitBroken}
	}
	return err
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// rawOrText is a body as a part of a JSON document.
func rawOrText(s string) any {
	switch {
	case s == "":
		return nil
	case json.Valid([]byte(s)):
		return json.RawMessage(s)
	}
	return strings.ToValidUTF8(s, "?")
}

func (e *env) tellAnswer(q *ask.Question, a *ask.Answer) {
	c := q.Crowd
	where := "at " + a.Where + " on " + q.Link.URL()
	if q.Command.Request != nil {
		where = "by " + a.Where
	}
	fmt.Fprintf(e.stdout, "%s %s, %s\n  %s\n\n", e.paint(text.Bold, q.Device.Name), q.Command.Name, c.Redact(where),
		c.Redact(printable(a.Body)))
	line := func(ok bool, name, after, says string) {
		sign := e.paint(text.FgGreen, "yes")
		if !ok {
			sign = e.paint(text.FgRed, "NO ")
		}
		if after != "" {
			after = "after " + after
		}
		fmt.Fprintln(e.stdout, strings.TrimRight(fmt.Sprintf("  %s  %-14s %-16s %s", sign, name, after, c.Redact(says)), " "))
	}
	line(!a.Refused, "acknowledged", roundTime(a.Took), a.Said)
	switch {
	case a.Refused:
	case a.Answered:
		how := "at " + a.At
		if a.Matched {
			how += ", with our correlation data"
		}
		line(true, "answered", roundTime(a.After), how)
		if a.Denied {
			line(false, "done", "", "the answer says that the device did not do it")
		}
		fmt.Fprintf(e.stdout, "\n  %s\n", c.Redact(printable(a.Told)))
	case a.Wanted:
		line(false, "answered", "", fmt.Sprintf("nothing came within %s at %s", quantity.FormatDuration(q.Wait), a.At))
		why := "is the device there, and is this the topic it listens to? Play it in another terminal: " + e.program +
			" run " + c.Path
		if a.Nobody {
			why = "nobody listens there: play the device in another terminal: " + e.program + " run " + c.Path
		}
		fmt.Fprintf(e.stdout, "\n  %s\n", why)
	case q.Command.Answer == nil:
		fmt.Fprintf(e.stdout, "  --   %-14s the command wants no answer\n", "answered")
	default:
		fmt.Fprintf(e.stdout, "  --   %-14s the file does not say where the platform tells it: read_reply: {get: …}\n",
			"answered")
	}
}

// printable is a body in one line.
func printable(b []byte) string {
	s := strings.ToValidUTF8(string(b), "?")
	return strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, s)
}
