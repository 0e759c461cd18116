package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
	"runcrowd/internal/report"
	"runcrowd/internal/run"
	"runcrowd/internal/tally"
)

func (e *env) compare() *cobra.Command {
	var format, margin, least string
	var anyway bool
	var mem memory
	cmd := &cobra.Command{
		Use:   "compare RUN RUN",
		Short: "Compare two runs: verdicts, delays, rates, devices that changed",
		Long: `Compare puts two runs beside each other: is the second worse than the first?

Verdicts are facts: fewer proven messages are worse; what is unknown may be proven, and
counts for neither. Delays and rates vary by chance: stretches of both runs are held against
each other by their ranks. A difference counts if the ranks are clearly apart (by chance in
1 of 1000 pairs) and it exceeds --margin (and --least, for delays). The lag is this machine's
own: it is shown, and makes no run worse. A difference that a busy machine may have made by
itself decides nothing, and is said to be unclear.

Runs of different crowds are not compared, but with --anyway.

Exit codes: 0 not worse; 1 worse; 2 a run cannot be judged.`,
		Example: "  runcrowd compare runs/skerry-roads-monday runs/skerry-roads-tuesday\n  runcrowd compare runs/a runs/b " +
			"--margin 20% --format markdown",
		Args: someRuns(2, "two run folders"),
		RunE: func(_ *cobra.Command, args []string) error {
			if format != "text" && format != "json" && format != "markdown" {
				return fmt.Errorf("--format is text, json or markdown, not %q", format)
			}
			share, err := quantity.ParsePercent(margin)
			if err != nil {
				return fmt.Errorf("--margin: %w", err)
			}
			floor, err := quantity.ParseDuration(least)
			if err != nil || floor < 0 {
				return fmt.Errorf("--least: %q is not a time, such as 1ms", least)
			}
			how, err := mem.judging()
			if err != nil {
				return err
			}
			how.Keep, how.Series, how.Rows = 1, true, tally.RowCounts
			var both [2]*tally.Result
			var checks [2][]proof.Check
			c := &report.Compared{Margin: float64(share), Least: floor}
			for i, arg := range args {
				folder, release, err := e.opened(arg)
				if err != nil {
					return err
				}
				defer release()
				j, err := run.Judge(folder, how)
				if err != nil {
					return err
				}
				both[i], checks[i], c.Folders[i], c.Runs[i] = j.Result, j.Checks, arg, j.Run
			}
			if a, b := both[0].Crowd, both[1].Crowd; a != b && !anyway {
				return fmt.Errorf("these are runs of different crowds, %s and %s: what differs between them says nothing of the "+
					"platform; compare them with --anyway", a, b)
			}
			c.Comparison = tally.Compare(both[0], both[1], checks, tally.Comparing{Margin: float64(share) / 100, Least: floor})
			c.Worse = c.Comparison.Worse()
			switch format {
			case "json":
				b, err := report.CompareJSON(c)
				if err != nil {
					return err
				}
				e.raw.Write(b)
			case "markdown":
				fmt.Fprint(e.stdout, report.CompareMarkdown(c))
			default:
				fmt.Fprint(e.stdout, report.CompareText(c, e.style()))
			}
			if c.Worse {
				return &exitError{code: exitBroken}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "compare runs of different crowds")
	cmd.Flags().StringVar(&format, "format", "text", "text, json or markdown")
	cmd.Flags().StringVar(&margin, "margin", "10%", "the least difference of delays and rates that is called a change")
	cmd.Flags().StringVar(&least, "least", "1ms", "the least difference of delays, in time, that is called a change")
	mem.flag(cmd)
	return cmd
}
