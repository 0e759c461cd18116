package probe

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/run"
	"runcrowd/internal/scratch"
	"runcrowd/internal/witness/find"
)

// message sends one message of the stream and looks for it.
func (p *prober) message(ctx context.Context, c *crowd.Crowd, f *fleet.Fleet, s *fleet.Stream) {
	var m *ledger.Message
	var book *ledger.Book
	var took time.Duration
	if !p.fail {
		began := time.Now()
		var err error
		book, err = p.play(ctx, f, s)
		took = time.Since(began)
		if err != nil {
			var reach *link.ReachError
			says, cause := err.Error(), "see above"
			if errors.As(err, &reach) {
				says, cause = reach.Error(), reach.Try
			}
			p.do(ctx, "witnesses ready", func(context.Context) (string, []string, bool) {
				return c.Redact(says), p.late(
					[]string{cause}), false
			})
		} else if list := book.Messages[s.Index]; len(list) > 0 {
			m = &list[len(list)-1]
		}
	}
	if over := s.Device.Cast.Link.Protocol; over == crowd.HTTP &&
		(p.fail || m != nil && (m.Outcome == outcome.Accepted || m.Code == 401 || m.Code == 403)) {
		p.do(ctx, "credentials accepted", func(context.Context) (string, []string, bool) {
			p.part = true // of the request below
			if m.Outcome != outcome.Accepted {
				return c.Redact(m.Outcome.String() + ": " + m.Text), p.late(messageCauses(s, m)), false
			}
			return shownOverHTTP(s), nil, true
		})
	}
	p.do(ctx, "message acknowledged", func(context.Context) (string, []string, bool) {
		switch {
		case m == nil:
			return "no message was made", nil, false
		case m.Outcome == outcome.Accepted && m.Text != "":
			p.measured, p.doubt = m.At.Sub(m.Sent), true
			return c.Redact(m.Text), nil, true
		case m.Outcome == outcome.Accepted:
			p.measured = m.At.Sub(m.Sent)
			return fmt.Sprintf("%s of %s", s.Reading.Name, s.Device.Name), nil, true
		case m.Outcome == outcome.NotAsked:
			return "not asked: QoS 0", nil, true
		}
		return c.Redact(m.Outcome.String() + ": " + m.Text), p.late(messageCauses(s, m)), false
	})
	for i, w := range c.Witnesses {
		if w.Hears && w.Callback != nil {
			p.firstCall(ctx, f, w)
		}
		if w.Counts {
			p.do(ctx, "count answers", func(context.Context) (string, []string, bool) {
				if book == nil {
					return "not asked: the run did not begin", nil, true
				}
				x := &book.Witnesses[i]
				if h := x.Heard[1]; !h.Complete {
					return w.Name + ": " + c.Redact(h.Why), []string{"see what is said there"}, false
				}
				before, now := 0, 0
				for k := range x.Now {
					before, now = before+int(x.Before[k]), now+int(x.Now[k])
				}
				p.measured, p.doubt = took, now-before != 1
				return fmt.Sprintf("%s: %d before the message, %d after it", w.Name, before, now), nil, true
			})
		}
		if !w.Sees() || !f.Sees(i, s.Device) {
			continue
		}
		what := "own subscription hears it"
		if w.Callback != nil {
			what = "the platform calls with it"
		}
		if group, shared := sharedBy(w); shared {
			p.do(ctx, "subscription is its own", func(context.Context) (string, []string, bool) {
				p.doubt = true
				return fmt.Sprintf("%s: the broker splits messages between the members of the group %q: others may get what this "+
					"witness should hear", w.Name, group), nil, true
			})
		}
		if w.Asks() {
			what = "store finds it"
			p.do(ctx, "read-back answers", func(context.Context) (string, []string, bool) {
				p.part = true // of the questions below
				h := book.Witnesses[i].Heard[1]
				if book.Sighting(i, s.Index, m.Seq) == nil && !h.Complete && h.Why != "" &&
					!strings.HasPrefix(h.Why, find.Unmarked) {
					return w.Name + ": " + c.Redact(h.Why), []string{"see what is said there"}, false
				}
				return "the witness " + w.Name + " could ask", nil, true
			})
		}
		p.do(ctx, what, func(context.Context) (string, []string, bool) {
			if x := book.Sighting(i, s.Index, m.Seq); x != nil {
				p.measured = max(1, x.Seen.Sub(m.Sent))
				return "the witness " + w.Name, nil, true
			}
			h := book.Witnesses[i].Heard[1]
			if !h.Complete && h.Why != "" {
				return w.Name + ": " + c.Redact(h.Why), []string{"see what is said there"}, false
			}
			p.measured = took
			return "the witness " + w.Name + " did not find it", p.late(missingCauses(w)), false
		})
	}
}

