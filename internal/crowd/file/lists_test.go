package file_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
)

// A roster may have any headings: the file says what its columns are called here. A secret stays
// one under either name, and the copy for the run folder keeps the headings.
func TestColumnsOfARoster(t *testing.T) {
	dir := t.TempDir()
	const roster = "Device ID;Access Key;site;Mooring (lat, lon);a\nLB-7;geheim-1;outer;58.02,-6.41;1\nLB-8;geheim-2;inner;;2\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "list.csv"), []byte(roster), 0o600))
	read := func(columns string) (string, error) {
		text := `
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}}
kinds: {buoy: {link: sea, readings: {state: {every: 1s, topic: "harbour/${device}", fields: {a: 1, where: "${site}"}}}}}
devices: [{kind: buoy, roster: list.csv` + columns + `}]
plan: {for: 1s}
`
		c, err := file.Parse(filepath.Join(dir, "crowd.yaml"), []byte(text), file.Sources{})
		if err != nil {
			return "", err
		}
		r := c.Casts[0].Roster
		out := ""
		for _, col := range r.Columns {
			out += col.Name + map[bool]string{true: "*"}[col.Secret] + " "
		}
		for _, f := range c.Files {
			out += string(f.Copy)
		}
		out += r.Devices[1]
		return out, nil
	}
	got, err := read(`, columns: {device: Device ID, k: Access Key, b: a}`)
	require.NoError(t, err)
	assert.Equal(t, "k* site b Device ID,Access Key,site,\"Mooring (lat, lon)\",a\nLB-7,taken-out,outer,\"58.02,-6.41\",1\nLB-8,taken-out,inner,,2\nLB-8", got)
	got, err = read(`, columns: {device: Device ID, a: site, site: a}`)
	require.NoError(t, err, "they may change places")
	assert.Contains(t, got, "a site ")
	for columns, want := range map[string]string{
		"":                               `the column "Device ID" must have a name of letters, digits and _, so that formulas can use it; give it one: columns: {a_name: "Device ID"}`,
		", columns: {device: Device Id}": `columns: the roster list.csv has no column "Device Id"; did you mean "Device ID"?`,
		", columns: {device: Device ID, b: Device ID}": `columns: "Device ID" is named twice: device and b`,
		", columns: {device: Device ID, site: a}":      `columns: the columns "site" and "a" of the roster list.csv would both be "site"`,
		", columns: {device: Device ID, a-b: a}":       `columns: "a-b" must be a name of letters, digits and _`,
		", columns: {id: Device ID}":                   `list.csv has no column "device" to name its devices`,
	} {
		_, err := read(columns)
		assert.ErrorContains(t, err, want)
	}
}

// Filters of one witness must not overlap: a broker may send what is meant by both twice.
func TestSeveralFilters(t *testing.T) {
	read := func(subscribe string) error {
		c, err := file.Parse("crowd.yaml", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}}
kinds: {buoy: {link: sea, readings: {state: {every: 1s, topic: "harbour/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1s}
witnesses: {ear: {proves: received, subscribe: `+subscribe+`}}
`), file.Sources{})
		if err == nil {
			assert.True(t, c.Witnesses[0].Subscribes("harbour/buoy"))
		}
		return err
	}
	assert.NoError(t, read(`"harbour/#"`))
	assert.NoError(t, read(`["old/+", "harbour/#"]`))
	assert.ErrorContains(t, read(`["harbour/+", "harbour/#"]`), `"harbour/+" and "harbour/#" can mean the same topic, and a broker may send what comes there twice`)
	assert.ErrorContains(t, read(`["harbour/#", "a/#/b"]`), "subscribe: ")
}
