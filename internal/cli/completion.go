package cli

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"runcrowd/examples"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/formula"
	"runcrowd/internal/report"
	"runcrowd/internal/run"
	"runcrowd/internal/signal"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// completions tells shells what may stand where: files, devices, kinds, witnesses, runs,
// fields and actions. What cannot be loaded completes nothing.
func (e *env) completions(root *cobra.Command) {
	for _, cmd := range root.Commands() {
		words := strings.Fields(cmd.Use)[1:]
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string,
			_ string) ([]cobra.Completion, cobra.ShellCompDirective) {
			return argument(cmd.Name(), words, args)
		}
		flag := func(name string, f func(args []string) []string) {
			if cmd.Flags().Lookup(name) != nil {
				cmd.RegisterFlagCompletionFunc(name, func(_ *cobra.Command, args []string,
					_ string) ([]cobra.Completion, cobra.ShellCompDirective) {
					return f(args), cobra.ShellCompDirectiveNoFileComp
				})
			}
		}
		flag("who", func(args []string) []string { return whoOf(crowdOf(args)) })
		flag("link", func(args []string) (list []string) {
			if c := crowdOf(args); c != nil {
				for _, l := range c.Links {
					list = append(list, l.Name)
				}
			}
			return list
		})
		flag("reading", func(args []string) []string { return readingsOf(crowdOf(args)) })
		flag("plot", func(args []string) []string { return fieldsOf(crowdOf(args)) })
		flag("by", func(args []string) []string { return append([]string{"kind", "tag"}, propertiesOf(crowdOf(args))...) })
		flag("witness", func(args []string) (list []string) {
			if c := crowdOf(args); c != nil {
				for _, w := range c.Witnesses {
					if w.Sees() {
						list = append(list, w.Name+"\t"+w.Proof())
					}
				}
			}
			return list
		})
		flag("verdict", func([]string) (list []string) {
			for _, v := range verdict.All() {
				list = append(list, v.String())
			}
			return list
		})
		flag("as", func([]string) (list []string) {
			for _, f := range report.Formats {
				list = append(list, f.Name+"\t"+f.Doc)
			}
			return list
		})
		flag("flaw", func([]string) (list []string) {
			for _, name := range standin.FlawNames() {
				list = append(list, name+"\t"+standin.FlawDoc(name))
			}
			return list
		})
		flag("example", func([]string) (list []string) {
			for _, x := range examples.All() {
				list = append(list, x.Name+"\t"+x.Doc)
			}
			return list
		})
		flag("sort", func([]string) []string { return []string{"device", "due", "not-proven", "gaps", "disconnects"} })
		flag("expect", func([]string) []string { return crowd.ExpectNames })
		if f := cmd.Flags().Lookup("format"); f != nil {
			words := formatWords(f.Usage)
			flag("format", func([]string) []string { return words })
		}
		if cmd.Flags().Lookup("like") != nil {
			flag("like", func([]string) []string { return runFolders() })
		}
	}
	root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]cobra.Completion{"auto", "always", "never"},
		cobra.ShellCompDirectiveNoFileComp))
}

// bashNeeds ends the script for bash: without the package that it builds on, nothing would come
// of a press of Tab but an error of bash's.
const bashNeeds = `
if ! declare -F _get_comp_words_by_ref >/dev/null 2>&1; then
    echo "runcrowd: completion in bash needs the package bash-completion; install it" \
        "(apt install bash-completion, dnf install bash-completion, brew install bash-completion@2)" \
        "and start a new shell" >&2
fi
`

// tellBash lets the script for bash say what it needs, where that is missing.
func (e *env) tellBash(root *cobra.Command) {
	cmd, _, err := root.Find([]string{"completion", "bash"})
	if err != nil {
		return
	}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		plain, err := cmd.Flags().GetBool("no-descriptions")
		if err != nil {
			return err
		}
		if err := root.GenBashCompletionV2(e.raw, !plain); err != nil {
			return err
		}
		_, err = io.WriteString(e.raw, bashNeeds)
		return err
	}
}

// formatWords are the words that the help of --format names.
func formatWords(usage string) (list []string) {
	for _, w := range []string{"text", "json", "csv", "markdown", "recording"} {
		if strings.Contains(usage, w) {
			list = append(list, w)
		}
	}
	return list
}

