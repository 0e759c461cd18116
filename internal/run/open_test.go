//go:build unix

package run_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/run"
)

// A run that cannot begin leaves as the protocol wants it: a connection that is cut would
// make the broker publish the device's will.
func TestARunThatCannotBeginPublishesNoWill(t *testing.T) {
	for name, more := range map[string]string{"another link is refused": `, air: {mqtt: "mqtt://127.0.0.1:1"}`,
		"the run folder cannot be made": "", "a witness is refused": ""} {
		t.Run(name, func(t *testing.T) {
			b := brokertest.New(t, 5)
			out := t.TempDir()
			witness := ""
			switch name {
			case "the run folder cannot be made":
				out = filepath.Join(out, "file")
				require.NoError(t, os.WriteFile(out, nil, 0o600))
			case "a witness is refused":
				witness = `, callback: "http://192.0.2.1:9/from-platform"`
			}
			text := fmt.Sprintf(`crowd: harbour
links: {sea: {mqtt: "mqtt://%s"}%s}
kinds: {buoy: {link: sea, will: {topic: gone, body: gone}, readings: {state: {every: 1s, topic: "h/${device}", qos: 1, fields: {a: 1}}}}, drone: {link: %s, readings: {state: {every: 1s, topic: "h/${device}", qos: 1, fields: {a: 1}}}}}
devices: [{kind: buoy}, {kind: drone}]
plan: {for: 1s}
`, b.Addr(), more, map[bool]string{true: "air", false: "sea"}[more != ""])
			if witness != "" {
				text += "witnesses: {hook: {proves: received" + witness + "}}\n"
			}
			c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
			require.NoError(t, err)
			done := make(chan bool)
			go func() {
				defer close(done)
				p, connect := b.Accept(packets.Packet{})
				assert.True(t, connect.Connect.WillFlag)
				done <- p.Expect(packets.Disconnect).ReasonCode == 0
			}()
			_, err = open(t, c, run.Options{Out: out})
			require.Error(t, err)
			assert.True(t, <-done, "the will is not held back")
			left, _ := filepath.Glob(filepath.Join(out, "*"))
			assert.Empty(t, left, "%s", strings.Join(left, " "))
		})
	}
}
