// Package cli is the command line: a thin face over the packages that do the
// work.
package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
	"runcrowd/internal/wholefile"
)

// Exit codes.
const (
	exitProven      = 0 // every requirement is met
	exitBroken      = 1 // the run was played, but a requirement is not met
	exitWrong       = 2 // the command, the file or the run folder is wrong
	exitUnreachable = 3 // the platform could not be reached
	exitInterrupted = 4
)

// exitError is an error with the exit code that it leads to. An empty text
// means that all has been told.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// env is what commands share.
type env struct {
	program        string    // how the user called us
	stdout, stderr io.Writer // show what does something as text: see printer
	raw            io.Writer // standard output for bodies as they are
	color          string
	unpack         run.Limits // of packed runs
}

// Main runs the command line and gives the exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	ignoreFileLimitSignal()
	e := &env{program: programName(args[0])}
	out := &printer{w: stdout, colored: func() bool { return e.colored(stdout) }}
	e.stdout, e.raw = out, rawWriter{out}
	e.stderr = &printer{w: stderr, colored: func() bool { return e.colored(stderr) }}
	root := e.root()
	root.SetArgs(args[1:])
	err := root.Execute()
	out.end()
	// A result that nobody could read is none, whatever it was.
	if lost := out.failed(); lost != nil && (err == nil || strings.Contains(err.Error(), lost.Error()) ||
		err.Error() == "") {
		err = fmt.Errorf("standard output could not be written, and what it should hold is not whole: %w",
			wholefile.Cause(lost))
	}
	if err == nil {
		return exitProven
	}
	var exit *exitError
	code := exitWrong
	if errors.As(err, &exit) {
		code = exit.code
	}
	var problems *crowd.Problems
	switch text := err.Error(); {
	case errors.As(err, &problems):
		fmt.Fprintln(e.stderr, text) // lines begin with file:line:column, for editors
	case text != "":
		fmt.Fprintf(e.stderr, "runcrowd: %s\n", text)
	}
	return code
}

// programName is what to write in hints: with "go run" the binary has a path
// that nobody would type again.
func programName(arg0 string) string {
	if strings.Contains(arg0, string(filepath.Separator)+"go-build") {
		return "go run ./cmd/runcrowd"
	}
	return arg0
}

// builtOf is the commit, where the build tells it: build.sh does.
var builtOf string

// commit is the commit that the program was built of, with a plus where it was changed; empty:
// it is not known.
func commit() string {
	if builtOf != "" {
		return builtOf
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	revision, changed := "", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			revision = s.Value[:min(len(s.Value), 12)]
		case "vcs.modified":
			if s.Value == "true" {
				changed = "+"
			}
		}
	}
	if revision == "" {
		return ""
	}
	return revision + changed
}

// versionLine is what --version prints.
func versionLine() string {
	s := "runcrowd " + Version()
	if c := commit(); c != "" {
		s += ", commit " + c
	}
	return fmt.Sprintf("%s, %s, %s/%s\n", s, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

// Version is the program's version (semver.org): that of CHANGELOG.md.
func Version() string { return "0.1.0" }

func (e *env) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "runcrowd",
		Short: "Plays fleets of virtual devices and proves what became of every message",
		Long: `Run Crowd plays a fleet of virtual devices against a device platform, over MQTT
and HTTP, and proves, message by message, that the platform acknowledged,
received and stored what was sent, unchanged and exactly once.

A crowd file says who sends what, when, and how we know. Begin with the demo,
which brings its own platform, or write a crowd file of your own with new.`,
		Example: `  runcrowd demo                     see it work, with nothing installed
  runcrowd demo --flaw lose         the same against a platform that loses messages
  runcrowd new harbour              write a first crowd file
  runcrowd check harbour/crowd.yaml find mistakes, and the load to expect
  runcrowd preview harbour/crowd.yaml
                                    see what it would send
  runcrowd run harbour/crowd.yaml   play it`,
		Version:       Version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			text := fmt.Sprintf("there is no command %q", args[0])
			if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
				text += fmt.Sprintf("; did you mean %q?", near[0])
			}
			return fmt.Errorf("%s\nSee %s --help for all commands", text, e.program)
		},
		SuggestionsMinimumDistance: 2,
	}
	root.SetOut(e.stdout)
	root.SetErr(e.stderr)
	root.SetHelpCommand(e.help(root))
	root.PersistentFlags().StringVar(&e.color, "color", "auto", "colours: auto, always or never")
	unpackLimit := ""
	root.PersistentFlags().StringVar(&unpackLimit, "unpack-limit", "", "the most that a packed run may hold, such as "+
		"\"50 GiB\"; if not given, 100 times its size, and 20 GiB")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if unpackLimit != "" {
			n, err := quantity.ParseSize(unpackLimit)
			if err != nil || n < 1 {
				return fmt.Errorf("--unpack-limit: %q is no size; write, for example, --unpack-limit \"50 GiB\"", unpackLimit)
			}
			e.unpack.Bytes = n
		}
		switch e.color {
		case "auto", "always", "never":
			return nil
		}
		return fmt.Errorf("--color is auto, always or never, not %q", e.color)
	}
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return fmt.Errorf("%w\nSee %s %s --help", err, e.program, strings.TrimPrefix(cmd.CommandPath(), "runcrowd "))
	})
	root.AddCommand(e.demo(), e.try(), e.newFile(), e.check(), e.preview(), e.roster(), e.signals(), e.formulas(), e.schema(),
		e.certs(), e.register(), e.unregister(), e.probe(), e.send(), e.ask(), e.do(), e.listen(), e.record(), e.run(),
		e.verify(), e.devices(), e.messages(), e.reportTo(), e.compare(), e.runs(), e.parts(), e.pack(), e.standin())
	root.SetVersionTemplate(versionLine())
	root.InitDefaultCompletionCmd()
	e.tellBash(root)
	e.completions(root)
	return root
}

