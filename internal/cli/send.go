package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/grid"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
	value "runcrowd/internal/signal"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

func (e *env) send() *cobra.Command {
	var reading, out, format string
	cmd := &cobra.Command{
		Use:   "send FILE DEVICE [FIELD=VALUE …]",
		Short: "Send one message now and follow it through every witness",
		Long: `Send connects one device of a crowd file, sends one message of one of its
readings, and follows it: acknowledged, received, stored, each with its time, and
every field as it was sent and as it was found.

Fields have the values that the crowd file makes, or those given here; formulas
follow them. A VALUE is a number, true, false, null, missing (the field is left
out), a position, or else a text.

Where a run of this crowd plays in the folder for run folders, its device sends the
message, and is not thrown off: see do. It is followed there, as far as that can be
told before the round is over; exit code 0 then says that all so far holds.

Exit codes: 0 the message is proven; 1 it is not; 2 the command or the file is
wrong; 3 the platform could not be reached; 4 interrupted.`,
		Example: "  runcrowd send harbour/crowd.yaml buoy-007\n  runcrowd send harbour/crowd.yaml buoy-007 wave_m=2.4 " +
			"--reading state",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 {
				return fmt.Errorf("send needs a crowd file and a device: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			return e.sendOne(args[0], args[1], reading, args[2:], out, format)
		},
	}
	cmd.Flags().StringVar(&reading, "reading", "", "which reading; needed where the device has several")
	cmd.Flags().StringVarP(&out, "out", "o", "runs", "folder in which the run folder is made")
	cmd.Flags().StringVar(&format, "format", "text", "text or json")
	return cmd
}

// oneStream finds the stream that a message is sent of.
func oneStream(f *fleet.Fleet, device, reading string) (*fleet.Stream, error) {
	d, err := deviceNamed(f, "send", device)
	if err != nil {
		return nil, err
	}
	var readings []string
	for _, s := range d.Streams {
		readings = append(readings, s.Reading.Name)
		if s.Reading.Name == reading || reading == "" && len(d.Streams) == 1 {
			return s, nil
		}
	}
	if reading == "" {
		return nil, fmt.Errorf("%s has several readings; say which with --reading: %s", device, strings.Join(readings, ", "))
	}
	return nil, unknownName("--reading", device+" has no reading", reading, readings)
}

// givenValues reads FIELD=VALUE arguments.
func givenValues(s *fleet.Stream, args []string) (map[string]value.Value, error) {
	given := map[string]value.Value{}
	for _, a := range args {
		name, v, ok := strings.Cut(a, "=")
		if !ok {
			return nil, fmt.Errorf("%q gives no value; write FIELD=VALUE, such as %s=1.5", a, s.Names[0])
		}
		var field *crowd.Field
		for i := range s.Reading.Fields {
			if s.Reading.Fields[i].Name == name {
				field = &s.Reading.Fields[i]
			}
		}
		if field == nil {
			return nil, unknownName("send", "the reading "+s.Reading.Name+" has no field", name,
				append([]string(nil), s.Names...))
		}
		number, isNumber := crowd.Number(v)
		_, isText := field.Sample.(string)
		_, isPlace := field.Sample.(quantity.Position)
		switch {
		case v == "missing":
			given[name] = value.NoValue()
		case v == "null":
			given[name] = value.Value{}
		case isText:
			given[name] = value.OfText(v)
		case v == "true" || v == "false":
			given[name] = value.OfBool(v == "true")
		case isNumber:
			given[name] = number
		case isPlace:
			p, err := quantity.ParsePosition(v)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			given[name] = value.OfPlace(p)
		default:
			given[name] = value.OfText(v)
		}
	}
	return given, nil
}

func (e *env) sendOne(path, device, reading string, args []string, out, format string) error {
	f, err := loadFleet(path, nil)
	if err != nil {
		return err
	}
	c := f.Crowd
	s, err := oneStream(f, device, reading)
	if err != nil {
		return err
	}
	given, err := givenValues(s, args)
	if err != nil {
		return err
	}
	if folder := playsIn(out, c.Name); folder != "" {
		return e.sendByHand(folder, f, s, args, format)
	}
	c.Plan.Rounds = 1
	ctx, stop := interruptible()
	defer stop()
	session, err := run.Open(ctx, f, run.Options{Out: out, Version: Version(), File: path,
		Only: []*fleet.Device{s.Device}, Key: e.key(true)})
	if err != nil {
		if ctx.Err() != nil {
			return &exitError{exitInterrupted, errors.New("interrupted before anything was sent")}
		}
		return fail(err, c)
	}
	if err := session.Send(ctx, &engine.Single{Stream: s.Index, Values: given}); err != nil {
		return fail(err, c)
	}
	if _, first := session.ValuesFailed(); first != nil {
		fmt.Fprintf(e.stderr, "A value could not be made: %s\n", c.Redact(first.Error()))
	}
	j, err := run.Judge(session.Folder, run.Judging{})
	if err != nil {
		return err
	}
	res := j.Result
	book, err := run.ReadLedger(session.Folder)
	if err != nil {
		return err
	}
	t := trace{fleet: f, stream: s, book: book, result: res}
	if format == "json" {
		err = e.json(t.doc(session.Folder))
	} else {
		e.tellTrace(&t)
		fmt.Fprintf(e.stdout, "\nThe run folder is %s\n", session.Folder)
	}
	switch {
	case err != nil:
		return err
	case ctx.Err() != nil:
		return &exitError{code: exitInterrupted}
	case res.Total[verdict.Proven] != res.Total.Due():
		return &exitError{code: exitBroken}
	}
	return nil
}

// playsIn is the run folder of a crowd that plays; empty: none does.
func playsIn(out, crowd string) string {
	for _, folder := range run.PlayedNow(out) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		a, err := run.ByHand(ctx, folder, &run.HandRequest{Want: run.HandStatus})
		cancel()
		if err == nil && a.Crowd == crowd && a.Status.Phase == run.Playing {
			return folder
		}
	}
	return ""
}

