package engine

import (
	"fmt"
	"strconv"
	"strings"

	"runcrowd/internal/crowd"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
)

// networkAction makes the device's network slow, or break.
var networkAction = handling{
	do: func(l *loop, a *act, x *action, _ moment) string {
		l.setNetwork(a.device)
		return networkText(&x.Network)
	},
	undo: func(l *loop, a *act, _ *action, _ moment) { l.setNetwork(a.device) },
}

func (l *loop) setNetwork(d *device) {
	if d.shape == nil {
		return
	}
	var w link.Weather
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionNetwork }); x != nil {
		n := &x.Network
		w = link.Weather{Delay: n.Delay, Jitter: n.Jitter, Rate: n.Rate, Stall: n.Stall, StallEvery: n.StallEvery,
			CutAfter: n.CutAfter}
	}
	d.shape.Set(w)
}

func networkText(n *crowd.Network) string {
	var parts []string
	if n.Delay > 0 || n.Jitter > 0 {
		s := quantity.FormatDuration(n.Delay) + " delay"
		if n.Jitter > 0 {
			s += " and up to " + quantity.FormatDuration(n.Jitter) + " more"
		}
		parts = append(parts, s)
	}
	if n.Rate > 0 {
		parts = append(parts, strconv.FormatFloat(n.Rate, 'f', -1, 64)+" bit/s")
	}
	if n.Stall > 0 {
		parts = append(parts, fmt.Sprintf("nothing for %s every %s", quantity.FormatDuration(n.Stall),
			quantity.FormatDuration(n.StallEvery)))
	}
	if n.CutAfter > 0 {
		parts = append(parts, "cut after "+quantity.FormatSize(n.CutAfter))
	}
	return strings.Join(parts, ", ")
}
