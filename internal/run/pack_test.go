//go:build unix

package run_test

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// runFolder makes a folder that looks like that of a run.
func runFolder(t *testing.T, ledger string) string {
	dir := filepath.Join(t.TempDir(), "harbour-k3f9a2xy")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "files"), 0o700))
	for name, text := range map[string]string{run.ManifestFile: `{"run": "k3f9a2xy", "crowd": "harbour", "files": [{"copy": "files/1-gauges.csv"}]}`, run.LedgerFile: ledger, "files/1-gauges.csv": "device\n", "ledger.lock": "x"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

// What is packed comes out as it went in; a secret keeps it from being packed, wherever it
// stands; and what was made to do harm does none.
func TestPacks(t *testing.T) {
	t.Parallel()
	redact := func(s string) string { return strings.ReplaceAll(s, "open-sesame-77", "***") }
	folder := runFolder(t, strings.Repeat("0123456789", 100_000))
	path := filepath.Join(t.TempDir(), "x"+run.PackEnding)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "id_rsa"), []byte("a key"), 0o600))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(folder, run.ReportText)))
	left, err := run.Pack(folder, path, nil, redact)
	require.NoError(t, err)
	assert.Equal(t, []string{"id_rsa", run.ReportText}, left)
	to := t.TempDir()
	got, err := run.Unpack(path, to, run.Limits{})
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(to, "harbour-k3f9a2xy"), got)
	for _, name := range []string{run.ManifestFile, run.LedgerFile, "files/1-gauges.csv"} {
		want, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		is, err := os.ReadFile(filepath.Join(got, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, is), name)
	}
	assert.NoFileExists(t, filepath.Join(got, "ledger.lock"))

	for _, at := range []int{0, 32<<10 - 7, 64<<10 - 3, 500_000} { // also where two pieces meet that are read
		bad := runFolder(t, strings.Repeat("x", at)+"open-sesame-77"+strings.Repeat("y", 100_000))
		out := filepath.Join(t.TempDir(), "y"+run.PackEnding)
		_, err := run.Pack(bad, out, nil, redact)
		assert.ErrorIs(t, err, run.ErrSecret, "at %d", at)
		left, err := os.ReadDir(filepath.Dir(out))
		require.NoError(t, err)
		assert.Empty(t, left)
	}

	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	packed := func(entries ...tar.Header) []byte {
		var b bytes.Buffer
		z, err := zstd.NewWriter(&b)
		require.NoError(t, err)
		w := tar.NewWriter(z)
		for _, h := range entries {
			require.NoError(t, w.WriteHeader(&h))
			_, err = w.Write(make([]byte, h.Size))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	for name, b := range map[string][]byte{
		"cut off": whole[:len(whole)/2], "empty": nil, "no archive": []byte("hello"), "nothing in it": packed(),
		"a way out":       packed(tar.Header{Name: "a/../../b", Typeflag: tar.TypeReg}),
		"an absolute way": packed(tar.Header{Name: "/tmp/b", Typeflag: tar.TypeReg}),
		"a link":          packed(tar.Header{Name: "a/b", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}),
		"two runs": packed(tar.Header{Name: "a/b", Typeflag: tar.TypeReg},
			tar.Header{Name: "c/b", Typeflag: tar.TypeReg}),
		"no folder": packed(tar.Header{Name: "b", Typeflag: tar.TypeReg}),
		"the same file twice": packed(tar.Header{Name: "a/b", Typeflag: tar.TypeReg},
			tar.Header{Name: "a/b", Typeflag: tar.TypeReg}),
	} {
		bad := filepath.Join(t.TempDir(), "bad"+run.PackEnding)
		require.NoError(t, os.WriteFile(bad, b, 0o600))
		into := t.TempDir()
		_, err := run.Unpack(bad, into, run.Limits{})
		assert.ErrorContains(t, err, "is no packed run, or is not whole", name)
		_, outside := os.Stat(filepath.Join(filepath.Dir(into), "b"))
		assert.Error(t, outside, name)
	}
	var many []tar.Header
	for i := range 1001 {
		many = append(many, tar.Header{Name: fmt.Sprint("a/", i), Typeflag: tar.TypeReg})
	}
	large := tar.Header{Name: "a/ledger", Typeflag: tar.TypeReg, Size: 70 << 20}
	long := tar.Header{Name: "a/" + strings.Repeat("b/", 300) + "c", Typeflag: tar.TypeReg}
	for name, c := range map[string]struct {
		b      []byte
		limits run.Limits
		want   string
	}{
		"many files":      {packed(many...), run.Limits{}, "it holds more than 1000 files"},
		"a long name":     {packed(long), run.Limits{}, "does not belong into one"},
		"a large one":     {packed(large), run.Limits{}, "it holds more than 64 MiB, which is much for a file of "},
		"it was raised":   {packed(large), run.Limits{Bytes: 71 << 20}, ""},
		"it was lowered":  {packed(large), run.Limits{Bytes: 1 << 20}, "it holds more than 1 MiB"},
		"endless headers": {packed(tar.Header{Name: "a/b", Typeflag: tar.TypeReg, PAXRecords: map[string]string{"X.y": strings.Repeat("x", 900_000)}}), run.Limits{Bytes: 1, Files: 1}, ""},
	} {
		bad := filepath.Join(t.TempDir(), "bad"+run.PackEnding)
		require.NoError(t, os.WriteFile(bad, c.b, 0o600))
		into := t.TempDir()
		_, err := run.Unpack(bad, into, c.limits)
		if c.want == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.want, name)
		}
		size := int64(0)
		filepath.WalkDir(into, func(_ string, d fs.DirEntry, _ error) error {
			if info, err := d.Info(); err == nil && !d.IsDir() {
				size += info.Size()
			}
			return nil
		})
		assert.LessOrEqual(t, size, max(c.limits.Bytes, 64<<20), name)
	}
}