// sendByHand lets the device of a run that plays send the message, and follows it there.
func (e *env) sendByHand(folder string, f *fleet.Fleet, s *fleet.Stream, args []string, format string) error {
	q, err := handRequest(append([]string{s.Device.Name, "send", s.Reading.InFile()}, args...), "", "", "")
	if err != nil {
		return err
	}
	ctx, stop := interruptible()
	defer stop()
	a, err := run.ByHand(ctx, folder, q)
	if err != nil {
		return fmt.Errorf("%w (%s)", err, folder)
	}
	seq := uint64(0)
	for _, h := range a.Done {
		for _, x := range h.Did {
			if x.Kind == crowd.ActionSend.String() {
				seq, _ = strconv.ParseUint(x.Value, 10, 64)
			}
		}
	}
	if a.Error == "" && seq == 0 {
		a.Error = s.Device.Name + " sent nothing: it measures nothing just now, as it restarts or is told so"
	}
	if a.Error != "" {
		if format == "json" {
			err = e.json(a)
		} else {
			e.tellHand(q, a)
		}
		if err == nil {
			err = &exitError{code: exitBroken}
		}
		return err
	}
	if format == "text" {
		fmt.Fprintf(e.stdout, "%s plays in %s, and sends it there.\n\n", s.Device.Name, folder)
	}
	t := trace{fleet: f, stream: s, playing: true, first: seq - uint64(max(1, s.Reading.Batch)) + 1}
	wait := s.Device.Cast.Link.Timeout
	for _, w := range f.Crowd.Witnesses {
		if w.Sees() && w.Listens() {
			wait = max(wait, w.Wait)
		}
	}
	for deadline := time.Now().Add(wait); ; {
		if t.book, err = run.ReadLedgerOf(folder, s.Index, t.first, seq); err != nil {
			return err
		}
		if t.came() || time.Now().After(deadline) {
			break
		}
		select {
		case <-ctx.Done():
			return &exitError{code: exitInterrupted}
		case <-time.After(followEvery):
		}
	}
	if format == "json" {
		err = e.json(t.doc(folder))
	} else {
		e.tellTrace(&t)
	}
	if err == nil && !t.good() {
		err = &exitError{code: exitBroken}
	}
	return err
}

// followEvery is how often the ledger of a run that plays is looked at for a message.
const followEvery = 300 * time.Millisecond

// trace is what became of one message.
type trace struct {
	fleet  *fleet.Fleet
	stream *fleet.Stream
	book   *ledger.Book
	result *tally.Result // nil while it plays

	playing bool   // the run plays: not all is known yet
	first   uint64 // the first message of it, of a run that plays
}

// step is one proof of the way of a message.
type step struct {
	Name  string `json:"proof"`
	By    string `json:"by,omitempty"`
	Holds bool   `json:"holds"`
	Later bool   `json:"later,omitempty"` // it is not known before the round is over
	After string `json:"after,omitempty"`
	Says  string `json:"says"`
}

func (t *trace) messages() []ledger.Message {
	list := t.book.Messages[t.stream.Index]
	return list[min(len(list), int(max(1, t.first)-1)):]
}

// later tells whether a witness has no say yet: it is asked, or messages without marks are
// compared, when the round is over.
func (t *trace) later(witness int) bool {
	return t.playing && (t.fleet.Crowd.Witnesses[witness].Asks() ||
		t.stream.Device.Cast.Kind.Mark.Place == crowd.MarkNone)
}

