//go:build unix

package run_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// Every whole crowd file in the documents is played against the stand-in, and proven.
func TestFilesInDocuments(t *testing.T) {
	t.Parallel()
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	block := regexp.MustCompile("(?ms)^```yaml\n(crowd: .*?)^```")
	length := regexp.MustCompile(`plan: \{for: \d+[sm]\}`)
	files := 0
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range block.FindAllStringSubmatch(string(text), -1) {
			files++
			t.Run(fmt.Sprint(filepath.Base(page), files), func(t *testing.T) {
				fewer(t)
				t.Parallel()
				hook := "127.0.0.1:" + freePort(t)
				s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0",
					Hook:  "http://" + hook + "/from-platform",
					Rules: []standin.Rule{{Name: "low-battery", Field: "battery_v", Below: true, Limit: 11, Release: 11.5}}})
				require.NoError(t, err)
				t.Cleanup(s.Close)
				played := strings.NewReplacer("mqtts://broker.example:8883", "mqtt://"+s.MQTTAddr,
					"127.0.0.1:1883", s.MQTTAddr, "127.0.0.1:8080", s.HTTPAddr, "127.0.0.1:9099",
					hook).Replace(length.ReplaceAllString(m[1], "plan: {for: 3s}"))
				c, err := file.Parse(page, []byte(played), file.Sources{})
				require.NoError(t, err, played)
				for _, l := range c.Links { // a busy machine answers late
					l.Timeout = time.Minute
				}
				for _, w := range c.Witnesses {
					if !w.Hears { // for alerts it waits as long as it may
						w.Wait = time.Minute
					}
				}
				session, err := open(t, c, run.Options{Out: t.TempDir()})
				require.NoError(t, err)
				require.NoError(t, session.Play(context.Background()))
				result, err := run.Judge(session.Folder, run.Judging{})
				require.NoError(t, err)
				assert.Positive(t, result.Total.Due())
				assert.Equal(t, result.Total.Due(), result.Total[verdict.Proven], "%s: %+v %+v\n%s", page, result.Witnesses,
					result.Findings, played)
				for _, n := range result.Alerts {
					assert.True(t, n.Exact(), "%s: %+v", page, result.AlertFindings)
					assert.Equal(t, 3, n.Called)
				}
			})
		}
	}
	assert.GreaterOrEqual(t, files, 4)
}
