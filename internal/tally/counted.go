package tally

import (
	"cmp"
	"fmt"
	"slices"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// Counted is what a witness says that tells how many messages there are, beside ours.
type Counted struct {
	Witness string `json:"witness"`
	// Least and Most are how many of ours the platform has to have, and may have: what was
	// never acknowledged may be there, or not.
	Least  int64 `json:"ours"`
	Most   int64 `json:"ours_at_most"`
	Theirs int64 `json:"theirs"`
	Heard  bool  `json:"heard"`
	// OfAll: it counts what all parts of a crowd sent, and not by device.
	OfAll bool `json:"of_all_parts,omitempty"`
	// Devices are those that it was told of one by one, those that differ first.
	Devices []CountedDevice `json:"devices,omitempty"`
	Differ  int             `json:"devices_that_differ"`
	Of      int             `json:"devices_counted"` // 0: it tells of all together
	fewer   int             // devices of which it has fewer than it must
}

// CountedDevice is Counted of one device.
type CountedDevice struct {
	Device string `json:"device"`
	Least  int64  `json:"ours"`
	Most   int64  `json:"ours_at_most"`
	Theirs int64  `json:"theirs"`
}

// Fits tells whether the number told can be right.
func (c *CountedDevice) Fits() bool { return c.Theirs >= c.Least && c.Theirs <= c.Most }

// mostCounted is how many devices of a count are kept.
const mostCounted = 10_000

// ours is how many messages of a device the platform has to have, and may have.
type ours struct{ least, most int64 }

// counting adds a message to what counts should be.
func (t *Tally) counting(c *evidence.Case, r *verdict.Ruling, recovered bool) {
	if t.ours == nil {
		t.ours, t.counts = map[string]*ours{}, slices.ContainsFunc(t.facts.Witnesses,
			func(w ledger.Witness) bool { return w.Proof == ledger.Counts })
	}
	if !t.counts {
		return
	}
	s := &t.facts.Streams[c.Stream]
	o := t.ours[s.Device]
	if o == nil {
		o = &ours{}
		t.ours[s.Device] = o
	}
	copies := int64(0)
	if s.MayRepeat {
		copies = int64(c.Anew)
	}
	if c.Meant != ledger.ToKeepOne {
		copies += int64(c.Copies)
	}
	found := slices.ContainsFunc(r.States, func(s verdict.State) bool {
		return s == verdict.Found || s == verdict.InDoubt || s >= verdict.FoundLate && s < verdict.NotFound
	})
	switch {
	case c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard || r.Verdict == verdict.Dropped:
	case recovered || c.Outcome == outcome.Open || c.Outcome == outcome.NoAnswer:
		if found {
			o.least++
		}
		if recovered || c.Attempts > 0 {
			o.most += 1 + copies
		}
	case c.Outcome == outcome.Refused || c.Outcome == outcome.Unsent:
		if c.Attempts > 1 { // an earlier one may have been taken
			o.most += 1 + copies
		}
	default:
		if c.Outcome == outcome.Accepted || found || !t.judge.MayBeGone(c) {
			o.least++
		}
		o.most += 1 + copies
	}
}

// counted sets what counting witnesses say beside ours.
func (t *Tally) counted() (list []Counted) {
	for w := range t.facts.Witnesses {
		x := &t.facts.Witnesses[w]
		if x.Proof != ledger.Counts {
			continue
		}
		c := Counted{Witness: x.Name, Heard: x.Now != nil}
		several := t.facts.Own() < len(t.facts.Witnesses)
		if several {
			c.Witness += " of " + t.facts.PartName(x.Part)
		}
		for _, r := range t.facts.Rounds {
			c.Heard = c.Heard && x.Heard[r.N].Complete
		}
		_, all := x.Now[-1]
		one := !all || len(x.Now) > 1
		seen := map[string]bool{}
		for i := range t.facts.Streams {
			s := &t.facts.Streams[i]
			if seen[s.Device] || slices.Contains(s.Unseen, w) {
				continue
			}
			seen[s.Device] = true
			o := t.ours[s.Device]
			if o == nil {
				o = &ours{}
			}
			c.Least, c.Most = c.Least+o.least, c.Most+o.most
			if one && c.Heard {
				d := CountedDevice{s.Device, o.least, o.most, x.Now[i] - x.Before[i]}
				c.Theirs += d.Theirs
				if c.Of++; !d.Fits() {
					c.Differ++
				}
				if d.Theirs < d.Least {
					c.fewer++
				}
				c.Devices = append(c.Devices, d)
			}
		}
		if c.OfAll = (t.res.shared || several) && !one; !one {
			c.Theirs = x.Now[-1] - x.Before[-1]
		}
		slices.SortStableFunc(c.Devices, func(a, b CountedDevice) int {
			return cmp.Compare(btoi(a.Fits()), btoi(b.Fits()))
		})
		c.Devices = c.Devices[:min(len(c.Devices), mostCounted)]
		list = append(list, c)
	}
	return list
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// checkCounted holds what counting witnesses say against ours.
func (r *Result) checkCounted(q *proof.Requirement) proof.Check {
	c := proof.Check{Key: q.Key, Want: q.Text, State: proof.Met, Got: "nothing was counted"}
	if len(r.Counted) == 0 {
		c.State = proof.Undecided
	}
	for i := range r.Counted {
		x := &r.Counted[i]
		got, state := "", proof.Met
		switch {
		case !x.Heard:
			got, state = x.Witness+" could not be asked", proof.Undecided
		case x.OfAll:
			got, state = x.Witness+" counts what all parts of the crowd sent, and not by device: which of it a part sent is not known", proof.Undecided
		case r.cut && x.fewer == 0 && x.Theirs >= x.Least: // as many may be some too few, and some of which nothing is known
			got, state = fmt.Sprintf("%s counts %d, and %s went out; the run was killed, and what it sent last is not known", x.Witness, x.Theirs,
				fromTo(x.Least, x.Most)), proof.Undecided
		case x.Differ > 0:
			d := &x.Devices[0]
			got, state = fmt.Sprintf("%s has %d, and %s went out", d.Device, d.Theirs, fromTo(d.Least, d.Most)), proof.NotMet
			if x.Differ > 1 {
				got += fmt.Sprintf("; %d more devices differ", x.Differ-1)
			}
		case x.Theirs < x.Least || x.Theirs > x.Most:
			got, state = fmt.Sprintf("%s counts %d, and %s went out", x.Witness, x.Theirs, fromTo(x.Least, x.Most)), proof.NotMet
		case x.Least != x.Most:
			got, state = fmt.Sprintf("%s counts %d; %s may be there: what was not acknowledged may be or not", x.Witness,
				x.Theirs, fromTo(x.Least, x.Most)), proof.Undecided
		default:
			got = fmt.Sprintf("%d of %d", x.Theirs, x.Least)
		}
		if c.State == proof.Met || state == proof.NotMet && c.State == proof.Undecided {
			c.Got, c.State = got, state
		}
	}
	if !q.Exact {
		c.State = proof.Met
	}
	return c
}

// fromTo is a number, or a range of them.
func fromTo(least, most int64) string {
	if least == most {
		return fmt.Sprint(least)
	}
	return fmt.Sprintf("%d to %d", least, most)
}