// argument completes the next argument of a command; words are those of its usage line.
func argument(command string, words, args []string) ([]string, cobra.ShellCompDirective) {
	const none = cobra.ShellCompDirectiveNoFileComp
	place := ""
	if n := len(args); n < len(words) {
		place = strings.Trim(words[n], "[]")
	}
	if command == "do" { // RUN may be left out
		known := append(runFolders(), handWords...)
		switch {
		case len(args) == 0:
			return append(known, whoOf(crowdOf(runFolders()))...), none
		case len(args) == 1 && isRun(args[0]):
			return append(slices.Clone(handWords), whoOf(crowdOf(args))...), none
		}
		return append(slices.Clone(crowd.ActionNames[:]), fieldsOf(crowdOf(append(runFolders(), args...)))...), none
	}
	switch place {
	case "FILE":
		return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
	case "RUN":
		return runFolders(), cobra.ShellCompDirectiveDefault
	case "DEVICE":
		return devicesIn(crowdOf(args)), none
	case "COMMAND":
		if command == "ask" {
			return commandsOf(crowdOf(args)), none
		}
	case "NAME":
		var list []string
		if command == "formulas" {
			for _, f := range formula.Functions() {
				list = append(list, f.Name+"\t"+f.Doc)
			}
			return list, none
		}
		for _, s := range signal.All() {
			list = append(list, s.Name+"\t"+s.Doc)
		}
		return list, none
	case "report", "storm":
		return []string{place}, none
	}
	if command == "send" && len(args) >= 2 {
		var list []string
		for _, f := range fieldsOf(crowdOf(args)) {
			list = append(list, f+"=")
		}
		return list, none | cobra.ShellCompDirectiveNoSpace
	}
	return nil, none
}

// runFolders lists the runs of the usual folder, the newest first.
func runFolders() (list []string) {
	kept, _ := run.List("runs")
	for _, k := range kept {
		list = append(list, k.Folder)
	}
	return list
}

func isRun(arg string) bool {
	_, err := os.Stat(filepath.Join(arg, run.ManifestFile))
	return err == nil
}

// crowdOf loads the crowd that the first argument names: a crowd file, or a run folder.
func crowdOf(args []string) *crowd.Crowd {
	if len(args) == 0 {
		return nil
	}
	var c *crowd.Crowd
	var err error
	if isRun(args[0]) {
		c, err = run.ReadCopy(args[0])
	} else {
		c, err = file.Load(args[0])
	}
	if err != nil {
		return nil
	}
	return c
}

// mostCompleted bounds what is offered: nobody chooses among more.
const mostCompleted = 1000

func devicesIn(c *crowd.Crowd) (list []string) {
	if c == nil {
		return nil
	}
	for _, m := range c.Members[:min(len(c.Members), mostCompleted)] {
		list = append(list, m.Name+"\t"+m.Cast.Kind.Name)
	}
	return list
}

// whoOf are selections: kinds, tags and devices.
func whoOf(c *crowd.Crowd) (list []string) {
	if c == nil {
		return nil
	}
	list = append(list, "all")
	tags := map[string]bool{}
	for _, k := range c.Kinds {
		list = append(list, k.Name+"\tkind")
	}
	for _, x := range c.Casts {
		for _, t := range x.Tags {
			if !tags[t] {
				tags[t] = true
				list = append(list, t+"\ttag")
			}
		}
	}
	return append(list, devicesIn(c)...)
}

// each gathers names of all groups, each once.
func each(c *crowd.Crowd, names func(*crowd.Cast) []string) (list []string) {
	if c == nil {
		return nil
	}
	for _, x := range c.Casts {
		for _, n := range names(x) {
			if !slices.Contains(list, n) {
				list = append(list, n)
			}
		}
	}
	return list
}

func readingsOf(c *crowd.Crowd) []string {
	return each(c, func(x *crowd.Cast) (list []string) {
		for _, r := range x.Readings {
			list = append(list, r.Name)
		}
		return list
	})
}

func fieldsOf(c *crowd.Crowd) []string {
	return each(c, func(x *crowd.Cast) (list []string) {
		for _, r := range x.Readings {
			for i := range r.Fields {
				list = append(list, r.Fields[i].Name)
			}
		}
		return list
	})
}

func propertiesOf(c *crowd.Crowd) []string {
	return each(c, func(x *crowd.Cast) (list []string) {
		for _, p := range x.Properties {
			list = append(list, p.Name)
		}
		return list
	})
}

func commandsOf(c *crowd.Crowd) []string {
	return each(c, func(x *crowd.Cast) (list []string) {
		for _, k := range x.Commands {
			list = append(list, k.Name)
		}
		return list
	})
}
