package report_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/report"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

func judge(b *ledger.Book) *tally.Result {
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), tally.Options{}).Judge()
	if err != nil {
		panic(err)
	}
	return r
}

// asked is a run in which devices were asked this and that.
func asked() *report.Input {
	at := func(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }
	answer := func(how ledger.How, o outcome.Outcome, after int, text string) *ledger.Answer {
		return &ledger.Answer{How: how, Outcome: o, Sent: at(after), At: at(after + 1), Text: text}
	}
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Crowd: "harbour", Start: start, Ended: true,
		Rounds:  []ledger.Round{{N: 1}},
		Streams: []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state"}},
		Links:   ledger.Links{Renewed: 2, NotHearing: map[string]int{"ask/buoy-2: not authorized (0x87)": 1}}},
		Commands: []ledger.Command{
			{Number: 1, Device: "buoy-1", Name: "set-rate", At: start, Done: true,
				Answer: answer(ledger.Right, outcome.Accepted, 20, "")},
			{Number: 2, Device: "buoy-1", Name: "set-rate", At: start, Done: true,
				Answer: answer(ledger.Wrong, outcome.NotAsked, 40, "")},
			{Number: 3, Device: "buoy-1", Name: "set-rate", At: start, Done: true, Answer: &ledger.Answer{How: ledger.Never}},
			{Number: 4, Device: "buoy-1", Name: "set-rate", At: start, Why: "every: too fast",
				Answer: answer(ledger.Right, outcome.Refused, 30, "PUBACK not authorized (0x87)")},
			{Number: 5, Device: "buoy-1", Topic: "ask/buoy-1", Body: []byte("{\n\"name\": \"dance\"}"), At: start,
				Why: "no command of the kind matches"},
			{Number: 6, Device: "buoy-1", Name: "note", At: start, Done: true},
		}}
	r := judge(b)
	return &report.Input{Folder: "runs/x", Result: r}
}

func TestCommandsInTheText(t *testing.T) {
	text := report.Text(asked(), report.Style{})
	_, section, found := strings.Cut(text, "  Access tokens")
	require.True(t, found, text)
	section, _, _ = strings.Cut(section, "\nRequirements")
	assert.Equal(t, ` were renewed 2 times.

  Devices could not listen for commands:
      1  ask/buoy-2: not authorized (0x87)

Commands to the devices (wrongly and silent: on purpose, as the file says)
  command      came  obeyed  answered  wrongly  silent  answer after p50  worst  answer not taken
  -------------------------------------------------------------------------------------------------
  set-rate        4       3         2        1       1              20ms   40ms                 1
  (not known)     1       -         -        -       -                 -      -                 -
  note            1       1         -        -       -                 -      -                 -
  buoy-1 set-rate at 03:04:05.000: not obeyed: every: too fast; its answer: refused: PUBACK not authorized (0x87)
  buoy-1 ask/buoy-1 { "name": "dance"} at 03:04:05.000: no command of the kind matches
`, section)
}

func TestCommandsInTheDocument(t *testing.T) {
	text, err := report.JSON(asked())
	require.NoError(t, err)
	var doc struct {
		Renewed  int              `json:"access_tokens_renewed"`
		Commands []map[string]any `json:"commands"`
		Mishaps  []map[string]any `json:"commands_not_obeyed_or_answered"`
		NotHeard map[string]int   `json:"commands_not_heard_why"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	assert.Equal(t, 2, doc.Renewed)
	assert.Equal(t, map[string]int{"ask/buoy-2: not authorized (0x87)": 1}, doc.NotHeard)
	require.Len(t, doc.Commands, 3)
	delays := doc.Commands[0]["answered_after_ms"]
	delete(doc.Commands[0], "answered_after_ms")
	assert.Equal(t, map[string]any{"command": "set-rate", "came": 4.0, "obeyed": 3.0, "answered": 2.0, "wrongly": 1.0,
		"silent": 1.0, "answers_not_taken": 1.0}, doc.Commands[0])
	assert.Equal(t, map[string]any{"messages": 2.0, "p50": 20.0, "p90": 40.0, "p99": 40.0, "worst": 40.0}, delays)
	require.Len(t, doc.Mishaps, 2)
	assert.Equal(t, "no command of the kind matches", doc.Mishaps[1]["why"])
}
