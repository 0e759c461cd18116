package engine

import (
	"slices"
	"strconv"

	"runcrowd/internal/fleet"
	"runcrowd/internal/signal"
)

// stuckAction freezes a field.
var stuckAction = handling{
	prepare: func(_ *loop, x *action, _ work) error {
		x.alter, x.kept = fleet.Alteration{Field: x.Name, How: fleet.AlterStuck}, map[int]*signal.Value{}
		return nil
	},
}

// erraticAction makes a field jump.
var erraticAction = handling{
	prepare: func(_ *loop, x *action, _ work) error {
		x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterErratic, By: x.By}
		return nil
	},
	do: func(_ *loop, _ *act, x *action, _ moment) string {
		return "by at most " + strconv.FormatFloat(x.By, 'f', -1, 64)
	},
}

// missingAction leaves a field out.
var missingAction = handling{
	prepare: func(_ *loop, x *action, _ work) error {
		x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterMissing}
		return nil
	},
}

// alterations are what is done to fields of a stream.
func (d *device) alterations(s *stream) (list []fleet.Alteration) {
	for _, a := range d.acts {
		for i := range a.actions {
			x := &a.actions[i]
			if !x.Field || !slices.Contains(s.Names, x.Name) {
				continue
			}
			alter := x.alter
			if x.kept != nil {
				if x.kept[s.Index] == nil {
					x.kept[s.Index] = new(signal.Value)
				}
				alter.Kept = x.kept[s.Index]
			}
			list = append(list, alter)
		}
	}
	slices.SortStableFunc(list, func(a, b fleet.Alteration) int { return int(a.How) - int(b.How) })
	return list
}