// play sends the message in a run folder that is gone afterwards.
func (p *prober) play(ctx context.Context, f *fleet.Fleet, s *fleet.Stream) (*ledger.Book, error) {
	dir, release, err := scratch.Dir()
	if err != nil {
		return nil, err
	}
	defer release()
	session, err := run.Open(ctx, f, run.Options{Out: dir, File: f.Crowd.Path, Only: []*fleet.Device{s.Device},
		Links: p.links})
	if err != nil {
		return nil, err
	}
	if err := session.Send(ctx, &engine.Single{Stream: s.Index, Unretained: true}); err != nil {
		return nil, err
	}
	return run.ReadLedger(session.Folder)
}

// shownOverHTTP is shown for a device whose credentials ride in headers.
func shownOverHTTP(s *fleet.Stream) string {
	for _, h := range s.Headers {
		if strings.EqualFold(h.Name, "Authorization") && s.Device.Tokens == nil {
			return "the header " + h.Name
		}
	}
	return shown(s.Device)
}

func messageCauses(s *fleet.Stream, m *ledger.Message) []string {
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		return []string{"this client may not publish to " + s.Target + ": a permission is missing on the platform", "the " +
			"platform takes another topic, QoS or size"}
	}
	switch {
	case m.Code == 401 || m.Code == 403:
		list := []string{"the token or password is mistyped or has expired", "the device's secret is used where the " +
			"platform's is wanted, or the other way round", "a permission is missing on the platform"}
		if s.Device.Tokens != nil {
			list = append([]string{tokenCause}, list...)
		}
		return list
	case m.Code == 404 || m.Code == 405:
		return []string{"the path or the method is wrong: " + s.Reading.Method + " " + s.Target, "the device is not known " +
			"to the platform yet", "this is the other of two hosts"}
	case m.Code == 400 || m.Code == 415 || m.Code == 422:
		return []string{"the platform wants another payload: compare with its documentation, and with: runcrowd preview",
			"the content type is not the one it takes"}
	case m.Code == 429 || m.Code == 503:
		return []string{"a limit of the platform is reached; try again later"}
	case m.Code >= 300 && m.Code < 400:
		return []string{"the platform sends elsewhere: take the address it names"}
	}
	return []string{"see the platform's log"}
}

// sharedBy is the group of a shared subscription (MQTT 5, section 4.8.2).
func sharedBy(w *crowd.Witness) (group string, is bool) {
	for _, f := range w.Filters {
		if rest, is := strings.CutPrefix(f, "$share/"); is {
			group, _, _ = strings.Cut(rest, "/")
			return group, true
		}
	}
	return "", false
}

func missingCauses(w *crowd.Witness) []string {
	if group, shared := sharedBy(w); shared {
		return []string{fmt.Sprintf("another member of the group %q got it: leave $share/%s/ out of the filter", group,
			group)}
	}
	if w.Callback != nil {
		return []string{"the platform does not know the address " + w.Callback.URL, "it does not reach this machine there: " +
			"a firewall, or 127.0.0.1 where it runs elsewhere",
			"the message or its mark is elsewhere in a call than rows: and mark: say"}
	}
	if w.Listens() {
		return []string{"the filter " + strings.Join(w.Filters, ", ") + " does not match where the message comes out", "this client may not " +
			"subscribe there, and the broker says so to nobody", "the platform passes messages on elsewhere, or not at all"}
	}
	return []string{"the platform acknowledged and did not store it: is the device known to it, are the fields declared?",
		"it stores later than the witness waits: raise wait:",
		"the mark is elsewhere in a row than mark: says, or was dropped as an unknown field", map[string]string{
			"get":     "get: asks for another device or another time; is the clock right?",
			"sql":     "query: looks in another table, for another device or another time; is the clock right, and the time zone?",
			"file":    "file: names other files than the platform writes, or it writes them later",
			"program": "the program looks for another device or another time",
		}[w.Place()]}
}
