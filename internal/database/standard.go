package database

import (
	"context"
	"crypto/tls"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"modernc.org/sqlite"

	"runcrowd/internal/sqltext"
)

// standard asks through database/sql.
type standard struct {
	db    *sql.DB
	kind  sqltext.Kind
	zone  *time.Location
	begin []string
	fails func(error, bool) error
}

func (s *standard) close() { s.db.Close() }

func (s *standard) ask(ctx context.Context, query string, args []arg, columns func([]string) error,
	row func(func(i int) (any, int)) error) error {
	c, err := s.db.Conn(ctx)
	if err != nil {
		return s.fails(err, true)
	}
	defer c.Close()
	for _, text := range s.begin {
		if _, err := c.ExecContext(ctx, text); err != nil {
			return s.fails(fmt.Errorf("%s: %w", text, err), false)
		}
	}
	defer func() {
		over, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c.ExecContext(over, "rollback")
	}()
	list := make([]any, len(args))
	for i, v := range args {
		switch x := v.(type) {
		case time.Time:
			list[i] = s.time(x)
		default:
			list[i] = x
		}
	}
	// Prepared, so that numbers come with all their digits.
	stmt, err := c.PrepareContext(ctx, query)
	if err != nil {
		return s.fails(err, false)
	}
	defer stmt.Close()
	rows, err := stmt.QueryContext(ctx, list...)
	if err != nil {
		return s.fails(err, false)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return s.fails(err, false)
	}
	names, kinds := make([]string, len(types)), make([]string, len(types))
	for i, t := range types {
		names[i], kinds[i] = t.Name(), t.DatabaseTypeName()
	}
	if err := columns(names); err != nil {
		return err
	}
	values, into := make([]any, len(types)), make([]any, len(types))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return s.fails(err, false)
		}
		if err := row(func(i int) (any, int) { return s.value(kinds[i], values[i]) }); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return s.fails(err, false)
	}
	return nil
}

// time is how a time goes into a question.
func (s *standard) time(t time.Time) string {
	if s.kind == sqltext.SQLite { // which has no times; this is the one of its notations that sorts and says its zone
		return t.UTC().Format("2006-01-02T15:04:05.000Z")
	}
	return t.In(s.zone).Format("2006-01-02 15:04:05.999999")
}

func (s *standard) value(kind string, v any) (any, int) {
	switch x := v.(type) {
	case nil, bool:
		return v, 1
	case int64:
		return number(strconv.FormatInt(x, 10)), 8
	case uint64:
		return number(strconv.FormatUint(x, 10)), 8
	case float32:
		return floating(float64(x), 32), 8
	case float64:
		return floating(x, 64), 8
	case time.Time: // SQLite: a column that is declared as a time
		return x.UTC().Format(time.RFC3339Nano), 30
	case string:
		if s.kind == sqltext.SQLite && strings.EqualFold(kind, "JSON") {
			return document([]byte(x)), len(x)
		}
		return x, len(x)
	case []byte:
		switch {
		case s.kind == sqltext.SQLite || strings.HasSuffix(kind, "BLOB") || strings.HasSuffix(kind, "BINARY") ||
			kind == "BIT" || kind == "GEOMETRY":
			return encoded(x), len(x)
		case kind == "JSON":
			return document(x), len(x)
		case kind == "DECIMAL":
			return number(string(x)), len(x)
		case kind == "TIMESTAMP" || kind == "DATETIME":
			return instant(string(x), s.zone), len(x)
		}
		return string(x), len(x)
	}
	return fmt.Sprint(v), 8
}

