package report

import (
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/quantity"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Standing tells what became of a run that was not played to its end, or not yet; empty: it
// was.
func Standing(r *tally.Result) string {
	played := fmt.Sprintf("of round %d, %s of %s were played", r.LastRound, r.Played.Round(100*time.Millisecond),
		quantity.FormatDuration(r.Planned.Round(time.Millisecond)))
	switch {
	case r.LastRound > 0 && r.Planned == 0:
		played = fmt.Sprintf("round %d, %s of it, was played", r.LastRound, r.Played.Round(100*time.Millisecond))
	case r.LastRound == 0:
		played = "nothing was played"
	}
	switch {
	case r.Playing:
		return fmt.Sprintf("The run still plays: this is what is known so far; %s.", played)
	case r.Interrupted:
		return fmt.Sprintf("The run was interrupted: %s.", played)
	case !r.Ended:
		return fmt.Sprintf("The run was cut off: %s, as far as its ledger tells.", played)
	case len(r.Missing) > 0:
		return fmt.Sprintf("Not all parts of the run are here: it lacks %s.", plural(len(r.Missing), "part"))
	}
	return ""
}

// sum is how it went, in a word.
type sum struct {
	head  string
	doubt bool // neither good nor bad
	good  bool
}

// summed tells how it went.
func summed(r *tally.Result) sum {
	due, proven := r.Total.Asked(), r.Total[verdict.Proven]
	switch {
	case due == 0:
		return sum{head: "Nothing was tested", doubt: true}
	case proven == due && Standing(r) != "":
		return sum{head: "Proven so far", doubt: true} // a part of a plan is not the plan
	case proven == due:
		return sum{head: "Proven", good: true}
	case due-proven == r.Total[verdict.Unknown]:
		return sum{head: "Undecided", doubt: true}
	}
	return sum{head: "Not proven"}
}

// remark is something to know of a run as a whole.
type remark struct {
	What  string // what is wrong
	More  string // what else there is to say of it
	Grave bool
}

// remarks are those of a run.
func remarks(r *tally.Result) (list []remark) {
	for _, w := range r.Witnesses {
		if w.Sightings > 0 || !wasAsked(r, w.Proves) || len(r.Damage) > 0 {
			continue
		}
		what, check := "heard no message of this run", "where it listens, and that it may"
		if w.Asks {
			what, check = "found no row of any device of this run", "what it asks for, and where the mark is in a row"
		}
		list = append(list, remark{fmt.Sprintf("The witness %s %s", w.Name, what), fmt.Sprintf(": check %s.", check), true})
	}
	for _, x := range r.Never {
		more := fmt.Sprintf(": %s%s.", x.Why, such(x.Examples, x.Devices))
		if x.Crowded {
			more += "\n  The others did: a limit on connections at the platform looks like this."
		}
		list = append(list, remark{plural(x.Devices, "device") + " never connected", more, true})
	}
	if x := r.ThrownOff; x.Devices > 0 {
		list = append(list, remark{plural(x.Devices, "device") + " lost the connection within two seconds of having it, " +
			"again and again", such(x.Examples, x.Devices) +
			":\n  another client uses the same client ids, perhaps another run of this crowd.", true})
	}
	for _, x := range r.Overtime {
		round := "The run"
		if len(r.Rounds) > 1 {
			round = fmt.Sprintf("Round %d", x.Round)
		}
		list = append(list, remark{What: fmt.Sprintf("%s took %s longer than its plan: %s still under way when its time "+
			"was over.", round, x.By.Round(100*time.Millisecond), were(x.Open))})
	}
	if n := len(r.Still); n > 0 {
		sum := time.Duration(0)
		for _, x := range r.Still {
			sum += x.To.Sub(x.From)
		}
		list = append(list, remark{fmt.Sprintf("This process stood still %s, %s in all, first at %s", times(n),
			verdict.Span(sum), r.Still[0].From.UTC().Format("15:04:05.000")),
			": it was stopped, or got no turn. What came meanwhile was read later, so delays over such a time are not known.",
			false})
	}
	for _, x := range r.Resumed {
		how, rest := "interrupted", ""
		last := ""
		if x.Killed {
			how, last = "killed", " What it sent in its last moment is known only where a witness found it."
		}
		if x.From > 0 {
			rest = fmt.Sprintf(": round %d is the rest of round %d of the plan, from %s on", x.Round, x.Plan,
				quantity.FormatDuration(x.From.Round(time.Millisecond)))
		}
		list = append(list, remark{What: fmt.Sprintf("The run was %s at %s, and went on at %s%s.%s", how,
			x.Stopped.UTC().Format("2006-01-02 15:04:05"), x.At.UTC().Format("2006-01-02 15:04:05 UTC"), rest, last)})
	}
	for _, text := range append(slices.Clone(r.Missing), r.Attempts...) {
		list = append(list, remark{What: capital(text) + "."})
	}
	for _, d := range r.Damage {
		list = append(list, remark{What: fmt.Sprintf("The ledger is damaged: %d bytes at byte %d cannot be read. What was "+
			"in them is not known.", d.Bytes, d.At)})
	}
	if r.Recovered > 0 {
		why := "they were sent just before the run was cut off"
		switch {
		case len(r.Damage) > 0:
			why = "their records cannot be read"
		case r.Playing:
			why = "their own records are not written yet"
		}
		list = append(list, remark{What: fmt.Sprintf("%s known from witnesses only: %s.", are(r.Recovered), why)})
	}
	return list
}
