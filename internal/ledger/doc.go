// Package ledger keeps the record of every message of a run: when it was due,
// sent and settled, what it carried, and every sighting of it. It knows nothing
// of MQTT or HTTP and nothing of what the evidence means.
//
// # The file
//
// A ledger is a header line, "runcrowd ledger 10 KEY\n", and then blocks. KEY is eight
// random bytes in hexadecimal. A block is these bytes (by which it is found again behind
// damage; nothing that a platform sends can hold them), the length of its body (4, big
// endian), the CRC-32C of its body (4, big endian) and its body: the Unix time in
// nanoseconds at which its last record was added (8, big endian), how often the file was
// opened again before (4), the number of its page from 0 (4), its own number on that page
// from 0 (4), 1 more than the index of the witness whose page it is, or 0 (4), and records.
// By the numbers it is known what a damaged place held, and whether a block stands there
// twice. A record is one byte for its type and its fields:
//
//	uint   unsigned varint, as in encoding/binary
//	int    signed varint
//	time   signed varint: nanoseconds since the start; 0 is no time
//	byte   one byte
//	bool   one byte, 0 or 1
//	text   uint length, and as many bytes of UTF-8
//	bytes  uint length, and as many bytes
//	list   uint length, and as many times the fields in brackets
//
// The records, by type:
//
//	 1  the run: its identity, the crowd, when it began; and which format of ledger this is
//	    run text, crowd text, start int, format uint
//	 2  a reading of a device; index counts from 0; calls has a bit for each alert that its values may call for; elsewhere: another part of the crowd plays it
//	    index uint, device text, kind text, reading text, qos0 bool, may_repeat bool, list bool, tolerances list(field text, tolerance text), units list(field text, unit text), unseen list(witness uint), calls uint, elsewhere bool
//	 3  a round that is to be played, when the plan's clock began, how fast it goes, which round of the plan it is, how far into it it begins (in nanoseconds: the rest of a round in which the run stopped), and how many streams, witnesses and alerts are defined
//	    round uint, begin time, end time, clock time, speed text, plan uint, from int, streams uint, witnesses uint, alerts uint
//	 4  a witness; index counts from 0, within, watch_copies and wait are in nanoseconds; types is 0 where it keeps values with their types, 1 without truth values, 2 as texts alone; time_of is 1 where the time of a row is the platform's, 2 where it is the device's, 0 where that is found out
//	    index uint, name text, proof text, within int, watch_copies int, wait int, listens bool, latest bool, types byte, time_of byte, fields list(name text, ignored bool, as text, tolerance text, factor text, offset text)
//	 5  a message that is due; what the platform has to do: to keep it (0), to refuse it (1), to discard it (2), to keep it once (3); calls has two bits for each alert, the lower one if its values call for it, the higher one if they arm it again; carried is the JSON object of its fields
//	    stream uint, seq uint, round uint, due time, meant byte, calls uint, carried bytes
//	 6  a message was handed to the network; again for each attempt; anew: after an earlier one, and so that it may be stored once more
//	    stream uint, seq uint, at time, anew bool
//	 7  what became of a message
//	    stream uint, seq uint, at time, outcome byte, code uint, text bytes
//	 8  a message that a witness found; stream is 1 more than its index, or 0 where it is none of the run; flags are 1 again, 2 perhaps, 4 asked, 8 unsure; row is a digest of the row's identity, or 0; names are device, reading, filed device, filed reading, without empty ones at the end; values is the JSON that was found
//	    witness uint, stream uint, seq uint, seen time, stored time, flags byte, row uint, names list(name text), values bytes
//	 9  a time in which a witness could not listen, or listened late; without an end, to the end; kept: the broker kept messages for it; lag: it was late; whole: no more waited than brokers keep
//	    witness uint, from time, to time, kept bool, lag bool, whole bool, why text
//	10  whether a witness was heard to the end of a round
//	    witness uint, round uint, complete bool, why text
//	11  a connection came up (1), was renewed (2), was lost (3), may not hear commands (4), or something about it is remarked (5); stream is the first of the device; where times is above 0, the connection was lost so often right after one message; early: the platform had not accepted the connection
//	    stream uint, at time, change byte, place text, why text, beside uint, seq uint, times uint, early bool
//	12  the run is over
//	    at time, interrupted bool
//	13  what the platform asked of a device
//	    number uint, device text, command text, at time, topic text, body bytes, done bool, why text, did list(kind text, name text, value text), asks bool
//	14  how a command is answered: right (0), wrong (1), never (2)
//	    command uint, due time, how byte, body bytes
//	15  what became of an answer
//	    command uint, sent time, at time, outcome byte, code uint, text text
//	16  the file was opened again, to add evidence
//	    at time
//	17  by how much the clock of a witness's platform is ahead of ours, in nanoseconds, as it tells itself
//	    witness uint, least int, most int
//	18  the file was closed: how many blocks each page has, in order; witness is 1 more than its index, or 0; others are its records that are no sightings of messages of the run
//	    pages list(blocks uint, witness uint, others uint)
//	19  the devices had stopped; clock is what the plan's clock showed; open messages were under way when the time of the plan was over
//	    round uint, at time, clock time, open uint
//	20  devices left sessions on the broker of a link, which keeps them so many nanoseconds; 0 is without end
//	    link text, devices uint, kept int
//	21  a message was handed to the network once more, as the plan says
//	    stream uint, seq uint, at time
//	22  an event of the plan did something to a device, or undid it (over); stream is the first of the device; lasts: until it is over, or the round; broke: its connections are broken by it; disturbs: its messages may be late; why: it could not be done
//	    stream uint, event text, round uint, kind text, name text, value text, at time, over bool, lasts bool, broke bool, disturbs bool, why text
//	23  an alert that the platform must give; index counts from 0, within is in nanoseconds, fields are those by whose values it is called for
//	    index uint, name text, witness uint, within int, fields list(name text)
//	24  what the platform said by itself; stream is the first of the device, 1 more than its index, or 0 for a device that is none of the run; row is as in 8; perhaps: it may be another delivery of an earlier one; text is what was heard, clipped
//	    witness uint, alert uint, stream uint, device text, seen time, stored time, row uint, perhaps bool, text text
//	25  how many messages the platform says that it has of a device, by its first stream, 1 more than its index, or in all, 0; before: when the run began; from is the time that it was asked from
//	    witness uint, stream uint, before bool, from time, n int
//	26  a time in which this process stood still: it was stopped, or got no turn
//	    from time, to time
//	27  how often this process looked whether it gets its turn, and how often that came 1, 5, 20 and 100 ms late
//	    looks uint, late_1 uint, late_5 uint, late_20 uint, late_100 uint
//	28  on the broker of a link, devices published retained messages on so many topics
//	    link text, topics uint
//	29  what a page of a witness holds, before the file is closed: of parts of streams, 64 messages each, how many sightings, and the sum of their digests
//	    page uint, parts list(stream uint, part uint, sightings uint, sum uint)
//	30  before the file is closed: once more the records of the run, and of streams, witnesses and alerts
//	    records bytes
//	31  the run goes on with its plan: when it had stopped, and whether its process was killed
//	    at time, stopped time, killed bool
//	32  sequence numbers, from the first to the last, that a killed process may have used: nothing tells of such messages
//	    stream uint, from uint, to uint
//
// Blocks are written at least every FlushEvery. A process that is killed loses
// what was not yet in a block. A block that is torn or damaged is recognised by its
// length or checksum; reading goes on with the next one, and tells the place.
//
// The file only ever grows: nothing in it is cut off or written over. It has one writer
// at a time, which holds a lock on the file LockName beside it that ends with its process.
//
// Records about one message are appended through one Page, and a Page is
// written in order. Between pages there is no order: a sighting may stand
// before the message it belongs to.
package ledger
