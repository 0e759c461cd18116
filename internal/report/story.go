package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// ended is how a run ended, in a word, as the exit code has it: what is required decides.
type ended struct {
	word  string // PASSED, FAILED, UNDECIDED or INCOMPLETE
	what  string // which requirements were met, or not
	state proof.State
}

// endOf tells how a run ended; cut: it was interrupted.
func endOf(in *Input, cut bool) ended {
	list := map[proof.State][]string{}
	for _, c := range in.Checks {
		list[c.State] = append(list[c.State], c.Key)
	}
	switch not, open := list[proof.NotMet], list[proof.Undecided]; {
	case len(not) > 0:
		what := "not met: " + strings.Join(not, ", ")
		if len(open) > 0 {
			what += "; undecided: " + strings.Join(open, ", ")
		}
		return ended{"FAILED", what, proof.NotMet}
	case len(open) > 0:
		return ended{"UNDECIDED", "not known to be met: " + strings.Join(open, ", "), proof.Undecided}
	}
	what := "nothing was required"
	if n := len(in.Checks); n > 0 {
		what = plural(n, "requirement") + " met"
	}
	if cut || !in.Result.Whole() {
		return ended{"INCOMPLETE", what + ", by the part that was played", proof.Undecided}
	}
	return ended{"PASSED", what, proof.Met}
}

// story tells in sentences what the messages that are not proven have in common: whose they are,
// since when, who missed them, and what the platform said. Where only some of them are listed, it
// says so.
func story(r *tally.Result) (sentences []string) {
	wrong := 0
	for _, v := range verdict.All() {
		if counted(v) {
			wrong += r.Total[v]
		}
	}
	if wrong == 0 {
		return nil
	}
	if s := whose(r, wrong); s != "" {
		sentences = append(sentences, s)
	}
	list := slices.DeleteFunc(slices.Clone(r.Findings), func(f verdict.Finding) bool { return !counted(byName(f.Verdict)) })
	of := ""
	if len(list) < wrong {
		of = fmt.Sprintf("of the %d that are listed, ", len(list))
	}
	for _, s := range []string{when(list), missedBy(list), reason(list)} {
		if s != "" {
			sentences = append(sentences, capital(of+s)+".")
		}
	}
	return sentences
}

// counted tells whether a verdict is one that a message should not have.
func counted(v verdict.Verdict) bool { return v != verdict.Proven && v != verdict.Dropped }

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// whose tells which devices the messages are of.
func whose(r *tally.Result, wrong int) string {
	var kinds []string
	for _, g := range r.Kinds {
		for _, v := range verdict.All() {
			if counted(v) && g.Counts[v] > 0 {
				kinds = append(kinds, g.Name)
				break
			}
		}
	}
	n := len(r.Devices)
	if n == 0 || r.DeviceCount < 2 {
		return ""
	}
	it := fmt.Sprintf("The %d that are not proven are", wrong)
	if wrong == 1 {
		it = "The one that is not proven is"
	}
	s := fmt.Sprintf("%s of %d of %d devices", it, n, r.DeviceCount)
	worst := r.Devices[0]
	most := 0
	for _, v := range verdict.All() {
		if counted(v) {
			most += worst.Counts[v]
		}
	}
	switch {
	case n <= 3:
		var names []string
		for _, d := range r.Devices {
			names = append(names, d.Name)
		}
		s = fmt.Sprintf("%s of %s, of %d devices", it, and(names), r.DeviceCount)
		if r.DeviceCount == n {
			s = fmt.Sprintf("%s of all %d devices", it, n)
		}
	case n == r.DeviceCount:
		s = fmt.Sprintf("%s of all %d devices", it, n)
	case 2*most > wrong:
		s += fmt.Sprintf(", %d of them of %s alone", most, worst.Name)
	}
	if len(kinds) == 1 && len(r.Kinds) > 1 {
		s += ", all of the kind " + kinds[0]
	}
	return s + "."
}

// when tells the time in which they were due.
func when(list []verdict.Finding) string {
	var first, last time.Time
	for i := range list {
		due := list[i].Due
		if due.IsZero() {
			continue
		}
		if first.IsZero() || due.Before(first) {
			first = due
		}
		if due.After(last) {
			last = due
		}
	}
	form := "15:04:05"
	switch {
	case first.IsZero():
		return ""
	case len(list) == 1:
		return "it was due at " + first.UTC().Format(form)
	case !sameDay(first, last):
		form = "2006-01-02 15:04:05"
	}
	a, b := first.UTC().Format(form), last.UTC().Format(form)
	if a == b {
		return "all were due at " + a
	}
	return fmt.Sprintf("the first was due at %s, the last at %s", a, b)
}

func sameDay(a, b time.Time) bool {
	return a.UTC().Format(time.DateOnly) == b.UTC().Format(time.DateOnly)
}

// missedBy tells which witnesses did not find what was acknowledged.
func missedBy(list []verdict.Finding) string {
	lost, names, missed := 0, []string{}, map[string]int{}
	for i := range list {
		if byName(list[i].Verdict) != verdict.Lost {
			continue
		}
		lost++
		for _, t := range list[i].Testimony {
			if !slices.Contains(names, t.Witness) {
				names = append(names, t.Witness)
			}
			if t.State == verdict.NotFound {
				missed[t.Witness]++
			}
		}
	}
	if lost == 0 || len(names) < 2 {
		return ""
	}
	var parts []string
	nobody := true
	for _, n := range names {
		nobody = nobody && missed[n] == lost
		parts = append(parts, fmt.Sprintf("%s found %s", n, howMany(lost-missed[n], lost)))
	}
	if nobody {
		return fmt.Sprintf("%s lost: no witness found %s", are(lost), map[bool]string{true: "it", false: "them"}[lost == 1])
	}
	return fmt.Sprintf("%s lost: %s", are(lost), and(parts))
}

// and joins the parts of a sentence.
func and(parts []string) string {
	if n := len(parts); n > 1 {
		return strings.Join(parts[:n-1], ", ") + " and " + parts[n-1]
	}
	return strings.Join(parts, "")
}

// howMany is a part of a number, in words at its ends.
func howMany(n, of int) string {
	switch {
	case n == 0:
		return "none"
	case n == of && of > 1:
		return "all"
	}
	return fmt.Sprint(n)
}

// reason is what was said most often of those that were refused, or could not be sent.
func reason(list []verdict.Finding) string {
	said, all := map[string]int{}, 0
	for i := range list {
		if v := byName(list[i].Verdict); (v == verdict.Refused || v == verdict.Unsent) && list[i].Said != "" {
			said[list[i].Said]++
			all++
		}
	}
	most := ""
	for s, n := range said {
		if most == "" || n > said[most] || n == said[most] && s < most {
			most = s
		}
	}
	if n := said[most]; all >= 2 && 2*n > all {
		return fmt.Sprintf("%s of %d were refused or not sent with these words: %s", howMany(n, all), all, most)
	}
	return ""
}
