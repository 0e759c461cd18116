package ledger

import (
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/outcome"
)

// What can be noted. Each method fills the entry of its page and writes it.

// Stream defines a stream; its index is its place in the order of definition. In a file that was opened again it is
// defined already.
func (w *Writer) Stream(index int, s Stream) {
	if w.session > 0 {
		return
	}
	w.own.mu.Lock()
	w.defined[0]++
	w.own.x.index, w.own.x.stream = index, s
	w.own.write(recStream)
}

// Witness defines a witness by its place in the file, as Stream does a stream.
func (w *Writer) Witness(index int, x *Witness) {
	if w.session > 0 {
		return
	}
	w.own.mu.Lock()
	w.defined[1]++
	w.own.x.index, w.own.x.wit = index, *x
	w.own.write(recWitness)
}

// Alert defines an alert by its place in the file, as Stream does a stream.
func (w *Writer) Alert(index int, x *Alert) {
	if w.session > 0 {
		return
	}
	w.own.mu.Lock()
	w.defined[2]++
	w.own.x.index, w.own.x.alert = index, *x
	w.own.write(recAlert)
}

// Round notes when a round sent. All streams, witnesses and alerts are defined before the first.
func (w *Writer) Round(r Round) {
	w.own.mu.Lock()
	w.own.x.round, w.own.x.defined = r, w.defined
	w.own.write(recRound)
}

// Over notes that the devices had stopped, what the plan's clock showed then, and how many
// messages were still under way when the time of the plan was over.
func (w *Writer) Over(round int, at, clock time.Time, open int) {
	w.own.mu.Lock()
	w.own.x.round = Round{N: round, Over: at, Stopped: clock, Open: open}
	w.own.write(recOver)
}

// Left notes that devices left sessions on the broker of a link, and how long it keeps
// them; 0 is without end.
func (w *Writer) Left(link string, devices int, kept time.Duration) {
	w.own.mu.Lock()
	w.own.x.left = LeftSessions{link, devices, kept}
	w.own.write(recLeft)
}

// Retained notes on how many topics retained messages were published at the broker of a link.
func (w *Writer) Retained(link string, topics int) {
	w.own.mu.Lock()
	w.own.x.retained = Retained{link, topics}
	w.own.write(recRetained)
}

// Resumed notes that the run goes on with its plan.
func (w *Writer) Resumed(x Resumed) {
	w.own.mu.Lock()
	w.own.x.resumed = x
	w.own.write(recResumed)
}

// Skipped notes that sequence numbers of a stream are left out, from the first to the last: a process that was
// killed may have used them for messages of which nothing was written.
func (w *Writer) Skipped(stream int, from, to uint64) {
	w.own.mu.Lock()
	w.own.x.skipped = skipped{stream, from, to}
	w.own.write(recSkipped)
}

// Still notes that this process stood still for a time.
func (w *Writer) Still(from, to time.Time) {
	w.own.mu.Lock()
	w.own.x.still = Still{from, to}
	w.own.write(recStill)
}

// Turns notes how this process got its turns.
func (w *Writer) Turns(t clock.Turns) {
	w.own.mu.Lock()
	w.own.x.turns = t
	w.own.write(recTurns)
}

// Due notes a message, what the platform has to do with it, and which alerts its values call
// for: two bits for each, the lower one if they call for it, the higher one if they arm it
// again. Carried is the JSON object of its fields; it is copied.
func (p *Page) Due(stream int, seq uint64, round int, due int64, meant Meant, calls uint64, carried []byte) {
	p.mu.Lock()
	x := &p.x.Record
	x.Stream, x.Seq, x.Round, x.At, x.Meant, x.Calls, x.Carried.B = stream, seq, round, due, meant, calls, carried
	p.write(recDue)
}

