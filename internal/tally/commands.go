package tally

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Asked is what became of the commands of one name, as far as the devices tell.
type Asked struct {
	Name     string `json:"command"` // empty: commands that the devices do not know
	Came     int    `json:"came"`
	Obeyed   int    `json:"obeyed"`
	Answered int    `json:"answered"`          // the platform took the answer
	Wrongly  int    `json:"wrongly"`           // of these, on purpose
	Silent   int    `json:"silent"`            // on purpose
	Failed   int    `json:"answers_not_taken"` // should have been answered, and were not
	Delays   Delays `json:"-"`                 // from the command to its answer leaving
}

// Mishap is a command that was not obeyed, or whose answer was not taken.
type Mishap struct {
	Device  string    `json:"device"`
	Command string    `json:"command"`
	At      time.Time `json:"at"`
	Topic   string    `json:"topic"`
	Body    string    `json:"body"`
	Why     string    `json:"why"`
	number  uint64
}

// commands counts commands.
type commands struct {
	most    int // mishaps that are kept; 0: all
	list    []asked
	mishaps []Mishap
}

type asked struct {
	Asked
	first  uint64 // the number of the first
	delays *delays
}

// add counts a command.
func (t *commands) add(c *ledger.Command) {
	k := slices.IndexFunc(t.list, func(a asked) bool { return a.Name == c.Name })
	if k < 0 {
		k = len(t.list)
		t.list = append(t.list, asked{Asked: Asked{Name: c.Name}, first: c.Number, delays: newDelays()})
	}
	a := &t.list[k]
	a.first = min(a.first, c.Number)
	a.Came++
	why := ""
	if c.Done {
		a.Obeyed++
	} else if c.Name == "" {
		why = c.Why
	} else {
		why = "not obeyed: " + c.Why
	}
	if x := c.Answer; x != nil {
		switch {
		case x.How == ledger.Never:
			a.Silent++
		case x.Outcome == outcome.Accepted || x.Outcome == outcome.NotAsked:
			a.Answered++
			if x.How == ledger.Wrong {
				a.Wrongly++
			}
			a.delays.Add(x.Sent.Sub(c.At))
		default:
			a.Failed++
			why = strings.TrimPrefix(why+"; ", "; ") + "its answer: " + x.Outcome.String() + ": " + x.Text
		}
	}
	if why != "" && (t.most == 0 || len(t.mishaps) < t.most) {
		t.mishaps = append(t.mishaps, Mishap{c.Device, c.Name, c.At, c.Topic, string(c.Body), why, c.Number})
	}
}

// result is what was counted, in the order in which commands first came.
func (t *commands) result() (list []Asked, mishaps []Mishap) {
	slices.SortFunc(t.list, func(a, b asked) int { return cmp.Compare(a.first, b.first) })
	for _, a := range t.list {
		a.Delays = a.delays.percentiles()
		list = append(list, a.Asked)
	}
	slices.SortFunc(t.mishaps, func(a, b Mishap) int { return cmp.Compare(a.number, b.number) })
	return list, t.mishaps
}
