package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/grid"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
	"runcrowd/internal/scratch"
)

func (e *env) runs() *cobra.Command {
	var dir, keep, format string
	var remove bool
	cmd := &cobra.Command{
		Use:   "runs",
		Short: "List the runs of a folder with their verdicts; remove old ones",
		Long: `Runs lists the run folders in a folder, the newest first: when they began, how they
went, how large they are, and whether one still plays. How a run went is read from the
report that it left; verify makes it anew.

With --keep it says which runs would be removed: all but the newest 20 (--keep 20), or
those older than 30 days (--keep 30d). With --remove they are. A run that still plays is
never removed.`,
		Example: "  runcrowd runs\n  runcrowd runs --keep 20\n  runcrowd runs --keep 30d --remove",
		Args:    exactly(0, ""),
		RunE: func(*cobra.Command, []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if remove && keep == "" {
				return errors.New("--remove needs --keep: how many runs, or how old they may be")
			}
			list, err := run.List(dir)
			if err != nil {
				return err
			}
			old, err := tooOld(list, keep, time.Now())
			if err != nil {
				return err
			}
			if format == "json" {
				if list == nil {
					list = []run.Kept{}
				}
				if err := e.json(list); err != nil || !remove {
					return err
				}
			} else if err := e.tableOfRuns(dir, list); err != nil {
				return err
			}
			return e.removeRuns(old, keep, remove)
		},
	}
	f := cmd.Flags()
	f.StringVarP(&dir, "out", "o", "runs", "the folder that the run folders are in")
	f.StringVar(&keep, "keep", "", "keep so many runs (20), or those not older than this (30d)")
	f.BoolVar(&remove, "remove", false, "remove the others")
	f.StringVar(&format, "format", "text", "text or json")
	return cmd
}

// tooOld are the runs that --keep does not keep.
func tooOld(list []run.Kept, keep string, now time.Time) (old []run.Kept, err error) {
	if keep == "" {
		return nil, nil
	}
	n, err := strconv.Atoi(keep)
	if err == nil && n >= 0 {
		if n < len(list) {
			old = list[n:]
		}
	} else {
		d, err := quantity.ParseDuration(keep)
		if err != nil || d <= 0 {
			return nil, fmt.Errorf("--keep: %q is neither a number of runs (20) nor a time (30d)", keep)
		}
		for i := range list {
			if now.Sub(list[i].Started) > d {
				old = list[i:]
				break
			}
		}
	}
	var free []run.Kept
	for _, k := range old {
		if !k.Playing {
			free = append(free, k)
		}
	}
	return free, nil
}

func (e *env) tableOfRuns(dir string, list []run.Kept) error {
	if len(list) == 0 {
		_, err := fmt.Fprintf(e.stdout, "There is no run in %s.\n", dir)
		return err
	}
	t := grid.New("folder", "began (UTC)", ">due", ">proven", "requirements", ">size")
	total := int64(0)
	for _, k := range list {
		due, proven, state := fmt.Sprint(k.Due), fmt.Sprint(k.Proven), "not met"
		switch {
		case k.Playing:
			due, proven, state = "", "", "still plays"
		case !k.Judged:
			due, proven, state = "", "", "not judged yet"
		case k.Undecided:
			state = "undecided"
		case k.Met && !k.Ended:
			state = "met, but not played to its end"
		case k.Met:
			state = "met"
		}
		t.Row(k.Folder, k.Started.UTC().Format("2006-01-02 15:04:05"), due, proven, state, roughSize(k.Bytes))
		total += k.Bytes
	}
	e.table(t, "began (UTC)", "size", "requirements")
	_, err := fmt.Fprintf(e.stdout, "%s, %s\n", plural(len(list), "run"), roughSize(total))
	return err
}

// roughSize is a size in three figures or so.
func roughSize(n int64) string {
	x, unit := float64(n), "B"
	for _, next := range []string{"kB", "MB", "GB", "TB"} {
		if x < 1000 {
			break
		}
		x, unit = x/1000, next
	}
	return strconv.FormatFloat(x, 'g', 3, 64) + " " + unit
}

