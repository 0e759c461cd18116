package fleet

import (
	"fmt"
	"strconv"
	"strings"
)

// Part is a fixed share of a crowd, the N-th of Of, from 1; the zero value is the whole crowd. All that is
// drawn by chance is drawn of the whole, so that the parts together are the crowd.
type Part struct{ N, Of int }

// MostParts bounds into how many parts a crowd can be split.
const MostParts = 10_000

// ParsePart reads a part such as 3/8.
func ParsePart(s string) (Part, error) {
	n, of, found := strings.Cut(s, "/")
	p := Part{}
	var err error
	if p.N, err = strconv.Atoi(n); err == nil {
		p.Of, err = strconv.Atoi(of)
	}
	if !found || err != nil || p.Of < 1 || p.N < 1 || p.N > p.Of || p.Of > MostParts {
		return Part{}, fmt.Errorf("%q is no part; the third of eight is 3/8, and there are at most %d", s, MostParts)
	}
	return p, nil
}

func (p Part) String() string { return fmt.Sprintf("%d/%d", p.N, p.Of) }

// Whole tells whether it is no part, but all.
func (p Part) Whole() bool { return p.Of == 0 }

// Share leaves a part of the fleet to be played here, and lists its devices: the others are elsewhere, and no
// witness here looks for them. Devices go to the parts in turn, those behind a gateway with it.
func (f *Fleet) Share(p Part) []*Device {
	f.Part = p
	if p.Whole() {
		return f.Devices
	}
	var own []*Device
	unit := 0
	for _, d := range f.Devices {
		if d.Gateway == nil {
			d.Elsewhere = unit%p.Of != p.N-1
			unit++
		}
	}
	for _, d := range f.Devices {
		if d.Gateway != nil {
			d.Elsewhere = d.Gateway.Elsewhere
		}
		if !d.Elsewhere {
			own = append(own, d)
		}
	}
	for w, sees := range f.sees {
		some := make([]bool, len(f.Devices))
		for _, d := range own {
			some[d.Index] = sees == nil || sees[d.Index]
		}
		f.sees[w] = some
	}
	return own
}
