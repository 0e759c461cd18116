package ledger

import (
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/outcome"
)

// The types of records. Their numbers stand in ledgers.
const (
	recStart = iota + 1
	recStream
	recRound
	recWitness
	recDue
	recSent
	recSettled
	recSighting
	recGap
	recHeard
	recLink
	recEnd
	recCommand
	recAnswer
	recTold
	recReopened
	recClock
	recClosed
	recOver
	recLeft
	recCopied
	recDone
	recAlert
	recSaid
	recCount
	recStill
	recTurns
	recRetained
	recSeen
	recDefinitions
	recResumed
	recSkipped
)

// entry is any record: each type has some of its parts.
type entry struct {
	Record
	index, witness int // of what is defined, and of whom it tells
	begun          int64
	run, crowd     string
	stream         Stream
	round          Round
	defined        [3]int // streams, witnesses and alerts
	wit            Witness
	alert          Alert
	said           Said
	gap            Gap
	hearing        Hearing
	counted        count
	offset         Offset
	link           LinkEvent
	done           Done
	left           LeftSessions
	pages          []pageBlocks
	told           []Lost
	format         uint64 // of the ledger
	again          Bytes  // definitions
	at             time.Time
	interrupted    bool
	still          Still
	turns          clock.Turns
	retained       Retained
	resumed        Resumed
	skipped        skipped
}

// skipped are sequence numbers of a stream, from the first to the last.
type skipped struct {
	stream   int
	from, to uint64
}

// count is what a platform says it has.
type count struct {
	stream int // the first of a device; -1: of all
	before bool
	from   time.Time
	n      int64
}

// pageBlocks is how many blocks a page has.
type pageBlocks struct {
	blocks  uint64
	witness int    // whose it is; -1: nobody's
	others  uint64 // its records that are no sightings of messages of the run
}

// message are the fields that begin every record about a message.
func (x *entry) message(c *coder) {
	c.whole("stream", &x.Stream)
	c.uint("seq", &x.Seq)
}

func (x *entry) names(c *coder) {
	s := &x.Sighting
	if c.mode == tells {
		c.tell("names", "list(name text)")
		return
	}
	names := [...]*string{&s.Device, &s.Reading, &s.FiledDevice, &s.FiledReading}
	n := len(names)
	for c.mode == writes && n > 0 && *names[n-1] == "" {
		n--
	}
	if c.whole("", &n); n > len(names) {
		c.fail()
		return
	}
	for i, p := range names {
		if i < n {
			c.text("", p)
		} else {
			*p = ""
		}
	}
}

// action are the fields of what was done to a device.
func (x *Action) fields(c *coder) {
	c.text("kind", &x.Kind)
	c.text("name", &x.Name)
	c.text("value", &x.Value)
}