func newMySQL(of *Config) (*standard, error) {
	u, err := parseURL(of.Address)
	if err != nil {
		return nil, err
	}
	cfg := mysql.NewConfig()
	cfg.User, cfg.DBName = u.User.Username(), strings.TrimPrefix(u.Path, "/")
	cfg.Passwd, _ = u.User.Password()
	cfg.Net, cfg.Addr = "tcp", u.Host
	if u.Port() == "" {
		cfg.Addr = net.JoinHostPort(u.Hostname(), "3306")
	}
	for name, list := range u.Query() {
		switch v := list[0]; {
		case name == "socket":
			cfg.Net, cfg.Addr = "unix", v
		case name == "tls" && v == "true":
			cfg.TLS = &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
		case name == "tls" && (v == "skip-verify" || v == "preferred" || v == "false"):
			cfg.TLSConfig = v
		case name == "tls":
			return nil, errors.New("the address: tls is true, preferred, skip-verify or false")
		default:
			return nil, fmt.Errorf("the address has a parameter %q; tls and socket are known", name)
		}
	}
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = of.Timeout, of.Timeout+2*time.Second, of.Timeout
	cfg.AllowNativePasswords = true
	cfg.Logger = silent{}
	if of.Dial != nil {
		cfg.DialFunc = of.Dial
	}
	zone, err := mysqlZone(of.Zone)
	if err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, errors.New("the address cannot be used: " + err.Error())
	}
	s := &standard{db: sql.OpenDB(limited{connector, of.Timeout}), kind: sqltext.MySQL, zone: of.Zone, fails: mysqlError}
	s.begin = []string{"set time_zone = '" + zone + "'", "set transaction isolation level repeatable read, read only",
		"start transaction read only"}
	s.db.SetMaxIdleConns(mostIdle)
	return s, nil
}

// mysqlZone is how a session is told a zone: by name where it changes its offset, which
// needs the server's tables of zones.
func mysqlZone(l *time.Location) (string, error) {
	_, winter := time.Date(2026, 1, 1, 0, 0, 0, 0, l).Zone()
	_, summer := time.Date(2026, 7, 1, 0, 0, 0, 0, l).Zone()
	if winter != summer {
		return strings.ReplaceAll(l.String(), "'", "''"), nil
	}
	return time.Date(2026, 1, 1, 0, 0, 0, 0, l).Format("-07:00"), nil
}

// limited is a connector whose sessions end a query that takes too long.
type limited struct {
	driver.Connector
	timeout time.Duration
}

// Connect implements driver.Connector. MySQL and MariaDB call the limit differently; each
// refuses the other's name.
func (l limited) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := l.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	ms := l.timeout.Milliseconds()
	for _, text := range []string{fmt.Sprintf("set session max_execution_time = %d", ms), fmt.Sprintf("set session "+
		"max_statement_time = %d.%03d", ms/1000, ms%1000)} {
		if _, err = c.(driver.ExecerContext).ExecContext(ctx, text, nil); err == nil {
			return c, nil
		}
	}
	c.Close()
	return nil, err
}

type silent struct{}

func (silent) Print(...any) {}

func mysqlError(err error, connecting bool) error {
	e := &Error{Text: err.Error(), err: err, Connect: connecting}
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		e.Text = "MySQL says: " + my.Message
		switch my.Number {
		case 3024, 1969:
			e.timeout = true
		case 1792:
			e.Text += "; a witness only reads"
		case 1298:
			e.Text += "; the server has no table of time zones: load it (mysql_tzinfo_to_sql), or take UTC"
		case 1040, 1203, 1205, 1213, 1053:
			e.Passing = true
		}
		return e
	}
	var op *net.OpError
	if errors.As(err, &op) && connecting {
		e.Text = "it cannot be reached: " + op.Err.Error()
	}
	e.Passing = !errors.Is(err, context.Canceled)
	return e
}

func newSQLite(of *Config) (*standard, error) {
	path, err := pathOf(of)
	if err != nil {
		return nil, err
	}
	q := url.Values{"mode": {"ro"}, "_pragma": {"query_only(1)",
		fmt.Sprintf("busy_timeout(%d)", of.Timeout.Milliseconds()), "trusted_schema(0)"}, "_timezone": {of.Zone.String()}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, err
	}
	s := &standard{db: db, kind: sqltext.SQLite, zone: of.Zone, begin: []string{"begin"}}
	s.fails = func(err error, connecting bool) error {
		e := &Error{Text: "SQLite says: " + strings.TrimPrefix(err.Error(), "begin: "), err: err, Connect: connecting}
		var se *sqlite.Error
		if errors.As(err, &se) {
			e.Passing = se.Code()&0xff == 5 || se.Code()&0xff == 6 // SQLITE_BUSY, SQLITE_LOCKED
		}
		if _, stat := os.Stat(path); stat != nil {
			// A platform may make it with its first message.
			e.Text, e.Passing, e.Connect = fmt.Sprintf("there is no file %s", path), true, true
		}
		return e
	}
	return s, nil
}
