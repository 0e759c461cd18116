package file

import (
	"fmt"
	"strings"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
)

// members names the devices of all groups and works out their properties.
func (r *reader) members() {
	m := &formula.Machine{}
	var list []*crowd.Member
	names := map[string]int{}
	for _, cast := range r.crowd.Casts {
		for i := 0; i < cast.Count; i++ {
			before := len(r.List)
			mb := &crowd.Member{Cast: cast, Index: i}
			r.memberProperties(mb, m)
			if err := checkName(mb.Name); err != nil && len(r.List) == before {
				r.Add(cast.NamePos, "%s%s", err, rosterLine(cast, i))
			}
			if en := r.crowd.Register; en != nil && en.Names != nil && len(r.List) == before {
				if err := en.Names.Check(mb.Name); err != nil {
					r.Add(cast.NamePos, "register: names: %s; nothing was registered: choose other names now, they cannot be "+
						"changed later%s", err, rosterLine(cast, i))
				}
			}
			if first, twice := names[mb.Name]; twice && len(r.List) == before {
				r.Add(cast.NamePos, "two devices have the name %q (the first is in the group in line %d); %s%s", mb.Name, first,
					uniqueHint(cast), rosterLine(cast, i))
			}
			if len(r.List) > before {
				break // the others of the group have the same mistake
			}
			names[mb.Name] = cast.Pos.Line
			list = append(list, mb)
		}
	}
	if len(r.List) == 0 {
		r.changeMembers(list, m)
	}
	r.crowd.Members = list
}

func uniqueHint(c *crowd.Cast) string {
	if c.Roster != nil {
		return "every row needs a name of its own"
	}
	return "give one of the groups other names, or a first number of its own (first: 13)"
}

func rosterLine(c *crowd.Cast, i int) string {
	if c.Roster == nil {
		return ""
	}
	return fmt.Sprintf("; see %s:%d", c.Roster.File, c.Roster.Lines[i])
}

// memberProperties works out name, number and properties of a member for its cast.
func (r *reader) memberProperties(mb *crowd.Member, m *formula.Machine) {
	c, cast := r.crowd, mb.Cast
	n := cast.First + mb.Index
	mb.Env = formula.Env{"n": n, "kind": cast.Kind.Name, "crowd": c.Name, "env": c.Env, "tags": cast.Tags}
	expand := func(at crowd.Pos, what string, t *formula.Text) string {
		if t == nil {
			return ""
		}
		s, err := t.Expand(m, mb.Env)
		if err != nil {
			r.Add(at, "%s: %s%s", what, err, rosterLine(cast, mb.Index))
		}
		return s
	}
	// A roster's columns may be a part of the name.
	for i := range cast.Properties {
		if pr := &cast.Properties[i]; pr.Column != nil && pr.Column[mb.Index].Type() != signal.Null {
			mb.Env[pr.Name] = alike(asFormulas(pr.Column[mb.Index].Any()), pr.Sample)
		}
	}
	if mb.Name == "" {
		nameEnv := mb.Env
		if cast.Roster != nil {
			nameEnv = formula.Env{"device": cast.Roster.Name(mb.Index)}
			for k, v := range mb.Env {
				nameEnv[k] = v
			}
		}
		s, err := "", error(nil)
		if cast.Name != nil {
			s, err = cast.Name.Expand(m, nameEnv)
		}
		if err != nil {
			r.Add(cast.NamePos, "name: %s%s", err, rosterLine(cast, mb.Index))
		}
		mb.Name = s
	}
	mb.Env["device"] = mb.Name
	for i := range cast.Properties {
		pr := &cast.Properties[i]
		if _, given := mb.Env[pr.Name]; given && pr.Column != nil {
			continue
		}
		what := fmt.Sprintf("the property %q", pr.Name)
		if v, kept := c.Registered[mb.Name].Kept[pr.Name]; kept && pr.Kept {
			mb.Env[pr.Name] = v
			continue
		}
		switch {
		case pr.Kept && pr.Text == nil && pr.Draw == nil && pr.Value.Type() == signal.Null:
			mb.Env[pr.Name] = ""
		case pr.Text != nil:
			mb.Env[pr.Name] = expand(pr.Pos, what, pr.Text)
		case pr.Draw != nil:
			v, err := pr.Draw(signal.Key(c.Seed, mb.Name, pr.Name), mb.Index, cast.Count)
			if err != nil {
				r.Add(pr.Pos, "%s of %s: %s", what, mb.Name, err)
			}
			mb.Env[pr.Name] = v
		case pr.Column != nil && pr.Value.Type() == signal.Null:
			mb.Env[pr.Name] = "" // only a text may be empty without a default
		default:
			mb.Env[pr.Name] = alike(asFormulas(pr.Value.Any()), pr.Sample)
		}
	}
}

// alike makes a whole number one of the property's type, where that has decimals.
func alike(v, sample any) any {
	i, whole := v.(int)
	if _, float := sample.(float64); whole && float {
		return float64(i)
	}
	return v
}

// asFormulas is a whole number as formulas have it.
func asFormulas(v any) any {
	if i, whole := v.(int64); whole {
		return int(i)
	}
	return v
}

// changeMembers makes the changes that the file describes, in its order: each sees what
// those before it have made.
func (r *reader) changeMembers(members []*crowd.Member, m *formula.Machine) {
	for _, ch := range r.changes {
		picked := make([]bool, len(members))
		list := make([]crowd.Candidate, len(members))
		for i, mb := range members {
			list[i] = crowd.Candidate{Name: mb.Name, Kind: mb.Cast.Kind.Name, Tags: mb.Cast.Tags, Env: mb.Env, Group: mb.Cast}
		}
		for _, who := range ch.who {
			some, err := who.Pick(r.crowd.Seed, list)
			if err != nil {
				r.Add(who.Pos, "who: %s", err)
				continue
			}
			for i := range some {
				picked[i] = picked[i] || some[i]
			}
		}
		for i, mb := range members {
			if !picked[i] {
				continue
			}
			before := len(r.List)
			mb.Cast = r.derive(mb.Cast, ch)
			if len(r.List) == before {
				r.memberProperties(mb, m)
			}
			if len(r.List) > before {
				return
			}
		}
	}
}

func checkName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("a device has an empty name")
	case len(name) > 200:
		return fmt.Errorf("the name of a device has %d bytes; the most is 200", len(name))
	case strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		return fmt.Errorf("the name %q of a device holds a space or a control character", name)
	}
	return nil
}
