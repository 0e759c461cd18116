// Package linktest is a sink for tests of links: it remembers what became of
// messages and connections, as lines.
package linktest

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
)

// Sink implements link.Sink.
type Sink struct {
	mu    sync.Mutex
	lines []string
	sent  map[uint64]int
}

// Sent implements link.Sink.
func (s *Sink) Sent(m *link.Message, _ int64, anew bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sent == nil {
		s.sent = map[uint64]int{}
	}
	s.sent[m.Seq]++
	if anew {
		s.lines = append(s.lines, fmt.Sprintf("%d anew", m.Seq))
	}
}

// Settled implements link.Sink: "7 refused 135 not authorized".
func (s *Sink) Settled(m *link.Message, _ int64, o outcome.Outcome, code int, text string) {
	s.add(fmt.Sprintf("%d %s %d %s", m.Seq, o, code, text))
}

// Up implements link.Sink: "up", or "renewed".
func (s *Sink) Up(_ int, renewed bool) {
	if renewed {
		s.add("renewed")
	} else {
		s.add("up")
	}
}

// Down implements link.Sink: "down WHY", and behind it "; after 7 (2)".
func (s *Sink) Down(_ int, loss link.Loss) {
	line := "down " + loss.Why
	if loss.After != nil {
		line += fmt.Sprintf("; after %d (%d)", loss.After.Seq, loss.Times)
	}
	s.add(line)
}

// Remark implements link.Sink: "remark WHAT".
func (s *Sink) Remark(_ int, what string) { s.add("remark " + what) }

// Listens implements link.Sink: "listens FILTER", and why not.
func (s *Sink) Listens(_ int, filter, why string) {
	s.add(strings.TrimSpace("listens " + filter + " " + why))
}

// Came implements link.Sink: "came TOPIC BODY".
func (s *Sink) Came(_ int, in *link.Incoming) {
	s.add("came " + in.Topic + in.Path + " " + string(in.Body))
}

func (s *Sink) add(line string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lines = append(s.lines, line)
}

// All is a copy of the lines so far.
func (s *Sink) All() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.lines)
}

// Count is how often a line stands there so far.
func (s *Sink) Count(line string) (n int) {
	for _, l := range s.All() {
		if l == line {
			n++
		}
	}
	return n
}

// Sendings is how often each message was sent.
func (s *Sink) Sendings() map[uint64]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := map[uint64]int{}
	for seq, k := range s.sent {
		n[seq] = k
	}
	return n
}

// Has waits for a line.
func (s *Sink) Has(t *testing.T, line string) { s.Often(t, line, 1) }

// Often waits until a line stands there so often.
func (s *Sink) Often(t *testing.T, line string, n int) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); s.Count(line) < n; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			require.Contains(t, s.All(), line)
			require.Equal(t, n, s.Count(line), line)
		}
	}
}
