package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/check"
	"runcrowd/internal/fleet"
	"runcrowd/internal/jobs"
	"runcrowd/internal/wholefile"
)

// partsFlags are what the commands have in common that write jobs for schedulers.
type partsFlags struct {
	parts   int
	to      string
	startAt string
	later   bool
	force   bool
	with    changes
}

func (p *partsFlags) flags(cmd *cobra.Command, to, what string) {
	f := cmd.Flags()
	f.IntVar(&p.parts, "parts", 0, "in how many parts the crowd is played")
	f.StringVar(&p.to, "to", to, what)
	f.StringVar(&p.startAt, "start-at", "", "when all parts begin, such as 2026-01-15T02:00:00Z; without it, each as soon as it may")
	f.BoolVar(&p.later, "ask-later", false, "the parts ask the platform nothing: it is asked once, when they are judged")
	f.BoolVar(&p.force, "force", false, "write over files that are there already")
	p.with.flag(cmd)
}

// job reads the crowd, and what a part of it needs.
func (p *partsFlags) job(path string) (*jobs.Job, error) {
	if p.parts < 1 || p.parts > fleet.MostParts {
		return nil, fmt.Errorf("--parts: say in how many parts the crowd is played, from 1 to %d, such as --parts 8; check says how many "+
			"it needs", fleet.MostParts)
	}
	if p.startAt != "" {
		if _, err := time.Parse(time.RFC3339, p.startAt); err != nil {
			return nil, fmt.Errorf("--start-at: %q is no time; write 2026-01-15T02:00:00Z", p.startAt)
		}
	}
	f, err := loadFleet(path, p.with)
	if err != nil {
		return nil, err
	}
	_, load := check.Check(f, check.Options{Parts: p.parts})
	if load.Needs.MostParts < p.parts {
		return nil, fmt.Errorf("--parts: only %s of %s can be played apart, and %d parts are asked for", plural(load.Needs.MostParts, "device"),
			f.Crowd.Name, p.parts)
	}
	j := &jobs.Job{Crowd: f.Crowd, Needs: load.Needs, Length: load.Length}
	for _, x := range p.with {
		j.More = append(j.More, "--set", x)
	}
	if p.later {
		j.More = append(j.More, "--ask-later")
	}
	if p.startAt != "" {
		j.More = append(j.More, "--start-at", p.startAt)
	}
	return j, nil
}

func (e *env) parts() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "parts",
		Short: "Write the jobs with which a scheduler plays a crowd in parts",
		Long: `Parts writes what Slurm or Kubernetes needs to play a crowd in parts on many machines, and
to judge them as one run: for reading, changing and submitting yourself. Memory and cores are what check
computes for a part.`,
	}
	cmd.AddCommand(e.partsSlurm(), e.partsKubernetes())
	return cmd
}

func (e *env) partsSlurm() *cobra.Command {
	var p partsFlags
	var out, program string
	cmd := &cobra.Command{
		Use:   "slurm [FILE]",
		Short: "Write the scripts of a Slurm array that plays a crowd in parts",
		Long: `Slurm writes three scripts into a folder:

  play.sbatch    an array, a task for each part
  judge.sbatch   a job that judges them as one run, and writes its report
  submit.sh      submits the first, and the second to begin after it

The crowd file's folder, and that of the runs, must be shared by the machines, as home folders often are. What the
crowd file reads from the environment is handed on from the shell that submits; it stands in no script.`,
		Example: "  runcrowd parts slurm harbour/crowd.yaml --parts 8\n  runcrowd parts slurm harbour/crowd.yaml --parts 8 --out /shared/runs --to jobs",
		Args:    oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			j, err := p.job(crowdFile(args))
			if err != nil {
				return err
			}
			j.File, j.Out, j.Program = crowdFile(args), out, program
			for _, path := range []*string{&j.File, &j.Out, &j.Program} {
				if path == &j.Program && !strings.Contains(program, "/") {
					continue // it is found by its name
				}
				if *path, err = filepath.Abs(*path); err != nil {
					return err
				}
			}
			list, err := j.Slurm()
			if err != nil {
				return err
			}
			if err := os.MkdirAll(p.to, 0o755); err != nil {
				return err
			}
			for _, name := range slices.Sorted(maps.Keys(list)) { // all of them, before any is written
				if err := wholefile.Free(filepath.Join(p.to, name), p.force); err != nil {
					return err
				}
			}
			for name, text := range list {
				if err := wholefile.Write(filepath.Join(p.to, name), text); err != nil {
					return err
				}
			}
			fmt.Fprintf(e.stdout, "In %s are play.sbatch, %s, judge.sbatch, and submit.sh, which submits both.\n", p.to,
				plural(p.parts, "task"))
			fmt.Fprint(e.stdout, needsText(&j.Needs))
			fmt.Fprintf(e.stdout, "Read them, then submit them with: sh %s\n", filepath.Join(p.to, "submit.sh"))
			return nil
		},
	}
	p.flags(cmd, "slurm", "the folder in which the scripts are written")
	cmd.Flags().StringVarP(&out, "out", "o", "runs", "the folder of the run folders, shared by the machines")
	cmd.Flags().StringVar(&program, "program", "runcrowd", "how runcrowd is called on the machines: a name or a path")
	return cmd
}

func (e *env) partsKubernetes() *cobra.Command {
	var p partsFlags
	var name, image, claim, folder string
	cmd := &cobra.Command{
		Use:   "kubernetes [FILE]",
		Short: "Write a Kubernetes manifest that plays a crowd in parts",
		Long: `Kubernetes writes a manifest: an Indexed Job, a pod for each part, and a Job that judges them as
one run when they have ended. Run folders are on a volume that all pods share (ReadWriteMany): pods vanish with
their logs, the volume stays. The crowd file, and the files that it names, are in a ConfigMap; what it reads from the
environment comes from a Secret that you make: the manifest has no secret, and says how.`,
		Example: "  runcrowd parts kubernetes harbour/crowd.yaml --parts 8 --image registry.example/runcrowd:0.1.0 --to harbour.k8s.yaml\n" +
			"  kubectl apply -f harbour.k8s.yaml",
		Args: oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if image == "" {
				return errors.New("--image: say the image that has the program, as your cluster finds it; the Containerfile of the project makes one")
			}
			j, err := p.job(crowdFile(args))
			if err != nil {
				return err
			}
			j.Image, j.Claim, j.Folder = image, claim, folder
			j.Name = cmp.Or(name, time.Now().UTC().Format("20060102-150405"))
			text, err := j.Kubernetes()
			if err != nil {
				return err
			}
			if p.to == "-" {
				_, err = e.raw.Write(text)
				return err
			}
			if err := wholefile.Free(p.to, p.force); err != nil {
				return err
			}
			if err := wholefile.Write(p.to, bytes.ReplaceAll(text, []byte("THIS-FILE"), []byte(filepath.Base(p.to)))); err != nil {
				return err
			}
			fmt.Fprintf(e.stdout, "%s plays the run %s in %s.\n%sRead it: its head says what to do.\n", p.to, j.Name, plural(p.parts, "part"),
				needsText(&j.Needs))
			return nil
		},
	}
	p.flags(cmd, "-", "the file to write; - is standard output")
	f := cmd.Flags()
	f.StringVar(&name, "run", "", "the name of the run; without it, the time")
	f.StringVar(&image, "image", "", "the image that has the program")
	f.StringVar(&claim, "claim", "", "the volume claim for run folders that is there already; without it, the manifest has one")
	f.StringVar(&folder, "folder", "", "where on that volume the crowd's folder is; without it, the manifest has the crowd's files")
	return cmd
}