// Sent notes that a message was handed to the network, in Unix nanoseconds. Anew: after
// an earlier time, and so that the platform may store it once more.
func (p *Page) Sent(stream int, seq uint64, at int64, anew bool) {
	p.mu.Lock()
	x := &p.x.Record
	x.Stream, x.Seq, x.At, x.Anew = stream, seq, at, anew
	p.write(recSent)
}

// Copied notes that a message was handed to the network once more, as the plan says.
func (p *Page) Copied(stream int, seq uint64, at int64) {
	p.mu.Lock()
	x := &p.x.Record
	x.Stream, x.Seq, x.At = stream, seq, at
	p.write(recCopied)
}

// Settled notes the outcome of a message, with the protocol's code and text.
func (p *Page) Settled(stream int, seq uint64, at int64, o outcome.Outcome, code int, text string) {
	p.mu.Lock()
	x := &p.x.Record
	x.Stream, x.Seq, x.At, x.Outcome, x.Code = stream, seq, at, o, code
	x.Text.B = append(x.Text.B[:0], text...)
	p.write(recSettled)
}

// Sighting notes what a witness found.
func (p *Page) Sighting(s *Sighting) {
	p.mu.Lock()
	x := &p.x.Record
	x.Sighting, x.At, x.Stored, x.Carried.B = *s, nanoOf(s.Seen), nanoOf(s.Stored), s.Values
	if s.Stream >= 0 {
		x.Sighting.Device, x.Sighting.Reading = "", ""
	}
	p.write(recSighting)
}

// Said notes what the platform said by itself.
func (p *Page) Said(witness int, x *Said) {
	p.mu.Lock()
	p.x.witness, p.x.said = witness, *x
	p.write(recSaid)
}

// Count notes how many messages the platform says that it has of a stream's device, or in all
// where stream is -1: before the run, or now. From is the time that it was asked from.
func (p *Page) Count(witness, stream int, before bool, from time.Time, n int64) {
	p.mu.Lock()
	p.x.witness, p.x.counted = witness, count{stream, before, from, n}
	p.write(recCount)
}

// Clock notes by how much the clock of a witness's platform is ahead of ours: at least
// and at most, as it tells itself.
func (p *Page) Clock(witness int, least, most time.Duration) {
	p.mu.Lock()
	p.x.witness, p.x.offset = witness, Offset{least, most}
	p.write(recClock)
}

// Gap notes a time in which a witness could not hear.
func (p *Page) Gap(witness int, g *Gap) {
	p.mu.Lock()
	p.x.witness, p.x.gap = witness, *g
	p.write(recGap)
}

// Heard notes that a witness was heard to the end for a round, or why not.
func (p *Page) Heard(witness, round int, complete bool, why string) {
	p.mu.Lock()
	p.x.witness, p.x.Round, p.x.hearing = witness, round, Hearing{Complete: complete, Why: why}
	p.write(recHeard)
}

// Link notes a change of a connection.
func (p *Page) Link(e *LinkEvent) {
	p.mu.Lock()
	p.x.link = *e
	p.write(recLink)
}

// Done notes that something was done to a device, or undone.
func (p *Page) Done(x *Done) {
	p.mu.Lock()
	p.x.done = *x
	p.write(recDone)
}

// Command notes a command, without its answer.
func (p *Page) Command(c *Command) {
	p.mu.Lock()
	p.x.Command = c
	p.write(recCommand)
}

// Answer notes that a command will be answered, or on purpose not.
func (p *Page) Answer(command uint64, a *Answer) {
	p.mu.Lock()
	p.x.Seq, p.x.Answer = command, a
	p.write(recAnswer)
}

// Told notes what became of an answer, in Unix nanoseconds; sent may be 0.
func (p *Page) Told(command uint64, sent, at int64, o outcome.Outcome, code int, text string) {
	p.mu.Lock()
	p.x.Seq = command
	p.x.Answer = &Answer{Sent: timeOf(sent), At: timeOf(at), Outcome: o, Code: code, Text: text}
	p.write(recTold)
}
