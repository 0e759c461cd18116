package verdict

import (
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
}

// commands counts the commands of a run.
func (j *judge) commands(r *Result) {
	at := map[string]int{}
	var delays [][]int64
	for i := range j.Commands {
		c := &j.Commands[i]
		k, known := at[c.Name]
		if !known {
			k = len(r.Commands)
			at[c.Name] = k
			r.Commands, delays = append(r.Commands, Asked{Name: c.Name}), append(delays, nil)
		}
		a := &r.Commands[k]
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
				delays[k] = append(delays[k], int64(x.Sent.Sub(c.At)))
			default:
				a.Failed++
				why = strings.TrimPrefix(why+"; ", "; ") + "its answer: " + x.Outcome.String() + ": " + x.Text
			}
		}
		if why != "" && (j.opt.PerVerdict == 0 || len(r.Mishaps) < j.opt.PerVerdict) {
			r.Mishaps = append(r.Mishaps, Mishap{c.Device, c.Name, c.At, c.Topic, string(c.Body), why})
		}
	}
	for k := range r.Commands {
		r.Commands[k].Delays = percentiles(delays[k])
	}
}
