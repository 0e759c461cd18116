package ask

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/database"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// store is a source that is an SQL database.
type store struct {
	spec    *crowd.Witness
	catalog *match.Catalog
	db      *database.DB
	pace    *rate.Limiter
	ahead   *ledger.Offset // of the database's clock; nil: not known
}

func newStore(spec *crowd.Witness, c *match.Catalog) (*store, error) {
	zone, err := time.LoadLocation(spec.SQL.Zone)
	if err != nil {
		return nil, fmt.Errorf("the witness %q: zone: %w", spec.Name, err)
	}
	cfg := database.Config{Address: spec.SQL.Address, Folder: c.Folder, Query: spec.SQL.Query, Zone: zone,
		Timeout: spec.Timeout, MaxRow: spec.MaxRow}
	if c.Network != nil {
		cfg.Dial = c.Network.Dial
	}
	db, err := database.New(cfg)
	if err != nil {
		return nil, fmt.Errorf("the witness %q: sql: %w", spec.Name, err)
	}
	return &store{spec: spec, catalog: c, db: db, pace: limiter(spec)}, nil
}

// limiter keeps the pace of questions.
func limiter(spec *crowd.Witness) *rate.Limiter {
	if spec.Pace > 0 {
		return rate.NewLimiter(rate.Limit(spec.Pace), 1)
	}
	return rate.NewLimiter(rate.Inf, 1)
}

// Start implements Source: a wrong name is told before anything is sent.
func (s *store) Start(ctx hearing.Context, d *fleet.Device) error {
	now := clock.Now()
	err := s.query(ctx, Question{Device: d, Group: []*fleet.Device{d}, From: now, To: now}, func(any) {})
	var de *database.Error
	switch {
	case err == nil:
		if least, most, err := s.db.Ahead(ctx); err == nil {
			s.ahead = &ledger.Offset{Least: least, Most: most}
		}
		return ctx.Err()
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &de) && de.Connect:
		what, try := de.Text, "check sql:, the name and password in it, and whether the database runs"
		var op *net.OpError
		var dns *net.DNSError
		if errors.As(err, &dns) || errors.As(err, &op) {
			what, try = link.Explain(err, hostOf(s.spec.SQL.Address))
		}
		return &link.ReachError{Witness: s.spec.Name, Address: s.address(), What: what, Try: try, Err: err}
	case errors.As(err, &de) && de.Passing:
		return nil // it may answer later
	}
	return fmt.Errorf("the witness %q: %w", s.spec.Name, err)
}

// address is where the database is, without names and passwords.
func (s *store) address() string {
	if u, err := url.Parse(s.spec.SQL.Address); err == nil && u.Host != "" {
		return u.Scheme + "://" + u.Host + u.Path
	}
	scheme, rest, _ := strings.Cut(s.spec.SQL.Address, ":")
	if scheme == "sqlite" {
		return scheme + ":" + rest
	}
	return s.db.Kind().String()
}

// Ask implements Source.
func (s *store) Ask(ctx hearing.Context, q Question) (int, error) {
	q.Cursor.Turn()
	err := patiently(ctx, q.Cursor, func() (bool, time.Duration, error) {
		if err := s.pace.Wait(ctx); err != nil {
			return false, 0, contextDone(ctx)
		}
		err := s.query(ctx, q, q.Cursor.Row)
		var de *database.Error
		return errors.As(err, &de) && de.Passing, 0, err
	})
	return 1, err
}

func (s *store) query(ctx hearing.Context, q Question, see func(any)) error {
	args := database.Args{From: q.From, To: q.To, Device: q.Device.Name}
	for _, d := range q.Group {
		args.Devices = append(args.Devices, d.Name)
	}
	return s.db.Ask(ctx, args, func(columns []string) error { return hasColumns(s.spec, s.catalog, columns) },
		func(row map[string]any) { see(row) })
}

// hasColumns checks that the columns are there that the file names.
func hasColumns(spec *crowd.Witness, c *match.Catalog, columns []string) error {
	for _, name := range spec.Columns {
		if !slices.Contains(columns, name) {
			return fmt.Errorf("the query gives no column %q; it gives %s", name,
				strings.Join(columns[:min(len(columns), 20)], ", "))
		}
	}
	if spec.Mark != "" || spec.Body != "" || !spec.Sees() {
		return nil
	}
	places := c.Places
	for _, k := range c.Fleet.Crowd.Kinds {
		switch k.Mark.Place {
		case crowd.MarkNone:
			return nil
		case crowd.MarkTime:
			places = append(slices.Clone(places), k.Mark)
		}
	}
	for _, place := range places {
		if slices.Contains(columns, place.Name) {
			return nil
		}
	}
	return fmt.Errorf("the query gives no column with the mark; say where it is with mark:, for example mark: %s (the "+
		"columns are %s)", places[0].Name, strings.Join(columns[:min(len(columns), 20)], ", "))
}

// Offset implements Source. What writes the rows often has a clock of its own.
func (s *store) Offset() (*ledger.Offset, bool) { return s.ahead, false }

// Stop implements Source.
func (s *store) Stop() { s.db.Close() }
