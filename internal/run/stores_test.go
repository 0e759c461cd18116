//go:build unix

package run_test

import (
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// report is what a bridge keeps of a message.
type filed struct {
	device, body string
	mark         string
	level        float64
	ok           bool
	note         string
	at           time.Time
}

// keeper is a place where a bridge keeps messages, and a witness that looks there.
type keeper struct {
	name string
	// open makes the place. It gives how the bridge keeps a message there, and the keys of the
	// witness and of one that counts.
	open func(t *testing.T, dir string) (keep func(r *filed), looks, counts string)
}

// asUser runs a program as the user of a server's package, where the tests are root's: such
// servers refuse to run as root.
func asUser(t *testing.T, cmd *exec.Cmd, name string, dir string) {
	if os.Getuid() != 0 {
		return
	}
	u, err := user.Lookup(name)
	require.NoError(t, err)
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	require.NoError(t, os.Chown(dir, uid, gid))
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}

var (
	postgresOnce, mariaOnce sync.Once
	postgresAt, mariaAt     string
	serversMu               sync.Mutex
	servers                 []func() // that stop them
)

// startPostgres starts one server for all tests, and gives its address.
func startPostgres(t *testing.T) string {
	postgresOnce.Do(func() {
		list, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
		if len(list) == 0 {
			missing(t, "postgresql")
		}
		dir, port := sharedDir(t), freePort(t)
		make := exec.Command(filepath.Join(list[0], "initdb"), "-D", filepath.Join(dir, "data"), "-U", "harbour", "-A",
			"trust", "-E", "UTF8", "--no-sync")
		make.Dir = dir
		asUser(t, make, "postgres", dir)
		out, err := make.CombinedOutput()
		require.NoError(t, err, string(out))
		cmd := exec.Command(filepath.Join(list[0], "postgres"), "-D", filepath.Join(dir, "data"), "-p", port, "-c",
			"listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+dir, "-c", "fsync=off", "-c",
			"timezone=Asia/Kolkata", "-c", "datestyle=German")
		cmd.Dir = dir
		asUser(t, cmd, "postgres", dir)
		shared(t, cmd, port)
		postgresAt = "postgres://harbour@127.0.0.1:" + port + "/postgres"
		require.Eventually(t, func() bool {
			c, err := pgconn.Connect(context.Background(), postgresAt)
			if err == nil {
				c.Close(context.Background())
			}
			return err == nil
		}, time.Minute, 50*time.Millisecond)
	})
	if postgresAt == "" {
		t.Skip("PostgreSQL did not start")
	}
	return postgresAt
}

// atTheEnd does something when all tests are over.
func atTheEnd(do func()) {
	serversMu.Lock()
	defer serversMu.Unlock()
	servers = append(servers, do)
}

// sharedDir is a folder that lasts as long as all tests.
func sharedDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "runcrowd-test-")
	require.NoError(t, err)
	atTheEnd(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// shared starts a server that lasts as long as all tests.
func shared(t *testing.T, cmd *exec.Cmd, port string) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	require.NoError(t, cmd.Start())
	atTheEnd(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	awaitPort(t, port)
}

func startMariaDB(t *testing.T) string {
	mariaOnce.Do(func() {
		server := "/usr/sbin/mariadbd"
		if _, err := os.Stat(server); err != nil {
			missing(t, "mariadb-server")
		}
		dir, port := sharedDir(t), freePort(t)
		name := "mysql"
		make := exec.Command("mariadb-install-db", "--no-defaults", "--datadir="+filepath.Join(dir, "data"),
			"--auth-root-authentication-method=normal", "--skip-test-db")
		asUser(t, make, name, dir)
		out, err := make.CombinedOutput()
		require.NoError(t, err, string(out))
		cmd := exec.Command(server, "--no-defaults", "--datadir="+filepath.Join(dir, "data"), "--port="+port,
			"--bind-address=127.0.0.1", "--socket="+filepath.Join(dir, "s"), "--pid-file="+filepath.Join(dir, "pid"),
			"--default-time-zone=+05:30")
		asUser(t, cmd, name, dir)
		shared(t, cmd, port)
		mariaAt = "127.0.0.1:" + port
	})
	if mariaAt == "" {
		t.Skip("MariaDB did not start")
	}
	return mariaAt
}

// awaitPort waits until somebody listens.
func awaitPort(t *testing.T, port string) {
	require.Eventually(t, func() bool {
		nc, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			nc.Close()
		}
		return err == nil
	}, 2*time.Minute, 50*time.Millisecond)
}