// Witnesses that were not heard, because what they look at was gone, are asked by verify: a
// database by marks, by times, and for a count.
func TestStoresAreHeardAgain(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ mark, query string }{
		"by mark": {"field: mark", "select device, mark, at as sent, level_m from seen"},
		"by time": {"time: sent", "select device, at as sent, level_m from seen"},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			dir := t.TempDir()
			keep, db, address := sqliteOf(t, dir)
			srv := keepOverHTTP(t, keep)
			text := strings.NewReplacer("HTTP", srv, "MARK", c.mark, "QUERY", c.query, "STORE", address).Replace(`
crowd: gauge
links: {shore: {http: "HTTP"}}
kinds: {gauge: {mark: {MARK}, readings: {level: {every: 100ms, path: "/in/${device}", fields: {sent: {signal: clock, as: ms}, level_m: {signal: tide, round: 3}}}}}}
devices: [{kind: gauge, count: 3, name: "gauge-${n}"}]
plan: {for: 1500ms}
witnesses:
  base: {proves: stored, sql: "STORE", query: "QUERY", device: device, wait: 500ms, watch_copies: 100ms}
  many: {proves: counts, sql: "STORE", query: "select device, count(*) as n from seen group by 1", device: device, count: n, wait: 500ms, watch_copies: 100ms}
`)
			c, err := file.Parse(filepath.Join(dir, "gauge.yaml"), []byte(text), file.Sources{})
			require.NoError(t, err)
			s, err := open(t, c, run.Options{Out: dir, Version: "test", File: filepath.Join(dir, "gauge.yaml")})
			require.NoError(t, err)
			gone := time.AfterFunc(500*time.Millisecond, func() { db.Exec("drop view seen") })
			defer gone.Stop()
			require.NoError(t, s.Play(context.Background()))
			j, err := run.Judge(s.Folder, run.Judging{})
			require.NoError(t, err)
			require.Zero(t, j.Total[verdict.Lost], "%v", j.Total)
			require.False(t, j.Counted[0].Heard)
			_, err = db.Exec("create view seen as select * from reports")
			require.NoError(t, err)
			again, err := run.LoadCopy(s.Folder)
			require.NoError(t, err)
			require.NoError(t, run.HearAgain(context.Background(), s.Folder, again, run.Again{}))
			j, err = run.Judge(s.Folder, run.Judging{})
			require.NoError(t, err)
			require.Positive(t, j.Total.Due())
			assert.Equal(t, j.Total.Due(), j.Total[verdict.Proven], "%v %+v %+v", j.Total, j.Witnesses, j.Findings)
			x := j.Counted[0]
			assert.True(t, x.Heard && x.Theirs == x.Least && x.Least == x.Most, "%+v", x)
		})
	}
}
