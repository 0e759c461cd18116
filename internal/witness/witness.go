// Package witness looks for messages on the platform's side and notes each
// sighting in the ledger. What the sightings mean is not decided here.
//
// A witness never guesses. A message that carries the mark of another run is
// let pass; a time in which the witness could not listen is noted as a gap;
// an answer that cannot be understood is told, and the witness counts as not
// heard.
//
// The rooms below it: match knows whose a mark, a time or a row is; hearing is what all witnesses
// have in common; listen hears what comes by itself; ask asks a source for rows, find looks for
// messages and alerts in these, and count counts them.
package witness

import (
	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/count"
	"runcrowd/internal/witness/find"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/listen"
	"runcrowd/internal/witness/match"
)

// New makes the witness of a file; page is where it writes.
func New(spec *crowd.Witness, index int, c *match.Catalog, page *ledger.Page) (hearing.Witness, error) {
	b, err := hearing.New(spec, index, c, page)
	if err != nil {
		return nil, err
	}
	if !spec.Asks() {
		return listen.New(b)
	}
	a, err := ask.New(b)
	switch {
	case err != nil:
		return nil, err
	case spec.Counts:
		return count.New(a)
	case spec.Hears:
		return find.Alerts(a)
	}
	return find.Messages(a)
}
