package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/crowd"
	"runcrowd/internal/probe"
)

func (e *env) probe() *cobra.Command {
	var only, format string
	var with changes
	cmd := &cobra.Command{
		Use:   "probe [FILE]",
		Short: "Test the connection to the platform step by step, for each link",
		Long: `Probe tests the connection step by step, as the first device of each link: name
look-up, TCP, TLS, protocol, credentials, whether the connection stays, one message
acknowledged, received by the subscription, found in the store.

The first step that fails shows what was seen and the likeliest causes. The message is
a real one on your platform, but never a retained one. Nothing is left on this machine.

Exit codes: 0 every step of every link passed; 2 the command or the file is
wrong; 3 a step failed; 4 interrupted.`,
		Example: "  runcrowd probe harbour/crowd.yaml\n  runcrowd probe harbour/crowd.yaml --link sea --format json",
		Args:    oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			return e.probeFile(crowdFile(args), with, only, format)
		},
	}
	with.flag(cmd)
	cmd.Flags().StringVar(&only, "link", "", "only this link")
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

func (e *env) probeFile(path string, with changes, only, format string) error {
	f, err := loadFleet(path, with)
	if err != nil {
		return err
	}
	c := f.Crowd
	if only != "" {
		if _, err := linkNamed(c, only); err != nil {
			return err
		}
	}
	ctx, stop := interruptible()
	defer stop()
	gone := map[*crowd.Link]bool{}
	failed := false
	docs := []any{}
	for _, d := range f.Devices {
		l := d.Cast.Link
		if gone[l] || only != "" && l.Name != only || len(d.Streams) == 0 {
			continue
		}
		gone[l] = true
		var see func(probe.Step)
		if format == "text" {
			fmt.Fprintf(e.stdout, "%s, as %s, over %s\n", e.paint(text.Bold, l.Name), d.Name, l.URL())
			see = func(s probe.Step) { e.tellStep(e.stdout, s, c) }
		}
		r := probe.Way(ctx, c, f, d.Streams[0], see)
		failed = failed || r.Failed()
		if format == "text" {
			fmt.Fprintln(e.stdout)
		} else {
			var steps []map[string]any
			for _, s := range r.Steps {
				steps = append(steps, map[string]any{"step": s.Name, "result": s.Result.String(),
					"milliseconds": float64(s.Took.Microseconds()) / 1000, "says": c.Redact(s.Says), "causes": s.Causes})
			}
			docs = append(docs, map[string]any{"link": r.Link, "address": r.Address, "device": r.Device, "ok": !r.Failed(),
				"steps": steps})
		}
		if ctx.Err() != nil {
			return &exitError{code: exitInterrupted}
		}
	}
	if format == "json" {
		if err := e.json(map[string]any{"crowd": c.Name, "links": docs}); err != nil {
			return err
		}
	} else {
		for _, l := range c.Links {
			if !gone[l] && only == "" {
				fmt.Fprintf(e.stdout, "%s: %s\n\n", l.Name, unusedLink(c, l.Name))
			}
		}
	}
	if failed {
		return &exitError{code: exitUnreachable}
	}
	return nil
}

// mostSaid is how long what a step says may be in one line.
const mostSaid = 80

// stepTook is the time of a step; empty where it is a part of another.
func stepTook(s probe.Step) string {
	if s.Took == 0 {
		return ""
	}
	return roundTime(s.Took)
}

func (e *env) tellStep(to io.Writer, s probe.Step, c *crowd.Crowd) {
	switch s.Result {
	case probe.Skipped:
		fmt.Fprintf(to, "  %s  %s\n", e.paint(text.Faint, "--  "), e.paint(text.Faint, s.Name))
		return
	case probe.Doubtful:
		fmt.Fprintf(to, "  %s  %-26s %8s  %s\n", e.paint(text.FgYellow, "?   "), s.Name, roundTime(s.Took),
			c.Redact(s.Says))
		return
	case probe.OK:
		says := c.Redact(s.Says)
		if len(says) > mostSaid { // part by part
			says = strings.ReplaceAll(says, "; ", "\n"+strings.Repeat(" ", 45))
		}
		fmt.Fprintf(to, "  %s  %-26s %8s  %s\n", e.paint(text.FgGreen, "ok  "), s.Name, stepTook(s), says)
		return
	}
	fmt.Fprintf(to, "  %s  %-26s %8s  %s\n", e.paint(text.FgRed, "FAIL"), s.Name, stepTook(s), c.Redact(s.Says))
	if len(s.Causes) > 0 {
		fmt.Fprintf(to, "        Likeliest causes:\n")
		for i, cause := range s.Causes {
			for k, line := range wrap(c.Redact(cause), 66) {
				lead := fmt.Sprintf("        %d. ", i+1)
				if k > 0 {
					lead = "           "
				}
				fmt.Fprintf(to, "%s%s\n", lead, line)
			}
		}
	}
}
