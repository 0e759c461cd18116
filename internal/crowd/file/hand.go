package file

import (
	"fmt"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
)

// ParseEvent reads an event that a hand does to a crowd that plays: as one of the plan, but
// for when it happens. Label is how the report calls it.
func ParseEvent(c *crowd.Crowd, text, label string) (*crowd.Event, error) {
	of := &crowd.Crowd{Path: c.Path, Name: c.Name, Seed: c.Seed, Links: c.Links, Kinds: c.Kinds, Casts: c.Casts,
		Members: c.Members, Register: c.Register, Witnesses: c.Witnesses, Plan: c.Plan, Env: formula.Secrets{}}
	r := &reader{Problems: crowd.NewProblems("by hand", []byte(text)), missing: map[string]bool{},
		open: map[string]bool{}, crowd: of,
		files: map[string]*crowd.File{}, recordings: map[string]*recordedFile{}, links: map[*crowd.Link]*linkNode{},
		kinds:  map[*crowd.Kind]*kindNode{},
		layers: map[*crowd.Cast][]layer{}, changed: map[*crowd.Cast]map[*change]*crowd.Cast{}}
	r.from.Getenv = func(string) (string, bool) { return "", false }
	e := &crowd.Event{After: -1, Label: label}
	if root := r.document([]byte(text)); root != nil {
		o := r.object(root, "what is to be done", eventMap)
		for _, name := range []string{"at", "every", "after", "delay", "chance", "fresh", "name"} {
			if n := o.get(name); n != nil {
				r.Add(pos(n), "%s: %s goes with events of the plan; a hand does it now", o.what, name)
			}
		}
		of.Plan.For = max(of.Plan.For, 1)
		if o.node.Kind == yaml.MappingNode {
			r.event(e, o)
		}
	}
	if len(r.List) == 0 && len(e.Do) == 0 {
		r.Add(crowd.Pos{}, "nothing was to be done")
	}
	r.Hide(c.Secrets())
	if len(r.List) > 0 {
		return nil, fmt.Errorf("%s", r.List[0].Text)
	}
	return e, nil
}
