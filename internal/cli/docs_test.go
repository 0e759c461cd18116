package cli

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// Every command line in the documents and in the helps names a command that is there, and
// only flags that it has.
func TestCommandLinesInDocuments(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	texts := map[string]string{}
	for _, page := range append(pages, "../../README.md", "../../CONTRIBUTING.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		texts[page] = string(text)
	}
	e := &env{program: "runcrowd", stdout: os.Stdout, stderr: os.Stderr}
	for _, c := range e.root().Commands() {
		texts["help of "+c.Name()] = c.Long + "\n" + strings.ReplaceAll(c.Example, "  runcrowd", "    runcrowd")
	}
	line := regexp.MustCompile("(?m)(?:^    |`)runcrowd ([a-z]+)([^`\n#]*)")
	n := 0
	for page, text := range texts {
		for _, m := range line.FindAllStringSubmatch(text, -1) {
			n++
			cmd, _, err := e.root().Find([]string{m[1]})
			require.NoError(t, err, "%s: %s", page, m[0])
			require.Equal(t, m[1], cmd.Name(), "%s: %s", page, m[0])
			for _, word := range strings.Fields(m[2]) {
				name, isFlag := strings.CutPrefix(word, "--")
				if !isFlag || name == "help" {
					continue
				}
				var found *pflag.Flag
				if found = cmd.Flags().Lookup(name); found == nil {
					found = e.root().PersistentFlags().Lookup(name)
				}
				assert.NotNil(t, found, "%s: %s: there is no --%s", page, m[0], name)
			}
		}
	}
	assert.Greater(t, n, 40)
}

// The first hour shows what new writes, but for the comments.
func TestTheFirstHourShowsWhatNewWrites(t *testing.T) {
	text, err := os.ReadFile("../../docs/first-hour.md")
	require.NoError(t, err)
	command := regexp.MustCompile(`(?m)^    runcrowd new (harbour) --address (\S+)$`).FindSubmatch(text)
	require.NotNil(t, command)
	block := regexp.MustCompile("(?ms)^```yaml\n(crowd: harbour\n.*?)^```").FindSubmatch(text)
	require.NotNil(t, block)
	t.Chdir(t.TempDir())
	e := &env{program: "runcrowd", stdout: io.Discard, stderr: os.Stderr}
	require.NoError(t, e.writeForLink(string(command[1]), string(command[2])))
	written, err := os.ReadFile("harbour/crowd.yaml")
	require.NoError(t, err)
	var shown, real any
	require.NoError(t, yaml.Unmarshal(block[1], &shown))
	require.NoError(t, yaml.Unmarshal(written, &real))
	assert.Equal(t, real, shown)
}

// The README shows the example that it names.
func TestTheReadmeShowsTheExample(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	named := regexp.MustCompile("(?s)This is \\[(examples/[^\\]]+)\\].*?```yaml\n(.*?)```").FindSubmatch(text)
	require.NotNil(t, named)
	file, err := os.ReadFile("../../" + string(named[1]))
	require.NoError(t, err)
	assert.Equal(t, string(file), string(named[2]))
}