func execPG(t *testing.T, c *pgconn.PgConn, text string, args ...string) {
	var values [][]byte
	for _, a := range args {
		values = append(values, []byte(a))
	}
	_, err := c.ExecParams(context.Background(), text, values, nil, nil, nil).Close()
	require.NoError(t, err)
}

// quoted is a cell of CSV (RFC 4180).
func quoted(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

var keepers = []keeper{
	{"PostgreSQL, a document", func(t *testing.T, _ string) (func(r *filed), string, string) {
		at, table := startPostgres(t), "r"+strconv.FormatInt(time.Now().UnixNano(), 36)
		c, err := pgconn.Connect(t.Context(), at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close(context.Background()) })
		execPG(t, c, "create table "+table+" (id serial, device text, body jsonb, at timestamp)")
		return func(r *filed) {
				execPG(t, c, "insert into "+table+" (device, body, at) values ($1, $2, $3::timestamptz at time zone "+
					"'Asia/Kolkata')", r.device, r.body, r.at.UTC().Format(time.RFC3339Nano))
			}, `sql: "` + at + `", query: "select id, device, body, at from ` + table +
				` where at >= @from and at < @to", mark: .body.mark, values: body, time: at, device: device, row: id, zone: Asia/Kolkata`,
			`sql: "` + at + `", query: "select device, count(*) as n from ` + table +
				` group by device", count: n, device: device`
	}},
	{"PostgreSQL, columns", func(t *testing.T, _ string) (func(r *filed), string, string) {
		at, table := startPostgres(t), "c"+strconv.FormatInt(time.Now().UnixNano(), 36)
		c, err := pgconn.Connect(t.Context(), at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close(context.Background()) })
		execPG(t, c, "create table "+table+" (device text, mark text, level_m numeric, ok boolean, note text, sent_at "+
			"timestamptz)")
		return func(r *filed) {
				execPG(t, c, "insert into "+table+" values ($1, $2, $3, $4, $5, $6)", r.device, r.mark, fmt.Sprint(r.level),
					fmt.Sprint(r.ok), r.note, r.at.UTC().Format(time.RFC3339Nano))
			}, `sql: "` + at + `", query: "select * from ` + table + ` where device = @device", time: sent_at`,
			`sql: "` + at + `", query: "select count(*) as n from ` + table + ` where device in (@devices)", count: n`
	}},
	{"PostgreSQL, ten minutes behind", func(t *testing.T, _ string) (func(r *filed), string, string) {
		at, name := startPostgres(t), "l"+strconv.FormatInt(time.Now().UnixNano(), 36)
		c, err := pgconn.Connect(t.Context(), at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close(context.Background()) })
		// For this role, the database has another clock.
		for _, text := range []string{"create role NAME superuser login", "create schema NAME", "alter role NAME set " +
			"search_path = NAME, pg_catalog", "create table NAME.reports (device text, body text, at timestamptz)",
			"create function NAME.clock_timestamp() returns timestamptz language sql as $$ select " +
				"pg_catalog.clock_timestamp() - interval '10 minutes' $$"} {
			execPG(t, c, strings.ReplaceAll(text, "NAME", name))
		}
		of := strings.Replace(at, "harbour@", name+"@", 1)
		return func(r *filed) {
				execPG(t, c, "insert into "+name+".reports values ($1, $2, $3)", r.device, r.body,
					r.at.Add(-10*time.Minute).UTC().Format(time.RFC3339Nano))
			}, `sql: "` + of + `", query: "select * from reports where at >= @from and at < @to", body: body, device: device, time: at`,
			`sql: "` + of + `", query: "select device, count(*) as n from reports where at >= @from and at < @to group by device", count: n, device: device`
	}},
	{"MariaDB", func(t *testing.T, _ string) (func(r *filed), string, string) {
		at, name := startMariaDB(t), "d"+strconv.FormatInt(time.Now().UnixNano(), 36)
		cfg := mysql.NewConfig()
		cfg.User, cfg.Net, cfg.Addr = "root", "tcp", at
		connector, err := mysql.NewConnector(cfg)
		require.NoError(t, err)
		db := sql.OpenDB(connector)
		t.Cleanup(func() { db.Close() })
		_, err = db.Exec("create database " + name)
		require.NoError(t, err)
		_, err = db.Exec("create table " + name + ".reports (id int auto_increment primary key, device varchar(40), mark " +
			"varchar(60), level_m double, ok boolean, note text, at datetime(3))")
		require.NoError(t, err)
		of := "mariadb://root@" + at + "/" + name
		return func(r *filed) {
				_, err := db.Exec("insert into "+name+".reports (device, mark, level_m, ok, note, at) values (?, ?, ?, ?, ?, ?)",
					r.device, r.mark, r.level, r.ok, r.note, r.at.UTC().Format("2006-01-02 15:04:05.000"))
				assert.NoError(t, err)
			}, `sql: "` + of + `", query: "select id, device, mark, level_m, ok, note, at from reports where device in (@devices) and at >= @from", mark: mark, time: at, device: device, row: id`,
			`sql: "` + of + `", query: "select device, count(*) as n from reports group by device", count: n, device: device`
	}},
	{"SQLite", func(t *testing.T, dir string) (func(r *filed), string, string) {
		db, err := sql.Open("sqlite", filepath.Join(dir, "store.db")+"?_pragma=journal_mode(wal)&_pragma=busy_timeout(5000)")
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		_, err = db.Exec("create table reports (device text, mark text, level_m real, ok integer, note text, at integer)")
		require.NoError(t, err)
		return func(r *filed) {
				_, err := db.Exec("insert into reports values (?, ?, ?, ?, ?, ?)", r.device, r.mark, r.level, r.ok, r.note,
					r.at.UnixMilli())
				assert.NoError(t, err)
			}, `sql: "sqlite:store.db", query: "select * from reports where at >= @from_ms and at < @to_ms", mark: mark, time: at, device: device`,
			`sql: "sqlite:store.db", query: "select device, count(*) as n from reports group by 1", count: n, device: device`
	}},
	{"CSV", func(t *testing.T, dir string) (func(r *filed), string, string) {
		require.NoError(t, os.Mkdir(filepath.Join(dir, "export"), 0o755))
		return func(r *filed) { // another file, with its columns in another order, every three messages of a device
				seq, err := strconv.Atoi(r.mark[strings.LastIndexByte(r.mark, '/')+1:])
				require.NoError(t, err)
				n := seq / 3
				f, err := os.OpenFile(filepath.Join(dir, "export", fmt.Sprintf("day-%d.csv", n)),
					os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
				require.NoError(t, err)
				defer f.Close()
				if info, err := f.Stat(); err == nil && info.Size() == 0 {
					fmt.Fprintf(f, "%s\n", []string{"device;mark;level_m;ok;note;at", "at;device;mark;level_m;ok;note"}[n%2])
				}
				at := r.at.UTC().Format(time.RFC3339Nano)
				if n%2 == 0 {
					fmt.Fprintf(f, "%s;%s;%v;%v;%s;%s\n", r.device, r.mark, r.level, r.ok, quoted(r.note), at)
				} else {
					fmt.Fprintf(f, "%s;%s;%s;%v;%v;%s\n", at, r.device, r.mark, r.level, r.ok, quoted(r.note))
				}
			}, `file: "export/*.csv", mark: mark, time: at, device: device`,
			`file: export, form: csv, device: device`
	}},
	{"JSON Lines, rotated and packed", func(t *testing.T, dir string) (func(r *filed), string, string) {
		n := 0
		path := filepath.Join(dir, "out.jsonl")
		return func(r *filed) {
				if n++; n%7 == 0 {
					b, err := os.ReadFile(path)
					require.NoError(t, err)
					old := filepath.Join(dir, fmt.Sprintf("out-%d.jsonl", n))
					require.NoError(t, os.Rename(path, old))
					f, err := os.Create(old + ".gz")
					require.NoError(t, err)
					z := gzip.NewWriter(f)
					z.Write(b)
					z.Close()
					f.Close()
					os.Remove(old)
				}
				f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
				require.NoError(t, err)
				defer f.Close()
				line := fmt.Sprintf(`{"of": %q, "was": %s, "at": %d, "n": %d}`+"\n", r.device, r.body, r.at.UnixMilli(), n)
				f.WriteString(line[:len(line)/2]) // somebody may read it half-written
				f.WriteString(line[len(line)/2:])
			}, `file: "out*.jsonl*", mark: .was.mark, values: was, time: at, device: of, row: n`,
			`file: "out*.jsonl*", device: of`
	}},
	{"a program", func(t *testing.T, dir string) (func(r *filed), string, string) {
		path := filepath.Join(dir, "kept")
		require.NoError(t, os.WriteFile(path, nil, 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "read-back.sh"), []byte("#!/bin/sh\necho reading >&2\ngrep "+
			"\"\\\"$1\\\"\" kept || true\n"), 0o755))
		return func(r *filed) {
				f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0o644)
				require.NoError(t, err)
				defer f.Close()
				fmt.Fprintf(f, `{"of": %q, "was": %s, "at": %d}`+"\n", r.device, r.body, r.at.UnixMilli())
			}, `program: [./read-back.sh, "${device}", "${from}"], mark: .was.mark, values: .was, time: at`,
			`program: [./read-back.sh, "${device}"]`
	}},
}

