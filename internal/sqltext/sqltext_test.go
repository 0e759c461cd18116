package sqltext_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/sqltext"
)

var (
	known    = []string{"from", "to", "device"}
	postgres = sqltext.Dialect{Dollar: true, Nested: true}
	mysql    = sqltext.Dialect{Backslash: true, Hash: true}
)

func written(q *sqltext.Query) string {
	return q.Write(func(name string) string { return "<" + name + ">" })
}

func TestParametersAreFound(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		d       sqltext.Dialect
		in, out string
	}{
		{postgres, "select a from t where at >= @from and at < @to", "select a from t where at >= <from> and at < <to>"},
		{postgres, "SELECT '@from', \"@to\", x from t -- @device\nwhere y = @device", "SELECT '@from', \"@to\", x from t " +
			"-- @device\nwhere y = <device>"},
		{postgres, "with a as (select 1) select a @> '{}', @from::date from a /* @to /* @to */ @to */", "with a as (select " +
			"1) select a @> '{}', <from>::date from a /* @to /* @to */ @to */"},
		{postgres, "select 'it''s @from', $$ @to $$, $x$ @to $$ $x$, E'\\' @to' , @to", "select 'it''s @from', $$ @to $$, " +
			"$x$ @to $$ $x$, E'\\' @to' , <to>"},
		{postgres, `select 'a\', @from`, `select 'a\', <from>`},
		{mysql, `select 'a\', @from' , @to # @from`, `select 'a\', @from' , <to> # @from`},
		{mysql, "select `@from`, @@session.time_zone, @device;", "select `@from`, @@session.time_zone, <device>"},
		{postgres, "(select 1) ; -- end\n ", "(select 1) "},
		{postgres, "  /* why */ select ä@from", "  /* why */ select ä<from>"},
	} {
		q, err := sqltext.Parse(c.in, c.d, known)
		require.NoError(t, err, c.in)
		assert.Equal(t, strings.TrimSpace(c.out), strings.TrimSpace(written(q)), c.in)
	}
}

func TestWhatIsRefused(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"delete from reports":                  "it begins with DELETE; a witness only reads: write a SELECT",
		"  -- x\n update t set a = 1":          "it begins with UPDATE",
		"/* a */ drop table reports":           "it begins with DROP",
		"select 1; delete from reports":        "more than one statement",
		"select 1 /*! into outfile '/tmp/x'*/": "a comment that the database executes may do anything",
		"select 1 into outfile '/tmp/x'":       "INTO writes, and a witness only reads",
		"select * from t FOR\nUpdate":          "FOR UPDATE locks rows",
		"select @since":                        "there is no parameter @since; there are @from, @to, @device",
		"select 'abc":                          "a text or name that begins with ' does not end",
		"select /* abc":                        "a comment does not end",
		"select $1":                            "$ stands for a parameter of the database",
		"select $x$ abc":                       "a text that begins with $x$ does not end",
		"":                                     "it is empty",
		"-- nothing":                           "it is empty",
		"1":                                    "it does not begin with SELECT",
		"select 1\x00":                         "zero byte",
	} {
		_, err := sqltext.Parse(in, postgres, known)
		assert.ErrorContains(t, err, want, in)
	}
	// MySQL reads two signs here, and no comment.
	_, err := sqltext.Parse("select 5--1 into outfile '/tmp/x'", sqltext.MySQL.Dialect(), known)
	assert.ErrorContains(t, err, "INTO writes")
	_, err = sqltext.Parse("select 5 -- into nothing\n", sqltext.MySQL.Dialect(), known)
	assert.NoError(t, err)
}

// What is read comes back byte for byte where it has no parameter.
func FuzzParse(f *testing.F) {
	f.Add("select '@from' from t where a > @from; ", true)
	f.Add("select $$x$$, E'\\'', \"a\"\"b\"", false)
	f.Fuzz(func(t *testing.T, s string, my bool) {
		d := postgres
		if my {
			d = mysql
		}
		q, err := sqltext.Parse(s, d, known)
		if err != nil {
			return
		}
		out := q.Write(func(name string) string { return "@" + name })
		assert.True(t, strings.HasPrefix(s, out), "%q %q", s, out)
		assert.True(t, out == s || s[len(out)] == ';', "%q %q", s, out)
	})
}
