package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/fleet"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
)

// partFlags say which part of a run is played, and when it begins.
type partFlags struct {
	part, name, startAt string
}

func (p *partFlags) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&p.part, "part", "", "play one part of the crowd: 3/8 is the third of eight; auto takes it from Slurm or Kubernetes")
	f.StringVar(&p.name, "run", "", "with --part: the name of the whole run, the same for all of its parts")
	f.StringVar(&p.startAt, "start-at", "", "when the first round begins: a time such as 2026-01-15T02:00:00Z, or in how long, such "+
		"as 30s; parts on several machines begin together with the same time")
}

// The variables that say what part is played. Those of the first kind are ours, for what a scheduler does not tell.
const (
	partsVariable   = "RUNCROWD_PARTS"   // how many there are
	runVariable     = "RUNCROWD_RUN"     // the name of the run
	attemptVariable = "RUNCROWD_ATTEMPT" // what tells attempts at a part apart

	slurmTask, slurmMin, slurmStep, slurmCount = "SLURM_ARRAY_TASK_ID", "SLURM_ARRAY_TASK_MIN", "SLURM_ARRAY_TASK_STEP", "SLURM_ARRAY_TASK_COUNT"
	slurmJob, slurmRestarts                    = "SLURM_ARRAY_JOB_ID", "SLURM_RESTART_COUNT"
	kubeIndex                                  = "JOB_COMPLETION_INDEX"
)

// read is the part that the flags and the environment name, and where that was said; nil: the whole crowd.
func (p *partFlags) read(getenv func(string) (string, bool)) (part *run.Part, from string, err error) {
	if p.part == "" {
		if p.name != "" {
			return nil, "", errors.New("--run names a run that is played in parts; say which is played here, such as --part 3/8")
		}
		return nil, "", nil
	}
	number := func(name string, otherwise int) (int, error) {
		text, is := getenv(name)
		if !is || text == "" {
			return otherwise, nil
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return 0, fmt.Errorf("--part auto: %s is %q, which is no number", name, text)
		}
		return n, nil
	}
	part = &run.Part{Name: p.name}
	restarts, err := number(slurmRestarts, 0)
	if err != nil {
		return nil, "", err
	}
	part.Attempt = restarts + 1
	part.Token, _ = getenv(attemptVariable)
	if part.Name == "" {
		part.Name, _ = getenv(runVariable)
	}
	if p.part != "auto" {
		share, err := fleet.ParsePart(p.part)
		if err != nil {
			return nil, "", fmt.Errorf("--part: %w", err)
		}
		part.N, part.Of, from = share.N, share.Of, "--part"
	} else if from, err = scheduled(part, getenv, number); err != nil {
		return nil, "", err
	}
	if part.Name == "" {
		job, _ := getenv(slurmJob)
		if part.Name = job; job == "" {
			return nil, "", errors.New("--part needs the name of the whole run, the same for all of its parts: --run NAME")
		}
	}
	return part, from, nil
}

// scheduled takes the part from what a scheduler set, and tells which of its variables that was.
func scheduled(part *run.Part, getenv func(string) (string, bool), number func(string, int) (int, error)) (from string, err error) {
	index, least, step := 0, 0, 1
	count, err := number(partsVariable, 0)
	set := func(name string) bool { text, _ := getenv(name); return text != "" }
	if set(slurmTask) {
		of := 0
		for _, x := range []struct {
			to        *int
			name      string
			otherwise int
		}{{&index, slurmTask, 0}, {&least, slurmMin, 0}, {&step, slurmStep, 1}, {&of, slurmCount, 0}} {
			if err == nil {
				*x.to, err = number(x.name, x.otherwise)
			}
		}
		index, from = (index-least)/max(1, step), slurmTask
		if err == nil && count > 0 && of > 0 && count != of { // where only some are begun again, the first is another
			return "", fmt.Errorf("--part auto: %s says %d parts, and %s %d; write which part this is, such as --part 3/8", partsVariable, count,
				slurmCount, of)
		}
		count = cmp.Or(count, of)
	} else if set(kubeIndex) {
		if err == nil {
			index, err = number(kubeIndex, 0)
		}
		from = kubeIndex
	} else {
		return "", fmt.Errorf("--part auto: neither Slurm (%s) nor Kubernetes (%s) says which part this is; write --part 3/8", slurmTask, kubeIndex)
	}
	if err != nil {
		return "", err
	}
	if count == 0 {
		return "", fmt.Errorf("--part auto: %s says which part this is, and nothing how many there are; set %s", from, partsVariable)
	}
	share, err := fleet.ParsePart(fmt.Sprintf("%d/%d", index+1, count))
	if err != nil {
		return "", fmt.Errorf("--part auto, from %s and the number of parts: %w", from, err)
	}
	part.N, part.Of = share.N, share.Of
	return from, nil
}

// start is when the first round begins; zero: at once. Late is by how much that is over already.
func (p *partFlags) start(now time.Time) (at time.Time, late time.Duration, err error) {
	if p.startAt == "" {
		return time.Time{}, 0, nil
	}
	if d, err := quantity.ParseDuration(p.startAt); err == nil {
		return now.Add(d), 0, nil
	}
	if at, err = time.Parse(time.RFC3339, p.startAt); err != nil {
		return time.Time{}, 0, fmt.Errorf("--start-at: %q is no time; write 2026-01-15T02:00:00Z, or in how long, such as 30s", p.startAt)
	}
	if late = now.Sub(at); late > 0 { // as where a scheduler begins a part again
		return time.Time{}, late, nil
	}
	return at, 0, nil
}