// came tells whether all is there of a message in a run that plays, as far as it comes at once.
func (t *trace) came() bool {
	list := t.messages()
	if len(list) == 0 || list[len(list)-1].At.IsZero() {
		return false
	}
	for i, w := range t.fleet.Crowd.Witnesses {
		if w.Sees() && t.fleet.Sees(i, t.stream.Device) && !t.later(i) && t.sighting(i, list[len(list)-1].Seq) == nil {
			return false
		}
	}
	return true
}

// good tells whether all that is known of a message holds.
func (t *trace) good() bool {
	list := t.messages()
	s := &t.book.Streams[t.stream.Index]
	for _, st := range t.steps() {
		if !st.Holds && !st.Later {
			return false
		}
	}
	for i := range list {
		by, found := t.columns(list[i].Seq)
		for k, w := range by {
			for _, x := range verdict.Fields(list[i].Carried, found[k], s, w) {
				if !x.Same {
					return false
				}
			}
		}
	}
	return len(list) > 0
}

// sighting is the first one by a witness of a message.
func (t *trace) sighting(witness int, seq uint64) *ledger.Sighting {
	return t.book.Sighting(witness, t.stream.Index, seq)
}

func roundTime(d time.Duration) string {
	switch {
	case d >= 10*time.Second:
		d = d.Round(100 * time.Millisecond)
	case d >= 10*time.Millisecond:
		d = d.Round(time.Millisecond)
	default:
		d = d.Round(10 * time.Microsecond)
	}
	return d.String()
}

// steps are the proofs of the last message: of a batch, the one that ends it.
func (t *trace) steps() []step {
	list := t.messages()
	if len(list) == 0 {
		return nil
	}
	m := &list[len(list)-1]
	ack := step{Name: "acknowledged", Says: "not asked: QoS 0"}
	switch m.Outcome {
	case outcome.Accepted:
		ack.Holds, ack.After, ack.Says = true, roundTime(m.At.Sub(m.Sent)), "by the platform's own answer"
		if m.Code > 0 && m.Text == "" {
			ack.Says = fmt.Sprintf("with status %d", m.Code)
		}
	case outcome.NotAsked:
		ack.Holds = true
	case outcome.Open:
		if ack.Says = "no answer yet"; m.Sent.IsZero() {
			ack.Says = "not sent yet: the device keeps it"
		}
	default:
		ack.Says = m.Outcome.String()
		if m.Text != "" {
			ack.Says += ": " + m.Text
		}
	}
	steps := []step{ack}
	for i := range t.book.Witnesses {
		w := &t.book.Witnesses[i]
		if !t.fleet.Crowd.Witnesses[i].Sees() || !t.fleet.Sees(i, t.stream.Device) {
			continue
		}
		st := step{Name: w.Proof, By: w.Name, Says: "not found"}
		if t.playing {
			st.Says = "not found yet"
		}
		if x := t.sighting(i, m.Seq); x != nil && x.Unsure {
			st.Says = "something was found that may be this message or another one"
		} else if x != nil {
			st.Holds, st.Says = true, "found"
			at := x.Seen
			if x.Asked && !x.Stored.IsZero() {
				at, st.Says = x.Stored, "found, by the platform's clock"
			} else if x.Asked {
				st.Says = "found when asked"
			}
			st.After = roundTime(max(0, at.Sub(m.Sent)))
			if x.FiledDevice != "" {
				st.Holds, st.Says = false, "found under "+x.FiledDevice
			}
		} else if t.later(i) {
			st.Later, st.Says = true, "it is known when the round is over"
		} else if h := w.Heard[1]; !t.playing && !h.Complete && h.Why != "" {
			st.Says = "could not be heard: " + h.Why
		}
		steps = append(steps, st)
	}
	return steps
}

// columns are the witnesses that found the message, with what they found.
func (t *trace) columns(seq uint64) (by []*ledger.Witness, found [][]byte) {
	for i := range t.book.Witnesses {
		if x := t.sighting(i, seq); x != nil && t.fleet.Sees(i, t.stream.Device) {
			by, found = append(by, &t.book.Witnesses[i]), append(found, x.Values)
		}
	}
	return by, found
}

