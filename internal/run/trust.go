package run

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"runcrowd/internal/crowd"
	"runcrowd/internal/seal"
)

// Origin is whose a run folder is.
type Origin int

// The origins.
const (
	Own     Origin = iota // this user played it, and what it is judged by is as it was
	Foreign               // somebody else played it, or nobody knows who
	Altered               // this user played it, and what it is judged by was changed
)

// seal is the seal of a manifest.
func (m *Manifest) seal(k *seal.Key) (string, error) {
	text, err := m.sealed()
	return k.Seal(text), err
}

// sealed is what the seal is of.
func (m *Manifest) sealed() ([]byte, error) {
	plain := *m
	plain.Seal = ""
	return json.Marshal(plain)
}

// Origin tells whose a run folder is, by the user's key.
func (m *Manifest) Origin(k *seal.Key) Origin {
	if m.parts != nil {
		all := Own
		for _, p := range m.parts {
			switch o := p.Origin(k); {
			case o == Altered, all == Own:
				all = o
			}
		}
		return all
	}
	text, err := m.sealed()
	switch {
	case err == nil && k.Sealed(text, m.Seal):
		return Own
	case k != nil && m.SealedBy == k.Name():
		return Altered
	}
	return Foreign
}

// Uses are what the witnesses of a crowd file would use if they were asked, in lines: programs,
// places, files, and variables of the environment. Asked are the places of those witnesses.
func Uses(c *crowd.Crowd, asked []int) (lines []string) {
	for _, i := range asked {
		w := c.Witnesses[i]
		what := ""
		switch {
		case len(w.Program) > 0:
			what = "runs the program " + strings.Join(w.Program, " ")
		case w.SQL != nil:
			what = "asks the database " + place(w.SQL.Address)
		case w.File != "":
			what = "reads the files " + w.File
		default:
			what = "asks " + place(w.Get)
		}
		if l := w.Link; l != nil {
			what += ", with the credentials of the link " + l.Name
			if own := &l.Guest; own.Cert != nil {
				what += ", of which " + own.Cert.Source() + " and " + own.Key.Source() + " are read"
			}
		}
		lines = append(lines, fmt.Sprintf("the witness %s %s", w.Name, what))
	}
	if len(c.Env) > 0 {
		lines = append(lines, "the values of these variables of the environment may go there: "+
			strings.Join(slices.Sorted(maps.Keys(c.Env)), ", "))
	}
	return lines
}

// place is a host, where an address has one.
func place(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Scheme + "://" + u.Host
	}
	return address
}