// help is the command that shows the help of another; one that is not there is an error.
func (e *env) help(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Shows the help of a command",
		RunE: func(_ *cobra.Command, args []string) error {
			cmd, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return fmt.Errorf("there is no command %q\nSee %s --help for all commands", strings.Join(args, " "), e.program)
			}
			cmd.InitDefaultHelpFlag()
			return cmd.Help()
		},
	}
}

// Commands is the tree of all commands, for what is made of their helps.
func Commands() *cobra.Command {
	e := &env{program: "runcrowd", stdout: io.Discard, stderr: io.Discard, raw: io.Discard}
	return e.root()
}

// usualCrowd is the crowd file where none is named.
const usualCrowd = "crowd.yaml"

// oneCrowd wants one crowd file, or none where the folder has one of the usual name.
func oneCrowd(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		if _, err := os.Stat(usualCrowd); err == nil {
			return nil
		}
	}
	return exactly(1, "one crowd file (there is no "+usualCrowd+" here)")(cmd, args)
}

// crowdFile is the crowd file that oneCrowd let pass.
func crowdFile(args []string) string {
	if len(args) == 0 {
		return usualCrowd
	}
	return args[0]
}

// usualRuns is the folder of run folders where none is named.
const usualRuns = "runs"

// someRuns wants run folders. In their place may stand last, the id of a run, or the beginning of
// either its id or its folder's name, where it is one run's: args then holds the folder.
func someRuns(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := exactly(n, what+" (or last)")(cmd, args); err != nil {
			return err
		}
		for i := range args {
			found, err := run.Find(usualRuns, args[i])
			if err != nil {
				return err
			}
			args[i] = found
		}
		return nil
	}
}

// exactly is cobra.ExactArgs with a message that says what is wanted.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		if n == 0 {
			return fmt.Errorf("%s takes no arguments, not %q", cmd.Name(), args[0])
		}
		if len(args) < n {
			return fmt.Errorf("%s needs %s: %s", cmd.Name(), what, cmd.UseLine())
		}
		return fmt.Errorf("%s takes %s, and %q is too much", cmd.Name(), what, args[n])
	}
}

// terminal tells whether w is a terminal, and its width.
func terminal(w io.Writer) (bool, int) {
	if p, is := w.(*printer); is {
		w = p.w
	}
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return false, 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		width = 0
	}
	return true, width
}

// colored tells whether to colour what goes to w.
func (e *env) colored(w io.Writer) bool {
	switch e.color {
	case "always":
		return true
	case "never":
		return false
	}
	is, _ := terminal(w)
	return is && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// fail gives an error its exit code, and takes secrets out of it.
func fail(err error, c *crowd.Crowd) error {
	if err == nil {
		return nil
	}
	var exit *exitError
	if errors.As(err, &exit) {
		return err
	}
	code := exitWrong
	var reach *link.ReachError
	if errors.As(err, &reach) {
		code = exitUnreachable
	}
	var storage *run.StorageError
	if errors.As(err, &storage) {
		code = exitWrong
	}
	text := err.Error()
	if c != nil {
		text = c.Redact(text)
	}
	var problems *crowd.Problems
	if !errors.As(err, &problems) { // others may have a part in it
		text = foreign.Line(text, 0)
	}
	return &exitError{code, errors.New(text)}
}

// checkFormat checks the value of --format.
func checkFormat(format string) error {
	if format != "text" && format != "json" {
		return fmt.Errorf("--format is text or json, not %q", format)
	}
	return nil
}