func (e *env) removeRuns(old []run.Kept, keep string, remove bool) error {
	if keep == "" {
		return nil
	}
	size := int64(0)
	var failed []error
	for _, k := range old {
		size += k.Bytes
		if remove {
			if err := run.Remove(k.Folder); err != nil {
				failed = append(failed, err)
				continue
			}
		}
		fmt.Fprintf(e.stderr, "%s %s\n", map[bool]string{true: "removed", false: "would be removed:"}[remove], k.Folder)
	}
	switch {
	case len(old) == 0:
		fmt.Fprintln(e.stderr, "All are kept.")
	case !remove:
		fmt.Fprintf(e.stderr, "%s, %s; --remove does it.\n", plural(len(old), "run"), roughSize(size))
	}
	return errors.Join(failed...)
}

func (e *env) pack() *cobra.Command {
	var to string
	var unsearched bool
	cmd := &cobra.Command{
		Use:   "pack RUN",
		Short: "Make one file of a run folder, to hand on",
		Long: `Pack makes one file of a run folder: a tar archive compressed with zstd, which every
command reads in place of a folder. Only what belongs to the run goes in: no other file of
the folder does.

It looks for the secrets of the crowd file, and refuses where it finds one, or where it
cannot look: their values must be in the environment. With --unsearched it packs without.`,
		Example: "  runcrowd pack runs/skerry-roads-…\n  runcrowd devices skerry-roads-abcdefgh.run.tar.zst",
		Args:    someRuns(1, "one run folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := run.ReadManifest(args[0])
			if err != nil {
				return err
			}
			if to == "" {
				to = m.Crowd + "-" + m.Run + run.PackEnding
			}
			if !strings.HasSuffix(to, run.PackEnding) {
				return fmt.Errorf("--to: the name must end in %s, so that commands know it", run.PackEnding)
			}
			if _, err := os.Stat(to); err == nil {
				return fmt.Errorf("%s is there already; name another file with --to", to)
			}
			if run.Busy(args[0]) {
				fmt.Fprintln(e.stderr, "The run still plays: what is there so far is packed.")
			}
			var redact func(string) string
			var results []string
			switch c, err := run.ReadCopy(args[0]); {
			case err == nil && len(c.Unset) > 0 && !unsearched:
				return fmt.Errorf("nothing was packed: the values of %s are not in the environment, so the run cannot be "+
					"searched for them; set them, or pack it unsearched, with --unsearched", strings.Join(c.Unset, ", "))
			case err == nil:
				redact, results = c.Redact, c.Results
				if len(c.Unset) > 0 {
					fmt.Fprintf(e.stderr, "The run was not searched for the values of %s: they are not in the environment.\n",
						strings.Join(c.Unset, ", "))
				}
			case !unsearched:
				return fmt.Errorf("nothing was packed: the run cannot be searched for secrets, because its crowd file cannot be "+
					"loaded:\n%w\nPack it unsearched, with --unsearched", err)
			default:
				fmt.Fprintf(e.stderr, "The run was not searched for secrets, and results: are left out: its crowd file cannot be "+
					"loaded.\n")
			}
			left, err := run.Pack(args[0], to, results, redact)
			if err != nil {
				if errors.Is(err, run.ErrSecret) {
					return fmt.Errorf("nothing was packed: %w of the crowd file; a platform or a device said it", err)
				}
				return err
			}
			if len(left) > 0 {
				fmt.Fprintf(e.stderr, "Left out, because the run did not make it: %s\n", strings.Join(left, ", "))
			}
			fmt.Fprintf(e.stdout, "%s is written, %s\n", to, roughSize(fileSize(to)))
			return nil
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the file to make; if not given, CROWD-RUN"+run.PackEnding)
	cmd.Flags().BoolVar(&unsearched, "unsearched", false, "pack it though it cannot be searched for secrets")
	return cmd
}

// isPack tells whether an argument names a packed run.
func isPack(arg string) bool {
	info, err := os.Stat(arg)
	return strings.HasSuffix(arg, run.PackEnding) && (err != nil || !info.IsDir())
}

func fileSize(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// unpacked gives the run folder that an argument names: itself, or, of a packed run, a
// temporary one that release removes.
func (e *env) unpacked(arg string) (folder string, release func(), err error) {
	if !isPack(arg) {
		return arg, func() {}, nil
	}
	dir, release, err := scratch.Dir()
	if err != nil {
		return "", nil, err
	}
	if folder, err = run.Unpack(arg, dir, e.unpack); err != nil {
		release()
		return "", nil, err
	}
	return folder, release, nil
}
