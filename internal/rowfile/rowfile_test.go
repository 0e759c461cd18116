package rowfile_test

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/rowfile"
)

// rowsOf reads a file; each row is JSON, and an error the last line.
func rowsOf(t require.TestingT, path string, opt rowfile.Options) (list []string) {
	if opt.MaxRow == 0 {
		opt.MaxRow = 1 << 20
	}
	r, err := rowfile.Open(path, opt)
	if err != nil {
		return []string{err.Error()}
	}
	defer r.Close()
	for {
		row, err := r.Next()
		var half *rowfile.HalfError
		if errors.As(err, &half) {
			row = half.Row
		}
		if row != nil {
			b, err := json.Marshal(row)
			require.NoError(t, err)
			list = append(list, string(b))
		}
		if err == io.EOF {
			return list
		}
		if err != nil {
			return append(list, strings.ReplaceAll(err.Error(), filepath.Dir(path)+"/", ""))
		}
	}
}

func TestRowsOfFiles(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, text string
		columns    []string
		want       []string
	}{
		{"a.csv", "a,b\n1,\"x,\n\"\"y\"\n", nil, []string{`{"a":"1","b":"x,\n\"y"}`}},
		{"a.tsv", "\ufeffa\tb\n1\t2\n\n3\t4\n", nil, []string{`{"a":"1","b":"2"}`, `{"a":"3","b":"4"}`}},
		{"a.csv", "a;mark\n1;m1\nmark;c;a\nm2;9;2\na;mark\n3;m3\n", []string{"mark", "a"},
			[]string{`{"a":"1","mark":"m1"}`, `{"a":"2","c":"9","mark":"m2"}`, `{"a":"3","mark":"m3"}`}},
		{"a.csv", "a,a\n", nil, []string{`a.csv:1: two columns are called "a"`}},
		{"a.csv", "a,b\n1,2\n3,4", nil, []string{`{"a":"1","b":"2"}`, `{"a":"3","b":"4"}`,
			"a.csv ends in the middle of a line"}},
		{"a.csv", "a,b\n1,2\n3,\"4", nil, []string{`{"a":"1","b":"2"}`, "a.csv ends in the middle of a line"}},
		{"a.csv", "a,b\n1,2\n3", nil, []string{`{"a":"1","b":"2"}`, "a.csv ends in the middle of a line"}},
		{"a.csv", "a,b", nil, nil},
		{"a.csv", "", nil, nil},
		{"a.json", `[{"a": 1}, {"a": 12345678901234567890}]`, nil, []string{`{"a":1}`, `{"a":12345678901234567890}`}},
		{"a.json", "{\n \"a\": [1,\n 2]\n}\n", nil, []string{`{"a":[1,2]}`}},
		{"a.jsonl", "{\"a\":1}\n\n{\"a\":2}", nil, []string{`{"a":1}`, `{"a":2}`}},
		{"a.jsonl", "{\"a\":1}\n{\"a\":", nil, []string{`{"a":1}`, "a.jsonl ends in the middle of a line"}},
		{"a.ndjson", "{\"a\":1,\"a\":2}\n", nil, []string{`a.ndjson:1: the name "a" stands twice in an object`}},
		{"a.senml", `[{"bn":"buoy-1/","bt":1.7e9,"n":"mark","vs":"m"},{"n":"x","v":1.5,"t":2},{"n":"on","vb":true}]` + "\n",
			nil,
			[]string{`{"name":"buoy-1/","time":1700000000,"values":{"mark":"m","on":true}}`,
				`{"name":"buoy-1/","time":1700000002,"values":{"x":1.5}}`}},
		{"a.senml", `[{"n":"buoy-1/x","v":1},{"n":"buoy-1/y","v":2},{"n":"buoy-2/x","v":3}]`, nil,
			[]string{`{"name":"buoy-1/","time":0,"values":{"x":1,"y":2}}`, `{"name":"buoy-2/","time":0,"values":{"x":3}}`}},
		{"a.senml", `[{"n":"x","v":1,"bv":3}]` + "\n", nil, []string{"a.senml:1: a SenML record has a base value or base " +
			"sum, which is not read here"}},
		{"a.lp", "# c\nstate,device=buoy\\ 1 mark=\"m 1\",x=1i,on=true 1700000000000000000\n", nil,
			[]string{`{"fields":{"mark":"m 1","on":true,"x":1},"series":"state","tags":{"device":"buoy 1"},"time":1700000000000000000}`}},
		{"a.lp", "state x=1 1\nstate x=12", nil, []string{`{"fields":{"x":1},"series":"state","tags":{},"time":1}`,
			`{"fields":{"x":12},"series":"state","tags":{},"time":null}`, "a.lp ends in the middle of a line"}},
	} {
		for _, packed := range []bool{false, true} {
			path := filepath.Join(t.TempDir(), c.name)
			text := []byte(c.text)
			if packed {
				path += ".zst"
				z, err := zstd.NewWriter(nil)
				require.NoError(t, err)
				text = z.EncodeAll(text, nil)
			}
			require.NoError(t, os.WriteFile(path, text, 0o600))
			var got []string
			for _, line := range rowsOf(t, path, rowfile.Options{Columns: c.columns}) {
				got = append(got, strings.ReplaceAll(strings.ReplaceAll(line, ".zst", ""), filepath.Dir(path)+"/", ""))
			}
			assert.Equal(t, c.want, got, "%q packed %v", c.text, packed)
		}
	}
}

func TestNamesOfFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{"a.csv", "a.csv.gz", "b.csv.gz", "c.dat", "d.jsonl"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "e.csv"), 0o700))
	names := func(pattern string, form rowfile.Form) string {
		list, err := rowfile.Names(filepath.Join(dir, pattern), form)
		require.NoError(t, err)
		for i := range list {
			list[i] = filepath.Base(list[i])
		}
		return strings.Join(list, " ")
	}
	assert.Equal(t, "a.csv b.csv.gz d.jsonl", names("", ""), "that of which a.csv.gz is made is still there")
	assert.Equal(t, "a.csv b.csv.gz c.dat d.jsonl", names("", rowfile.CSV))
	assert.Equal(t, "a.csv b.csv.gz", names("*.csv*", ""))
	assert.Empty(t, names("none*", ""))
	_, err := rowfile.Names("[", "")
	assert.ErrorContains(t, err, "is no pattern")
}

// Whatever stands in a file, it is read to an end, in bounded memory.
func FuzzRows(f *testing.F) {
	f.Add("a,b\n1,\"2\n", "csv")
	f.Add(`[{"bn":"x","v":1}]`, "senml")
	f.Add("a b=1 2\n", "line-protocol")
	f.Add("{\n\n}", "json")
	f.Fuzz(func(t *testing.T, text, form string) {
		if rowfile.FormOf("x."+form) == "" && form != string(rowfile.LineProtocol) {
			return
		}
		path := filepath.Join(t.TempDir(), "x")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		rowsOf(t, path, rowfile.Options{Form: rowfile.Form(form), MaxRow: 100})
	})
}

// A file may grow while it is read: a last line that was not whole is no row, whatever follows.
func TestALineThatGrowsMeanwhile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "rows.csv")
	require.NoError(t, os.WriteFile(path, []byte("m,v\na,1\nb,2"), 0o600))
	r, err := rowfile.Open(path, rowfile.Options{MaxRow: 1 << 20})
	require.NoError(t, err)
	defer r.Close()
	row, err := r.Next() // the next one is read ahead, to the end
	require.NoError(t, err)
	assert.Equal(t, "a", row.(map[string]any)["m"])
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("5\nc,3\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = r.Next()
	var half *rowfile.HalfError
	assert.ErrorAs(t, err, &half)
	_, err = r.Next()
	assert.Equal(t, io.EOF, err)
}