// records says of each type what it is for and what its fields are. A record's fields are
// written, read and documented by one function: the comment of the package is made of this.
var records = [...]struct {
	says   string
	fields func(*coder, *entry)
}{
	recDefinitions: {"before the file is closed: once more the records of the run, and of streams, witnesses and alerts",
		func(c *coder, x *entry) { c.part("records", &x.again) }},
	recStart: {"the run: its identity, the crowd, when it began; and which format of ledger this is", func(c *coder, x *entry) {
		c.text("run", &x.run)
		c.text("crowd", &x.crowd)
		c.int("start", &x.begun)
		c.uint("format", &x.format)
	}},
	recStream: {"a reading of a device; index counts from 0; calls has a bit for each alert that its values may call for; " +
		"elsewhere: another part of the crowd plays it",
		func(c *coder, x *entry) {
			s := &x.stream
			c.whole("index", &x.index)
			c.text("device", &s.Device)
			c.text("kind", &s.Kind)
			c.text("reading", &s.Reading)
			c.bool("qos0", &s.QoS0)
			c.bool("may_repeat", &s.MayRepeat)
			c.bool("list", &s.List)
			mapping(c, "tolerances", "field", &s.Tolerances, func(v *float64) { c.number("tolerance", v) })
			mapping(c, "units", "field", &s.Units, func(v *string) { c.text("unit", v) })
			list(c, "unseen", &s.Unseen, func(w *int) { c.whole("witness", w) })
			c.uint("calls", &s.Calls)
			c.bool("elsewhere", &s.Elsewhere)
		}},
	recRound: {"a round that is to be played, when the plan's clock began, how fast it goes, which round of the plan it is, how far " +
		"into it it begins (in nanoseconds: the rest of a round in which the run stopped), and how many streams, witnesses and alerts are defined", func(c *coder, x *entry) {
		r := &x.round
		c.whole("round", &r.N)
		c.time("begin", &r.Begin)
		c.time("end", &r.End)
		c.time("clock", &r.Clock)
		c.text("speed", &r.Speed)
		c.whole("plan", &r.Plan)
		c.span("from", &r.From)
		c.whole("streams", &x.defined[0])
		c.whole("witnesses", &x.defined[1])
		c.whole("alerts", &x.defined[2])
	}},
	recWitness: {"a witness; index counts from 0, within, watch_copies and wait are in nanoseconds; types is 0 where it " +
		"keeps values with their types, 1 without truth values, 2 as texts alone; time_of is 1 where the time of a " +
		"row is the platform's, 2 where it is the device's, 0 where that is found out", func(c *coder, x *entry) {
		w := &x.wit
		c.whole("index", &x.index)
		c.text("name", &w.Name)
		c.text("proof", &w.Proof)
		c.span("within", &w.Within)
		c.span("watch_copies", &w.WatchCopies)
		c.span("wait", &w.Wait)
		c.bool("listens", &w.Listens)
		c.bool("latest", &w.Latest)
		upTo(c, "types", &w.Types, TextAlone)
		upTo(c, "time_of", &w.TimeOf, TimeOfDevice)
		mapping(c, "fields", "name", &w.Fields, func(f *FieldRule) {
			c.bool("ignored", &f.Ignored)
			c.text("as", &f.As)
			c.number("tolerance", &f.Tolerance)
			c.number("factor", &f.Factor)
			c.number("offset", &f.Offset)
		})
	}},
	recDue: {"a message that is due; what the platform has to do: to keep it (0), to refuse it (1), to discard it (2), " +
		"to keep it once (3); calls has two bits for each alert, the lower one if its values call for it, the higher " +
		"one if they arm it again; carried is the JSON object of its fields", func(c *coder, x *entry) {
		x.message(c)
		c.whole("round", &x.Round)
		c.nano("due", &x.At)
		upTo(c, "meant", &x.Meant, ToKeepOne)
		c.uint("calls", &x.Calls)
		c.part("carried", &x.Carried)
	}},
	recSent: {"a message was handed to the network; again for each attempt; anew: after an earlier one, and so that it " +
		"may be stored once more", func(c *coder, x *entry) {
		x.message(c)
		c.nano("at", &x.At)
		c.bool("anew", &x.Anew)
	}},
	recSettled: {"what became of a message", func(c *coder, x *entry) {
		x.message(c)
		c.nano("at", &x.At)
		upTo(c, "outcome", &x.Outcome, outcome.Dropped)
		c.whole("code", &x.Code)
		c.part("text", &x.Text)
	}},
	recSighting: {"a message that a witness found; stream is 1 more than its index, or 0 where it is none of the run; " +
		"flags are 1 again, 2 perhaps, 4 asked, 8 unsure; row is a digest of the row's identity, or 0; names are " +
		"device, reading, filed device, filed reading, without empty ones at the end; values is the JSON that was " +
		"found", func(c *coder, x *entry) {
		s := &x.Sighting
		c.whole("witness", &s.Witness)
		c.above("stream", &s.Stream, 1)
		c.uint("seq", &s.Seq)
		c.nano("seen", &x.At)
		c.nano("stored", &x.Stored)
		c.flags("flags", &s.Again, &s.Perhaps, &s.Asked, &s.Unsure)
		c.uint("row", &s.Row)
		x.names(c)
		c.part("values", &x.Carried)
	}},
	recGap: {"a time in which a witness could not listen, or listened late; without an end, to the end; kept: the " +
		"broker kept messages for it; lag: it was late; whole: no more waited than brokers keep", func(c *coder, x *entry) {
		c.whole("witness", &x.witness)
		c.time("from", &x.gap.From)
		c.time("to", &x.gap.To)
		c.bool("kept", &x.gap.Kept)
		c.bool("lag", &x.gap.Lag)
		c.bool("whole", &x.gap.Whole)
		c.text("why", &x.gap.Why)
	}},
	recHeard: {"whether a witness was heard to the end of a round", func(c *coder, x *entry) {
		c.whole("witness", &x.witness)
		c.whole("round", &x.Round)
		c.bool("complete", &x.hearing.Complete)
		c.text("why", &x.hearing.Why)
	}},
	recLink: {"a connection came up (1), was renewed (2), was lost (3), may not hear commands (4), or something about " +
		"it is remarked (5); stream is the first of the device; where times is above 0, the connection was lost so " +
		"often right after one message; early: the platform had not accepted the connection", func(c *coder, x *entry) {
		e := &x.link
		c.whole("stream", &e.Stream)
		c.time("at", &e.At)
		upTo(c, "change", &e.What, Remarked)
		c.text("place", &e.Place)
		c.text("why", &e.Why)
		c.whole("beside", &e.After.Stream)
		c.uint("seq", &e.After.Seq)
		c.whole("times", &e.Times)
		c.bool("early", &e.Early)
	}},
	recEnd: {"the run is over", func(c *coder, x *entry) {
		c.time("at", &x.at)
		c.bool("interrupted", &x.interrupted)
	}},
	recCommand: {"what the platform asked of a device", func(c *coder, x *entry) {
		k := x.Command
		c.uint("number", &k.Number)
		c.text("device", &k.Device)
		c.text("command", &k.Name)
		c.time("at", &k.At)
		c.text("topic", &k.Topic)
		c.bytes("body", &k.Body)
		c.bool("done", &k.Done)
		c.text("why", &k.Why)
		list(c, "did", &k.Did, func(a *Action) { a.fields(c) })
		c.bool("asks", &k.Asks)
	}},
	recAnswer: {"how a command is answered: right (0), wrong (1), never (2)", func(c *coder, x *entry) {
		c.uint("command", &x.Seq)
		c.time("due", &x.Answer.Due)
		upTo(c, "how", &x.Answer.How, Never)
		c.bytes("body", &x.Answer.Body)
	}},
	recTold: {"what became of an answer", func(c *coder, x *entry) {
		c.uint("command", &x.Seq)
		c.time("sent", &x.Answer.Sent)
		c.time("at", &x.Answer.At)
		upTo(c, "outcome", &x.Answer.Outcome, outcome.Dropped)
		c.whole("code", &x.Answer.Code)
		c.text("text", &x.Answer.Text)
	}},
	recReopened: {"the file was opened again, to add evidence", func(c *coder, x *entry) { c.time("at", &x.at) }},
	recResumed: {"the run goes on with its plan: when it had stopped, and whether its process was killed", func(c *coder, x *entry) {
		c.time("at", &x.resumed.At)
		c.time("stopped", &x.resumed.Stopped)
		c.bool("killed", &x.resumed.Killed)
	}},
	recSkipped: {"sequence numbers, from the first to the last, that a killed process may have used: nothing tells of such messages",
		func(c *coder, x *entry) {
			c.whole("stream", &x.skipped.stream)
			c.uint("from", &x.skipped.from)
			c.uint("to", &x.skipped.to)
		}},
	recClock: {"by how much the clock of a witness's platform is ahead of ours, in nanoseconds, as it tells itself",
		func(c *coder, x *entry) {
			c.whole("witness", &x.witness)
			c.span("least", &x.offset.Least)
			c.span("most", &x.offset.Most)
		}},
	recClosed: {"the file was closed: how many blocks each page has, in order; witness is 1 more than its index, or 0; " +
		"others are its records that are no sightings of messages of the run",
		func(c *coder, x *entry) {
			list(c, "pages", &x.pages, func(p *pageBlocks) {
				c.uint("blocks", &p.blocks)
				c.above("witness", &p.witness, 1)
				c.uint("others", &p.others)
			})
		}},
	recSeen: {"what a page of a witness holds, before the file is closed: of parts of streams, 64 messages each, how many " +
		"sightings, and the sum of their digests", func(c *coder, x *entry) {
		c.whole("page", &x.index)
		list(c, "parts", &x.told, func(p *Lost) {
			c.whole("stream", &p.Stream)
			c.uint("part", &p.Part)
			c.uint("sightings", &p.N)
			c.uint("sum", &p.Sum)
		})
	}},
	recOver: {"the devices had stopped; clock is what the plan's clock showed; open messages were under way when the " +
		"time of the plan was over", func(c *coder, x *entry) {
		c.whole("round", &x.round.N)
		c.time("at", &x.round.Over)
		c.time("clock", &x.round.Stopped)
		c.whole("open", &x.round.Open)
	}},
	recLeft: {"devices left sessions on the broker of a link, which keeps them so many nanoseconds; 0 is without end",
		func(c *coder, x *entry) {
			c.text("link", &x.left.Link)
			c.whole("devices", &x.left.Devices)
			c.span("kept", &x.left.Kept)
		}},
	recCopied: {"a message was handed to the network once more, as the plan says", func(c *coder, x *entry) {
		x.message(c)
		c.nano("at", &x.At)
	}},
	recDone: {"an event of the plan did something to a device, or undid it (over); stream is the first of the device; " +
		"lasts: until it is over, or the round; broke: its connections are broken by it; disturbs: its messages may be late; " +
		"why: it could not be done",
		func(c *coder, x *entry) {
			d := &x.done
			c.whole("stream", &d.Stream)
			c.text("event", &d.Event)
			c.whole("round", &d.Round)
			d.Action.fields(c)
			c.time("at", &d.At)
			c.bool("over", &d.Over)
			c.bool("lasts", &d.Lasts)
			c.bool("broke", &d.Broke)
			c.bool("disturbs", &d.Disturbs)
			c.text("why", &d.Why)
		}},
	recAlert: {"an alert that the platform must give; index counts from 0, within is in nanoseconds, fields are those " +
		"by whose values it is called for", func(c *coder, x *entry) {
		c.whole("index", &x.index)
		c.text("name", &x.alert.Name)
		c.whole("witness", &x.alert.Witness)
		c.span("within", &x.alert.Within)
		list(c, "fields", &x.alert.Fields, func(f *string) { c.text("name", f) })
	}},
	recSaid: {"what the platform said by itself; stream is the first of the device, 1 more than its index, or 0 for a " +
		"device that is none of the run; row is as in 8; perhaps: it may be another delivery of an earlier one; text " +
		"is what was heard, clipped", func(c *coder, x *entry) {
		s := &x.said
		c.whole("witness", &x.witness)
		c.whole("alert", &s.Alert)
		c.above("stream", &s.Stream, 1)
		c.text("device", &s.Device)
		c.time("seen", &s.Seen)
		c.time("stored", &s.Stored)
		c.uint("row", &s.Row)
		c.bool("perhaps", &s.Perhaps)
		c.text("text", &s.Text)
	}},
	recCount: {"how many messages the platform says that it has of a device, by its first stream, 1 more than its " +
		"index, or in all, 0; before: when the run began; from is the time that it was asked from", func(c *coder, x *entry) {
		k := &x.counted
		c.whole("witness", &x.witness)
		c.above("stream", &k.stream, 1)
		c.bool("before", &k.before)
		c.time("from", &k.from)
		c.int("n", &k.n)
	}},
	recStill: {"a time in which this process stood still: it was stopped, or got no turn", func(c *coder, x *entry) {
		c.time("from", &x.still.From)
		c.time("to", &x.still.To)
	}},
	recRetained: {"on the broker of a link, devices published retained messages on so many topics", func(c *coder, x *entry) {
		c.text("link", &x.retained.Link)
		c.whole("topics", &x.retained.Topics)
	}},
	recTurns: {"how often this process looked whether it gets its turn, and how often that came 1, 5, 20 and 100 ms late",
		func(c *coder, x *entry) {
			c.whole("looks", &x.turns.Looks)
			for i, name := range [...]string{"late_1", "late_5", "late_20", "late_100"} {
				c.whole(name, &x.turns.Late[i])
			}
		}},
}
