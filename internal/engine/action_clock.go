package engine

import (
	"fmt"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
)

// clockAction sets the device's own clock off.
var clockAction = handling{
	do: func(_ *loop, _ *act, x *action, _ moment) string { return clockText(x.Clock) },
}

// ahead is by how much the device's own clock is ahead.
func (d *device) ahead(at int64) (off time.Duration) {
	for _, a := range d.acts {
		for i := range a.actions {
			if x := &a.actions[i]; x.Kind == crowd.ActionClock {
				off += x.Clock.At(time.Duration(at - a.from))
			}
		}
	}
	return off
}

func clockText(c crowd.Clock) string {
	var parts []string
	if c.Off != 0 {
		what := " ahead"
		if c.Off < 0 {
			what = " behind"
		}
		parts = append(parts, quantity.FormatDuration(c.Off.Abs())+what)
	}
	if c.Drift != 0 {
		parts = append(parts, fmt.Sprintf("drifts by %s a minute",
			quantity.FormatDuration(time.Duration(c.Drift*float64(time.Minute)))))
	}
	return strings.Join(parts, ", ")
}