const keptCrowd = `
crowd: harbour
links: {sea: {mqtt: "mqtt://MQTT"}}
kinds:
  buoy:
    readings:
      state:
        every: 100ms
        topic: harbour/${device}
        qos: 1
        fields: {level_m: {signal: tide, round: 3}, ok: {formula: "level_m > 0"}, note: {formula: "'mark, \"quote\" of ' + device"}}
devices: [{kind: buoy, count: 4, name: "buoy-${n}"}]
plan: {for: 1s, settle: 60s}
witnesses:
  base: {proves: stored, LOOKS, wait: WAIT, watch_copies: 300ms}
  many: {proves: counts, COUNTS, wait: WAIT, watch_copies: 300ms}
require: {proven: 100%, stored: 100% within 30s}
`

// A bridge behind Mosquitto loses one message, keeps one twice, rounds one and files one
// under another device. In every store just these are found, and a bridge without flaws is
// proven.
func TestStores(t *testing.T) {
	t.Parallel()
	for _, k := range keepers {
		for _, flawed := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, flawed %v", k.name, flawed), func(t *testing.T) {
				fewer(t)
				t.Parallel()
				dir := t.TempDir()
				keep, looks, counts := k.open(t, dir)
				m := startMosquitto(t, "allow_anonymous true")
				hear, hangUp := bridge(t, m.addr)
				done := make(chan bool)
				go func() {
					defer close(done)
					for p := range hear {
						r := &filed{body: string(p.Publish.Payload), at: time.Now()}
						var body struct {
							Mark string
							L    float64 `json:"level_m"`
							OK   bool
							Note string
						}
						if !assert.NoError(t, json.Unmarshal(p.Publish.Payload, &body)) {
							continue
						}
						r.device, r.mark, r.level, r.ok, r.note = strings.Split(p.Publish.Topic,
							"/")[1], body.Mark, body.L, body.OK, body.Note
						switch seq := body.Mark[strings.LastIndexByte(body.Mark, '/')+1:]; {
						case !flawed:
						case r.device == "buoy-1" && seq == "3":
							continue
						case r.device == "buoy-2" && seq == "4":
							keep(r)
						case r.device == "buoy-3" && seq == "5":
							r.body = strings.Replace(r.body, fmt.Sprintf(`"level_m":%v`, r.level),
								fmt.Sprintf(`"level_m":%v`, math.Round(r.level*10)/10+1), 1)
							r.level = math.Round(r.level*10)/10 + 1
						case r.device == "buoy-3" && seq == "6":
							r.device = "buoy-4"
						}
						keep(r)
					}
				}()
				text := strings.NewReplacer("MQTT", m.addr, "LOOKS", looks, "COUNTS", counts, "WAIT",
					map[bool]string{false: "60s", true: "10s"}[flawed]).Replace(keptCrowd)
				p := playFile(t, dir, text)
				hangUp()
				<-done
				if !flawed {
					assert.True(t, p.holds(), "%+v %+v %+v", p.checks, p.result.Witnesses, p.result.Findings)
					return
				}
				assert.Equal(t, []string{"buoy-1/state/3"}, p.found(verdict.Lost))
				assert.Equal(t, []string{"buoy-2/state/4"}, p.found(verdict.Repeated))
				assert.Equal(t, []string{"buoy-3/state/5"}, p.found(verdict.Altered))
				assert.Equal(t, []string{"buoy-3/state/6"}, p.found(verdict.Misfiled))
				assert.Equal(t, p.result.Total.Due()-4, p.result.Total[verdict.Proven], "%+v", p.result.Findings)
				c := p.result.Counted[0]
				assert.Equal(t, c.Least, c.Theirs, "%+v", c) // one too few, and one too many
				state := proof.Met
				if c.Of > 0 {
					assert.Equal(t, 4, c.Differ, "%+v", c)
					state = proof.NotMet
				}
				for _, q := range p.checks {
					if q.Key == "counts" {
						assert.Equal(t, state, q.State, "%+v", q)
					}
				}
			})
		}
	}
}

