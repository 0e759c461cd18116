package file

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// keysTable is a mapping as the reference page shows it.
func keysTable(m *mapping) string {
	var b strings.Builder
	fmt.Fprintf(&b, "**%s** – %s\n\n| key | value | default | meaning |\n|---|---|---|---|\n", m.name, m.doc)
	cell := func(s string) string { return strings.ReplaceAll(s, "|", `\|`) }
	for _, k := range m.keys {
		def := ""
		if k.def != "" {
			def = "`" + k.def + "`"
		}
		if k.need != "" && k.def == "" {
			def = "needed"
		}
		doc := k.doc
		if k.goes != "" {
			doc = k.goes + ": " + doc
		}
		words := k.typ.words
		if k.typ.sort == wordValue {
			words = "`" + strings.Join(k.typ.list, "`, `") + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.name, cell(words), cell(def), cell(doc))
	}
	if m.one != nil {
		fmt.Fprintf(&b, "\nExactly one of `%s` must be there.\n", strings.Join(m.one, "`, `"))
	}
	if m.some != nil {
		fmt.Fprintf(&b, "\nAt least one of `%s` must be there.\n", strings.Join(m.some, "`, `"))
	}
	return b.String()
}

// The reference page has the table of every mapping, as it is. -update writes it.
func TestReferencePage(t *testing.T) {
	path := filepath.Join("..", "..", "..", "docs", "crowd-file.md")
	page, err := os.ReadFile(path)
	require.NoError(t, err)
	want := string(page)
	for _, m := range mappings() {
		begin := "<!-- keys: " + m.name + " -->\n"
		i := strings.Index(want, begin)
		require.GreaterOrEqual(t, i, 0, "the page has no place for the mapping %q", m.name)
		end := strings.Index(want[i:], "<!-- end -->")
		require.Positive(t, end)
		want = want[:i+len(begin)] + keysTable(m) + want[i+end:]
	}
	if flag.Lookup("update").Value.String() == "true" {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o644))
	}
	assert.Equal(t, want, string(page), "the page is not up to date: go test ./internal/crowd/file -update")
}

// flow is a YAML text as the entries of a mapping in one line.
func flow(t *testing.T, text string) string {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v), text)
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	require.NoError(t, e.Encode(v))
	s := strings.TrimSpace(b.String())
	return s[1 : len(s)-1]
}

var block = regexp.MustCompile("(?ms)^```yaml ?([a-zA-Z_ ]*)\n(.*?)^```")

// Every part of a crowd file in the documents is read, each in its place.
func TestPartsInDocuments(t *testing.T) {
	pages, err := filepath.Glob(filepath.Join("..", "..", "..", "docs", "*.md"))
	require.NoError(t, err)
	parts := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range block.FindAllStringSubmatch(string(text), -1) {
			if m[1] == "" {
				continue // a whole file, played elsewhere
			}
			parts++
			frame := places[m[1]]
			require.NotEmpty(t, frame, "%s: there is no place %q", page, m[1])
			frame = strings.NewReplacer(`proves: received, subscribe: t`, "proves: received",
				`, get: "http://h/${device}", rows: .`, "", `f: {signal: swell, KEY}`, "f: {KEY}",
				`{mqtt: "mqtt://h", KEY}`, "{KEY}", `path: /p, fields: {a: 1}, KEY`, `fields: {a: 1}, KEY`,
				`KEY, request: {url: "http://h/d"}`, "KEY", "mqtt://h", "mqtts://h").Replace(frame)
			body := flow(t, m[2])
			if m[1] == "link" && !strings.Contains(body, `"mqtt"`) {
				body += `, mqtt: "mqtt://h"`
			}
			// What belongs to single devices comes from a property here.
			frame = strings.Replace(frame, "readings:", `properties: {token: "a-token-1", site: outer}, readings:`, 1)
			whole := strings.Replace(frame, "KEY", body, 1)
			_, err := Parse("crowd.yaml", []byte(whole),
				Sources{Getenv: func(name string) (string, bool) {
					if name == "CONN" {
						return "HostName=sea.example;SharedKey=a-secret-of-mine", true
					}
					return "a-secret-of-mine", true
				}, WithoutCertificates: true,
					Open: func(string) ([]byte, error) { return nil, os.ErrNotExist }})
			assert.NoError(t, err, "%s:\n%s\n%s", page, m[2], whole)
		}
	}
	assert.GreaterOrEqual(t, parts, 12)
}
