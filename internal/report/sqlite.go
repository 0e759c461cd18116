package report

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	_ "modernc.org/sqlite" // the driver

	"runcrowd/internal/verdict"
)

// tables are those of the database, with views that a person would ask for.
const tables = `
create table run (run text, crowd text, folder text, started text, played_to_the_end integer, requirements_met integer, due integer, proven integer);
create table requirement (key text, want text, got text, state text);
create table message (id integer primary key, device text, kind text, reading text, seq integer, round integer, verdict text, due text, sent text, answered text, attempts integer, outcome text, code integer, said text, carried text, due_ns integer, sent_ns integer, answered_ns integer);
create table testimony (message integer references message, witness text, state text, seen text, stored text, times integer, says text, found text, seen_ns integer, stored_ns integer);
create table device (device text, kind text, reading text, due integer, proven integer, last_seq_sent integer, last_seq_found integer, last_sent text, last_found text, gaps integer, connections_lost integer);
create table field (device text, reading text, field text, unit text, sent_lowest real, sent_highest real, sent_mean real, sent_last text, found_lowest real, found_highest real, found_mean real, found_last text);
create view verdicts as select verdict, count(*) as messages from message group by verdict order by messages desc;
create view not_proven as select * from message where verdict not in ('proven', 'dropped');
create view by_device as select device, count(*) as due, sum(verdict = 'proven') as proven, sum(verdict not in ('proven', 'dropped')) as not_proven from message group by device order by not_proven desc, device;
create view by_minute as select substr(due, 1, 16) as minute, count(*) as due, sum(verdict = 'proven') as proven from message group by minute order by minute;
create view delays as select device, reading, seq, (answered_ns - sent_ns) / 1e6 as answered_after_ms, answered_ns - sent_ns as answered_after_ns from message where answered is not null and sent is not null;
`

// indexes are made at the end: that is faster.
const indexes = `
create index message_by_device on message (device, reading, seq);
create index message_by_verdict on message (verdict);
create index testimony_by_message on testimony (message);
`

// sqliteFile writes a database. Rows go in many at a time.
type sqliteFile struct {
	db   *sql.DB
	tx   *sql.Tx
	rows [2]*batch
	n    int64
}

// batch is rows of one table that go in together.
type batch struct {
	table   string
	columns int
	args    []any
}

// batchRows is how many rows go in with one statement.
const batchRows = 50

func newSQLite(path string) (Sink, error) {
	db, err := sql.Open("sqlite", path+
		"?_pragma=journal_mode(off)&_pragma=synchronous(off)&_pragma=locking_mode(exclusive)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	x := &sqliteFile{db: db, rows: [2]*batch{{table: "message", columns: 18}, {table: "testimony", columns: 10}}}
	if _, err = db.Exec(tables); err == nil {
		x.tx, err = db.Begin()
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return x, nil
}

func (x *sqliteFile) put(b *batch, values ...any) error {
	if b.args = append(b.args, values...); len(b.args) < batchRows*b.columns {
		return nil
	}
	return x.flush(b)
}

func (x *sqliteFile) flush(b *batch) error {
	n := len(b.args) / b.columns
	if n == 0 {
		return nil
	}
	one := "(?"
	for range b.columns - 1 {
		one += ",?"
	}
	text := "insert into " + b.table + " values "
	for i := range n {
		if i > 0 {
			text += ","
		}
		text += one + ")"
	}
	_, err := x.tx.Exec(text, b.args...)
	b.args = b.args[:0]
	return err
}

func orNull(t *time.Time) any {
	if t == nil {
		return nil
	}
	return t.Format("2006-01-02T15:04:05.000000Z")
}

// nanoOrNull is a time in Unix nanoseconds.
func nanoOrNull(t *time.Time) any {
	if t == nil {
		return nil
	}
	return t.UnixNano()
}

func textOrNull(b json.RawMessage) any {
	if len(b) == 0 {
		return nil
	}
	return string(b)
}

// Message implements Sink.
func (x *sqliteFile) Message(m *Message) error {
	x.n++
	err := x.put(x.rows[0], x.n, m.Device, m.Kind, m.Reading, int64(m.Seq), m.Round, m.Verdict, orNull(m.Due),
		orNull(m.Sent), orNull(m.Answered), m.Attempts, m.Outcome, m.Code, m.Said, textOrNull(m.Carried),
		nanoOrNull(m.Due), nanoOrNull(m.Sent), nanoOrNull(m.Answered))
	for i := range m.Witnesses {
		if t := &m.Witnesses[i]; err == nil && t.State != verdict.Unasked.String() {
			err = x.put(x.rows[1], x.n, t.Witness, t.State, orNull(t.Seen), orNull(t.Stored), t.Times, t.Says,
				textOrNull(t.Found), nanoOrNull(t.Seen), nanoOrNull(t.Stored))
		}
	}
	return err
}

// End implements Sink.
func (x *sqliteFile) End(in *Input) error {
	defer x.db.Close()
	r := in.Result
	err := errors.Join(x.flush(x.rows[0]), x.flush(x.rows[1]))
	exec := func(text string, args ...any) {
		if err == nil {
			_, err = x.tx.Exec(text, args...)
		}
	}
	exec("insert into run values (?,?,?,?,?,?,?,?)", r.Run, r.Crowd, in.Folder, orNull(instant(r.Start)), r.Whole(),
		in.Met(), r.Total.Due(), r.Total[verdict.Proven])
	for _, c := range in.Checks {
		exec("insert into requirement values (?,?,?,?)", c.Key, c.Want, c.Got, string(c.State))
	}
	for i := range r.Rows {
		d := deviceRowOf(&r.Rows[i])
		exec("insert into device values (?,?,?,?,?,?,?,?,?,?,?)", d.Device, d.Kind, d.Reading, d.Due, d.Proven,
			int64(d.SeqHere), int64(d.SeqThere), orNull(d.LastHere), orNull(d.LastThere), d.Gaps, d.Disconnects)
		for k := range r.Rows[i].Fields {
			f := &r.Rows[i].Fields[k]
			a, b := spansOf(&f.Here), spansOf(&f.There)
			exec("insert into field values (?,?,?,?,?,?,?,?,?,?,?,?)", d.Device, d.Reading, f.Name, f.Unit, a.Lowest, a.Highest,
				a.Mean, textOrNull(a.Last), b.Lowest, b.Highest, b.Mean, textOrNull(b.Last))
		}
	}
	exec(indexes)
	if err == nil {
		err = x.tx.Commit()
	}
	if closed := x.db.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("SQLite says: %w", err)
	}
	return nil
}

// Close leaves the database as it is.
func (x *sqliteFile) Close() error { return x.db.Close() }