// What cannot be asked, or is no answer, is told in one sentence, and is no pass.
func TestStoresThatDoNotAnswer(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		looks string // DIR stands for a folder, PG for an address
		begin string // why the run does not begin
		why   string // why the witness is not heard
	}{
		"a query that writes": {`sql: "PG", query: "with x as (delete from pg_class returning *) select '' as mark, '' as device from x", device: device`, "a witness only reads", ""},
		"a query that hangs": {`sql: "PG", query: "select '' as mark, '' as device from pg_sleep(60)", device: device, timeout: 2s`, "the " +
			"database did not answer within 2s; raise timeout", ""},
		"rows without end": {`sql: "PG", query: "select '' as mark, '' as device from generate_series(1, 1000000000000)", device: device, timeout: 2s`, "the database did not answer within 2s", ""},
		"no column for the mark": {`sql: "PG", query: "select 1 as a, '' as device", device: device`, "the query gives " +
			"no column with the mark; say where it is with mark:, for example mark: mark (the columns are a, device)", ""},
		"a column that is not there": {`sql: "PG", query: "select '' as m, '' as device", device: device, mark: mrk`,
			`the query gives no column "mrk"; it gives m, device`, ""},
		"no such table": {`sql: "PG", query: "select * from reports_of_nobody", device: device`,
			`PostgreSQL says: relation "reports_of_nobody" does not exist`, ""},
		"times that are numbers": {`sql: "PG", query: "select '' as mark, '' as device where 12::bigint > @from", device: device`, "write @from_s and @to_s (seconds)", ""},
		"two columns of one name": {`sql: "PG", query: "select 1 as a, 2 as a", device: device`,
			`the query gives two columns that are called "a"; name one of them with AS`, ""},
		"more columns than read": {`sql: "sqlite:DIR/big.db", query: "select '' as mark, '' as device", device: device, max_row: 0.5 kB`, "there is no file", ""},
		"nobody at the address":  {`sql: "postgres://a@127.0.0.1:1/b", query: "select '' as mark, '' as device", device: device`, "postgres://127.0.0.1:1/b", ""},
		"a database that is mute": {`sql: "mysql://a@MUTE/b", query: "select 1", device: device, timeout: 300ms`,
			"mysql://127.0.0.1", ""}, // it did not answer, or in time
		"another that is mute": {`sql: "postgres://a@MUTE/b", query: "select 1", device: device, timeout: 300ms`,
			"postgres://MUTE/b", ""},
		"wrong for a zone": {`sql: "mysql://MARIA/", query: "select '' as mark, '' as device", device: device, zone: Europe/London`, "the server has no table of time zones", ""},
		"a long row":       {`sql: "PG", query: "select repeat('x', 3000) as mark, '' as device", device: device, max_row: 2 kB`, "a row is longer than max_row", ""},

		"a program that is not there": {`program: [./nothing.sh], device: device`, "nothing.sh cannot be run", ""},
		"a program that prints for ever": {`program: [sh, -c, "while :; do echo {}; done"], device: .device, max_answer: 10 KiB`, "", "sh " +
			"prints more than max_answer, 10 KiB; let it print less, or raise it"},
		"garbage for ever": {`program: [yes], device: device`, "", "yes prints what is no JSON object on line 1"},
		"a line without end": {`program: [sh, -c, "cat /dev/zero"], device: device, max_row: 2 kB`, "",
			"sh prints a line longer than max_row"},
		"a program that hangs": {`program: [sh, -c, "sleep 60"], device: device, timeout: 200ms`, "", "sh did " +
			"not end within 200ms; raise timeout"},
		"a program that fails": {`program: [sh, -c, "echo no such host >&2; exit 3"], device: device`, "", "sh " +
			"failed: exit status 3; it says: “no such host”"},

		"a head without the mark": {`file: "DIR/headless.csv", device: device`,
			`headless.csv:1: there is no column "mark"; the head has device, level_m`, ""},
		"a head that changes": {`file: "DIR/changing.csv", device: device`, "", "changing.csv:3: the row has 3 cells, " +
			"and the head has 2 columns"},
		"a gzip file cut off": {`file: "DIR/cut.csv.gz", device: device`, "", "cut.csv.gz is compressed, and not whole"},
		"JSON that is none":   {`file: "DIR/broken.jsonl", device: device`, "", "broken.jsonl:2:"},
		"a last line cut off": {`file: "DIR/half.csv", device: device`, "", "half.csv ends in the middle of a line"},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			dir := t.TempDir()
			for file, text := range map[string]string{"headless.csv": "device,level_m\nx,1\n",
				"changing.csv": "device,mark\na,b\na,b,c\n", "export.dat": "x", "broken.jsonl": "{\"device\": 1}\n{{{\n{}\n",
				"half.csv": "device,mark\na,b\n"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
			}
			f, err := os.Create(filepath.Join(dir, "cut.csv.gz"))
			require.NoError(t, err)
			z := gzip.NewWriter(f)
			fmt.Fprint(z, "device,mark\n", strings.Repeat("a,b\n", 1000))
			z.Close()
			info, _ := f.Stat()
			require.NoError(t, f.Truncate(info.Size()-5))
			f.Close()
			looks := strings.ReplaceAll(c.looks, "DIR", dir)
			if strings.Contains(looks, "PG") {
				looks = strings.ReplaceAll(looks, "PG", startPostgres(t))
			}
			if strings.Contains(looks, "MUTE") { // it takes connections, and says nothing
				l, err := net.Listen("tcp", "127.0.0.1:0")
				require.NoError(t, err)
				defer l.Close()
				looks, c.begin = strings.ReplaceAll(looks, "MUTE", l.Addr().String()), strings.ReplaceAll(c.begin, "MUTE",
					l.Addr().String())
			}
			if strings.Contains(looks, "MARIA") {
				looks = strings.ReplaceAll(looks, "MARIA", "root@"+startMariaDB(t))
			}
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(202) }))
			defer srv.Close()
			text := strings.NewReplacer("HTTP", srv.URL, "LOOKS", looks).Replace(`
crowd: gauge
links: {shore: {http: "HTTP"}}
kinds: {gauge: {readings: {level: {every: 100ms, path: /in, fields: {level_m: {signal: tide, round: 3}}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 300ms}
witnesses: {store: {proves: stored, LOOKS, wait: 800ms, watch_copies: 50ms}}
`)
			crowd, err := file.Parse(filepath.Join(dir, "harbour.yaml"), []byte(text), file.Sources{Getenv: os.LookupEnv})
			require.NoError(t, err)
			if strings.HasPrefix(name, "a last line") { // somebody writes on it all the time
				stop := make(chan bool)
				defer close(stop)
				go func() {
					for {
						select {
						case <-stop:
							return
						case <-time.After(20 * time.Millisecond):
							f, err := os.OpenFile(filepath.Join(dir, "half.csv"), os.O_APPEND|os.O_WRONLY, 0)
							if err == nil {
								f.WriteString("a,b\na")
								f.Close()
							}
						}
					}
				}()
			}
			s, err := open(t, crowd, run.Options{Out: t.TempDir(), Version: "test", File: "harbour.yaml"})
			if c.begin != "" {
				require.ErrorContains(t, err, c.begin)
				assert.NotContains(t, err.Error(), "\n")
				return
			}
			require.NoError(t, err)
			require.NoError(t, s.Play(context.Background()))
			j, err := run.Judge(s.Folder, run.Judging{})
			require.NoError(t, err)
			assert.Contains(t, strings.Join(j.Witnesses[0].Why, " "), c.why)
			assert.Equal(t, j.Total.Due(), j.Total[verdict.Unknown], "%v", j.Total)
		})
	}
}

// sqliteOf makes a database of reports.
func sqliteOf(t *testing.T, dir string) (keep func(device, mark string, at int64,
	level float64), db *sql.DB, address string) {
	path := filepath.Join(dir, "reports.db")
	db, err := sql.Open("sqlite", path+"?_pragma=journal_mode(wal)&_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec("create table reports (device text, mark text, at integer, level_m real); create view seen as " +
		"select * from reports")
	require.NoError(t, err)
	return func(device, mark string, at int64, level float64) {
		_, err := db.Exec("insert into reports values (?, ?, ?, ?)", device, mark, at, level)
		assert.NoError(t, err)
	}, db, "sqlite:" + path
}

// keepOverHTTP is an intake that keeps what is posted to it.
func keepOverHTTP(t *testing.T, keep func(device, mark string, at int64, level float64)) string {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			Mark  string
			Sent  int64
			Level float64 `json:"level_m"`
		}
		if assert.NoError(t, json.NewDecoder(r.Body).Decode(&b)) {
			keep(r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:], b.Mark, b.Sent, b.Level)
		}
		w.WriteHeader(202)
	}))
	t.Cleanup(srv.Close)
	return srv.URL
}
