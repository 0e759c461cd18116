package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
	"runcrowd/internal/quantity"
	"runcrowd/internal/sketch"
	"runcrowd/internal/verdict"
	"runcrowd/internal/witness/listen"
)

// listening is what listen was asked for.
type listening struct {
	who    []string
	topic  string
	format string
	length string
	count  int
}

func (e *env) listen() *cobra.Command {
	var l listening
	var s sketch.Options
	cmd := &cobra.Command{
		Use:   "listen FILE|ADDRESS",
		Short: "Show what comes out of the platform, live",
		Long: `Listen subscribes as the subscribing witnesses of a crowd file do, and shows each
message as it comes out of the platform: whose it is, its number and its values,
read in the form that the crowd file says. A number that is missing, comes twice
or comes late is flagged as it happens. It sends nothing, and may run beside a run.

With the address of a broker in place of a file it shows what comes there, topic by topic: topics
that differ in one level are one line (+), with messages a second, sizes, the form of bodies, what
is retained, and the last value. On a terminal the table refreshes, and Enter shows the messages of
a line one by one. --user, --password-env and --ca are as those of try.

It goes on until Ctrl-C, or until --for or --count is reached.`,
		Example: "  runcrowd listen mqtt://127.0.0.1:1883\n  runcrowd listen mqtts://broker.harbour:8883 --user watch --topic " +
			"'harbour/#' --for 30s\n  runcrowd listen harbour/crowd.yaml\n  runcrowd listen harbour/crowd.yaml --who 'buoy-0*' --format json " +
			"> heard.jsonl",
		Args: exactly(1, "one crowd file, or the address of a broker"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(l.format); err != nil {
				return err
			}
			ctx, lasts, stop, err := l.until()
			if err != nil {
				return err
			}
			defer stop()
			if addressed(args[0]) {
				if len(l.who) > 0 {
					return errors.New("--who goes with a crowd file, which says what devices there are")
				}
				s.Address = args[0]
				return e.overview(ctx, lasts, s, &l)
			}
			if s.User+s.Password+s.CA != "" {
				return errors.New("--user, --password-env and --ca go with an address; a crowd file has them in its links")
			}
			return e.listenFile(ctx, lasts, args[0], &l)
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&l.who, "who", nil, "only messages of these devices (may be given more than once)")
	f.StringVar(&l.topic, "topic", "", "only messages whose topic matches this filter")
	f.StringVar(&l.format, "format", "text", "text, or json: an object a line")
	f.StringVar(&l.length, "for", "", "stop after so long, such as 30s")
	f.IntVarP(&l.count, "count", "n", 0, "stop after this many messages")
	f.StringVar(&s.User, "user", "", "with an address: the user; the password is asked for")
	f.StringVar(&s.Password, "password-env", "", "with an address: the variable of the environment that has the password")
	f.StringVar(&s.CA, "ca", "", "with an address: a file of certificates by which the broker's is checked")
	return cmd
}

// until is a context that ends with Ctrl-C, and the time of --for; 0: there is none.
func (l *listening) until() (context.Context, time.Duration, context.CancelFunc, error) {
	ctx, stop := interruptible()
	if l.length == "" {
		return ctx, 0, stop, nil
	}
	d, err := quantity.ParseDuration(l.length)
	if err != nil || d <= 0 {
		stop()
		return nil, 0, nil, fmt.Errorf("--for: %q is not a time above zero, such as 30s", l.length)
	}
	return ctx, d, stop, nil
}

func (e *env) listenFile(ctx context.Context, lasts time.Duration, path string, l *listening) error {
	f, err := loadFleet(path, nil)
	if err != nil {
		return err
	}
	c := f.Crowd
	h := &hearer{env: e, crowd: c, only: l, followed: map[string]*followed{}, names: map[string][]string{}}
	for _, s := range f.Streams {
		h.names[s.Device.Name+"\x00"+s.Reading.Name] = s.Names
	}
	if is, width := terminal(e.stdout); is {
		h.width = width
	}
	if len(l.who) > 0 {
		devices, err := selectDevices(f, "who", l.who)
		if err != nil {
			return err
		}
		h.devices = map[string]bool{}
		for _, d := range devices {
			h.devices[d.Name] = true
		}
	}
	if l.topic != "" {
		if err := crowd.CheckFilter(l.topic); err != nil {
			return fmt.Errorf("--topic: %w", err)
		}
	}
	ctx, h.enough = context.WithCancel(ctx)
	defer h.enough()
	var g errgroup.Group
	n := 0
	unheard := make([]listen.Unheard, len(c.Witnesses))
	for i, w := range c.Witnesses {
		if !w.Listens() {
			continue
		}
		n++
		if l.format == "text" {
			at := ""
			if w.Callback != nil {
				at = "for calls at " + w.Callback.URL
			} else {
				at = fmt.Sprintf("to %s on %s", strings.Join(w.Filters, ", "), w.Link.URL())
			}
			fmt.Fprintf(e.stderr, "Listening as %s %s.\n", w.Name, at)
		}
		g.Go(func() error {
			deaf, err := listen.To(ctx, lasts, f, w, h.hear)
			unheard[i] = deaf
			if err != nil {
				h.enough()
			}
			return err
		})
	}
	if n == 0 {
		return errors.New("no witness of this file subscribes; add one such as ear: {proves: received, subscribe: harbour/#}")
	}
	if err := g.Wait(); err != nil {
		return fail(err, c)
	}
	if l.format == "text" {
		fmt.Fprintf(e.stderr, "\n%s heard; %d missing, %d repeated, %d out of order, %d without a mark.\n",
			plural(h.total, "message"), h.missing, h.repeated, h.late, h.unmarked)
	}
	for i := range unheard {
		e.tellUnheard(&unheard[i], c.Redact)
	}
	return nil
}

// tellUnheard tells when nothing could be heard.
func (e *env) tellUnheard(u *listen.Unheard, redact func(string) string) {
	if u.Times == 0 {
		return
	}
	from := u.First.From.UTC().Format("15:04:05") + " UTC"
	span := verdict.Span(u.First.To.Sub(u.First.From))
	missing := "what came then is missing"
	if u.Kept {
		missing = "what came then with QoS 0 may be missing"
	}
	if u.Times > 1 {
		fmt.Fprintf(e.stderr, "%d times nothing could be heard, for %s in all, and %s; first from %s, for %s: %s.\n", u.Times,
			verdict.Span(u.For), missing, from, span, redact(u.First.Why))
		return
	}
	fmt.Fprintf(e.stderr, "Nothing could be heard from %s, for %s, and %s: %s.\n", from, span, missing, redact(u.First.Why))
}

// hearer tells of each message.
type hearer struct {
	env     *env
	crowd   *crowd.Crowd
	only    *listening
	devices map[string]bool // nil: all
	enough  context.CancelFunc
	names   map[string][]string // of fields in the file's order, by device and reading
	width   int                 // of the terminal; 0: lines are not cut

	mu                                       sync.Mutex
	followed                                 map[string]*followed
	total, missing, repeated, late, unmarked int
}

// followed are the numbers of one stream of one run.
type followed struct {
	last uint64
	gaps map[uint64]bool // numbers that were passed over
}

// mostGaps bounds how many missing numbers of a stream are remembered.
const mostGaps = 10_000

// follow notes a number and gives what is to be said of it.
func (h *hearer) follow(key string, seq uint64) string {
	x := h.followed[key]
	if x == nil {
		// Listening may begin in the middle of a run.
		h.followed[key] = &followed{last: seq, gaps: map[uint64]bool{}}
		return ""
	}
	switch {
	case seq == x.last+1:
		x.last = seq
		return ""
	case seq > x.last:
		from, n := x.last+1, int(seq-x.last-1)
		for k := from; k < seq && len(x.gaps) < mostGaps; k++ {
			x.gaps[k] = true
		}
		x.last = seq
		h.missing += n
		if n == 1 {
			return fmt.Sprintf("GAP: #%d is missing", from)
		}
		return fmt.Sprintf("GAP: #%d to #%d are missing", from, seq-1)
	case x.gaps[seq]:
		delete(x.gaps, seq)
		h.missing--
		h.late++
		return "OUT OF ORDER: it was missing"
	}
	h.repeated++
	return "REPEATED"
}

// shown is what a message carries in one line: the fields in the file's order, then
// what else came.
func shown(values []byte, names []string) string {
	var object map[string]json.RawMessage
	if json.Unmarshal(values, &object) != nil || object == nil {
		return string(values)
	}
	var parts []string
	tell := func(name string) {
		v := string(object[name])
		delete(object, name)
		var place struct{ Lat, Lon *json.Number }
		var s string
		switch {
		case json.Unmarshal([]byte(v), &s) == nil && v != "null":
			v = s
		case json.Unmarshal([]byte(v), &place) == nil && place.Lat != nil && place.Lon != nil:
			v = place.Lat.String() + "," + place.Lon.String()
		}
		parts = append(parts, name+" "+v)
	}
	for _, n := range names {
		if _, has := object[n]; has {
			tell(n)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(object)) {
		tell(n)
	}
	return strings.Join(parts, "  ")
}

func (h *hearer) hear(o listen.Overheard) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.devices != nil && !h.devices[o.Device] || h.only.topic != "" && !crowd.TopicMatches(h.only.topic, o.Topic) ||
		h.only.count > 0 && h.total >= h.only.count {
		return
	}
	h.total++
	flag, number := "", ""
	if o.Mark != nil {
		number = fmt.Sprintf("#%d", o.Mark.Seq)
		flag = h.follow(o.Witness+"\x00"+o.Mark.Run+"\x00"+o.Device+"\x00"+o.Reading, o.Mark.Seq)
	} else {
		h.unmarked++
	}
	e := h.env
	if h.only.format == "json" {
		doc := map[string]any{"at": o.At.UTC(), "witness": o.Witness, "topic": h.crowd.Redact(o.Topic), "qos": o.QoS,
			"retained": o.Retained, "device": o.Device, "reading": o.Reading, "bytes": len(o.Body)}
		if o.Mark != nil {
			doc["run"], doc["seq"] = o.Mark.Run, o.Mark.Seq
		}
		if flag != "" {
			doc["flag"] = flag
		}
		if o.Kind != "" {
			doc["content_type"] = o.Kind
		}
		if o.Values != nil {
			doc["values"] = json.RawMessage(h.crowd.Redact(string(o.Values)))
		}
		if utf8.Valid(o.Body) {
			doc["body"] = h.crowd.Redact(string(o.Body))
		} else {
			doc["body_base64"] = o.Body
		}
		line, err := json.Marshal(doc)
		if err == nil {
			e.raw.Write(append(foreign.JSON(line), '\n'))
		}
	} else {
		what := fmt.Sprintf("%q", o.Body[:min(len(o.Body), 200)])
		if o.Values != nil {
			what = shown(o.Values, h.names[o.Device+"\x00"+o.Reading])
		}
		who := o.Device + " " + o.Reading
		if o.Device == "" {
			who = o.Topic
		}
		kept := ""
		if o.Retained {
			kept = " (retained)"
		}
		lead := fmt.Sprintf("  %-22s %-6s ", who, number)
		if flag != "" {
			flag += "  "
		}
		what = h.crowd.Redact(what) + kept
		if room := h.width - 13 - len([]rune(lead)) - len(flag); h.width > 0 && room > 10 && len([]rune(what)) > room {
			what = string([]rune(what)[:room-1]) + "…"
		}
		fmt.Fprintf(e.stdout, "%s%s%s%s\n", e.paint(text.Faint, o.At.UTC().Format("15:04:05.000")), lead,
			e.paint(text.FgYellow, flag), what)
	}
	if h.total == h.only.count {
		h.enough()
	}
}