func (e *env) tellTrace(t *trace) {
	s := t.stream
	list := t.messages()
	l := s.Device.Cast.Link
	where := "to " + l.URL() + ", topic " + s.Target
	if l.Protocol == crowd.HTTP {
		where = "by " + s.Reading.Method + " to " + l.Address + s.Target
	}
	number := ""
	if len(list) > 1 {
		number = fmt.Sprintf(", a batch of %d", len(list))
	}
	fmt.Fprintf(e.stdout, "%s %s%s, %s\n\n", e.paint(text.Bold, s.Device.Name), s.Reading.Name, number,
		t.fleet.Crowd.Redact(where))
	for _, st := range t.steps() {
		sign := e.paint(text.FgGreen, "yes")
		if !st.Holds {
			sign = e.paint(text.FgRed, "NO ")
		}
		if !st.Holds && (st.Later || strings.HasPrefix(st.Says, "could not be heard")) {
			sign = e.paint(text.FgYellow, "?  ")
		}
		after := ""
		if st.After != "" {
			after = "after " + st.After
		}
		name := st.Name
		if st.By != "" {
			name += " (" + st.By + ")"
		}
		fmt.Fprintf(e.stdout, "  %s  %-22s %-16s %s\n", sign, name, after, t.fleet.Crowd.Redact(st.Says))
	}
	for k := range list {
		if k == 3 && len(list) > 4 {
			fmt.Fprintf(e.stdout, "\n… and %d more samples; the run folder has them\n", len(list)-k)
			break
		}
		e.tellFields(t, &list[k], len(list) > 1)
	}
	fmt.Fprintln(e.stdout)
	if t.playing {
		said := e.paint(text.FgGreen, "So far all holds")
		if !t.good() {
			said = e.paint(text.FgRed, "Not all holds so far")
		}
		fmt.Fprintf(e.stdout, "%s. The run plays on; its verdict comes when it is over.\n", said)
		return
	}
	for v := verdict.Verdict(0); v < verdict.Proven; v++ {
		if t.result.Total[v] > 0 {
			fmt.Fprintf(e.stdout, "%s: %s\n", e.paint(text.FgRed, strings.ToUpper(v.String())), v.Meaning())
		}
	}
	if t.result.Total[verdict.Proven] == t.result.Total.Due() {
		fmt.Fprintf(e.stdout, "%s: %s\n", e.paint(text.FgGreen, "PROVEN"), verdict.Proven.Meaning())
	}
}

// tellFields shows each field as it was sent and as each witness found it.
func (e *env) tellFields(tr *trace, m *ledger.Message, batch bool) {
	by, found := tr.columns(m.Seq)
	s := &tr.book.Streams[tr.stream.Index]
	t := grid.New("field", "sent")
	var columns [][]verdict.Field
	for i, w := range by {
		t.Column(w.Name)
		columns = append(columns, verdict.Fields(m.Carried, found[i], s, w))
	}
	rows := verdict.Fields(m.Carried, m.Carried, s, &ledger.Witness{})
	at := func(list []verdict.Field, field string) *verdict.Field {
		for i := range list {
			if list[i].Field == field || strings.HasPrefix(field, list[i].Field+".") {
				return &list[i]
			}
		}
		return nil
	}
	for _, r := range rows {
		row := []any{r.Field, strings.TrimSpace(r.Sent + " " + r.Unit)}
		for _, c := range columns {
			cell := "same"
			if x := at(c, r.Field); x != nil && !x.Same {
				switch {
				case x.Note == "missing":
					cell = "missing"
				case x.Note != "":
					cell = x.Found + ": " + x.Note
				default:
					cell = x.Found
				}
				cell = e.paint(text.FgRed, cell)
			}
			row = append(row, cell)
		}
		t.Row(row...)
	}
	fmt.Fprintln(e.stdout)
	if batch {
		fmt.Fprintf(e.stdout, "  #%d\n", m.Seq)
	}
	fmt.Fprint(e.stdout, t.Plain("  "))
}

func (t *trace) doc(folder string) map[string]any {
	var messages []map[string]any
	s := &t.book.Streams[t.stream.Index]
	for _, m := range t.messages() {
		fields := map[string]any{}
		by, found := t.columns(m.Seq)
		for i, w := range by {
			var differences []verdict.Difference
			for _, x := range verdict.Fields(m.Carried, found[i], s, w) {
				if !x.Same {
					differences = append(differences, x.Difference)
				}
			}
			fields[w.Name] = map[string]any{"same": len(differences) == 0, "differences": differences}
		}
		messages = append(messages, map[string]any{"seq": m.Seq, "carried": json.RawMessage(m.Carried), "witnesses": fields})
	}
	counts := map[string]int{}
	for _, v := range verdict.All() {
		if t.playing {
			break
		}
		if n := t.result.Total[v]; n > 0 {
			counts[v.String()] = n
		}
	}
	return map[string]any{"device": t.stream.Device.Name, "reading": t.stream.Reading.Name, "steps": t.steps(),
		"messages": messages, "verdicts": counts, "playing": t.playing,
		"folder": folder}
}
