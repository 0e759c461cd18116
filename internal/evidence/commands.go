package evidence

import (
	"cmp"
	"slices"

	"runcrowd/internal/ledger"
)

// Commands gathers what the platform asked of devices: each command is handed on when
// nothing more can come of it.
type Commands struct {
	// See takes each command, once; in no order.
	See func(*ledger.Command)

	pending map[uint64]*ledger.Command
}

// record takes a record about a command.
func (c *Commands) record(r *ledger.Record) {
	switch r.Type {
	case ledger.CommandRecord:
		if r.Command.Asks {
			c.pending[r.Seq] = r.Command
		} else {
			c.add(r.Command)
		}
	case ledger.AnswerRecord:
		if x := c.pending[r.Seq]; x != nil {
			if x.Answer = r.Answer; x.Answer.How == ledger.Never {
				delete(c.pending, r.Seq)
				c.add(x)
			}
		}
	case ledger.ToldRecord:
		if x := c.pending[r.Seq]; x != nil && x.Answer != nil {
			a, told := x.Answer, r.Answer
			a.Sent, a.At, a.Outcome, a.Code, a.Text = told.Sent, told.At, told.Outcome, told.Code, told.Text
			delete(c.pending, r.Seq)
			c.add(x)
		}
	}
}

func (c *Commands) add(x *ledger.Command) {
	if c.See != nil {
		c.See(x)
	}
}

// finish hands on the commands whose answers are not known, in their order.
func (c *Commands) finish() {
	list := make([]*ledger.Command, 0, len(c.pending))
	for _, x := range c.pending {
		list = append(list, x)
	}
	slices.SortFunc(list, func(a, b *ledger.Command) int { return cmp.Compare(a.Number, b.Number) })
	for _, x := range list {
		c.add(x)
	}
	clear(c.pending)
}
