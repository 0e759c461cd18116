package run

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/quantity"
)

// HandSocket is where a run that plays listens for a hand, and HandFile has what hands did, as
// events of a plan. Both are in the run folder.
const (
	HandSocket = "hand.sock"
	HandFile   = "by-hand.yaml"
)

// What a hand may want.
const (
	HandEvent  = "event"
	HandPause  = "pause"
	HandResume = "resume"
	HandEnd    = "end"
	HandStatus = "status"
)

// HandRequest is one line of JSON that a hand sends.
type HandRequest struct {
	Want  string `json:"want"`
	Event string `json:"event,omitempty"` // an event as in a plan, without a time
}

// HandAnswer is the line that comes back.
type HandAnswer struct {
	Error  string          `json:"error,omitempty"`
	Run    string          `json:"run"`
	Crowd  string          `json:"crowd"`
	Event  string          `json:"event,omitempty"` // how the report calls it
	Done   []engine.Handed `json:"done,omitempty"`
	Status *Progress       `json:"status,omitempty"`
}

// mostHandLine bounds a request, in bytes.
const mostHandLine = 64 << 10

// hand serves hands while a run plays.
type hand struct {
	session  *Session
	listener net.Listener
	conns    sync.WaitGroup

	mu sync.Mutex // one after the other
	n  int

	openMu sync.Mutex
	open   map[net.Conn]bool // nil: no more are taken
}

// socketPath is a path to a socket that is short enough for the system: 108 bytes on Linux.
// The folder is kept open until release is called.
func socketPath(folder string) (path string, release func(), err error) {
	path = filepath.Join(folder, HandSocket)
	if len(path) < 100 {
		return path, func() {}, nil
	}
	d, err := os.Open(folder)
	if err != nil {
		return "", nil, err
	}
	path = fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), HandSocket)
	if _, err := os.Stat(filepath.Dir(path)); err != nil {
		d.Close()
		return "", nil, fmt.Errorf("the path of the run folder is too long for a socket (%d bytes)", len(folder))
	}
	return path, func() { d.Close() }, nil
}

// OpenHand lets hands act on the run from other processes, until what it returns is called: that
// is before the run folder is judged. Where that cannot be, it is told, and the run plays.
func (s *Session) OpenHand() (closeIt func()) {
	h := &hand{session: s, open: map[net.Conn]bool{}}
	s.mu.Lock()
	s.hand = h
	s.mu.Unlock()
	if s.opt.Resume != "" { // that of a process that was killed: the ledger is ours now
		os.Remove(filepath.Join(s.Folder, HandSocket))
	}
	path, release, err := socketPath(s.Folder)
	if err == nil {
		if h.listener, err = net.Listen("unix", path); err != nil {
			release()
			if inner := errors.Unwrap(err); inner != nil {
				err = inner
			}
		}
	}
	if err != nil {
		s.note("nobody can act on this run from another terminal: %s", err)
		return func() {}
	}
	os.Chmod(path, 0o600)
	h.conns.Go(h.serve)
	return func() {
		h.listener.Close()
		h.hangUp()
		h.conns.Wait()
		release()
		os.Remove(filepath.Join(s.Folder, HandSocket))
	}
}

func (h *hand) serve() {
	for {
		c, err := h.listener.Accept()
		if err != nil {
			return
		}
		if !h.keep(c) {
			c.Close()
			continue
		}
		h.conns.Go(func() {
			defer h.leave(c)
			c.SetDeadline(time.Now().Add(20 * time.Second))
			line, err := bufio.NewReader(io.LimitReader(c, mostHandLine)).ReadBytes('\n')
			var q HandRequest
			a := HandAnswer{Error: "this is no request"}
			if err == nil && json.Unmarshal(line, &q) == nil {
				a = h.do(&q)
			}
			b, _ := json.Marshal(a)
			c.Write(append(b, '\n'))
		})
	}
}

// mostHands bounds how many hands are heard at once.
const mostHands = 64

func (h *hand) keep(c net.Conn) bool {
	h.openMu.Lock()
	defer h.openMu.Unlock()
	if h.open == nil || len(h.open) >= mostHands {
		return false
	}
	h.open[c] = true
	return true
}

func (h *hand) leave(c net.Conn) {
	h.openMu.Lock()
	defer h.openMu.Unlock()
	delete(h.open, c)
	c.Close()
}

// hangUp lets nobody hold up the end of the run: who says nothing is not waited for.
func (h *hand) hangUp() {
	h.openMu.Lock()
	defer h.openMu.Unlock()
	for c := range h.open {
		c.SetReadDeadline(time.Now())
	}
	h.open = nil
}

// Hand does what a hand wants of the run.
func (s *Session) Hand(q *HandRequest) HandAnswer {
	s.mu.Lock()
	h := s.hand
	s.mu.Unlock()
	if h == nil {
		return HandAnswer{Run: s.ID, Crowd: s.crowd.Name, Error: engine.ErrNotPlaying.Error()}
	}
	return h.do(q)
}

func (h *hand) do(q *HandRequest) HandAnswer {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.session
	a := HandAnswer{Run: s.ID, Crowd: s.crowd.Name}
	fail := func(is bool, why string) {
		if !is {
			a.Error = why
		}
	}
	switch q.Want {
	case HandPause:
		fail(s.engine.Pause(), "it is paused already, or no round is being played just now")
	case HandResume:
		fail(s.engine.Resume(), "it is not paused")
	case HandEnd:
		fail(s.engine.End(), engine.ErrNotPlaying.Error())
	case HandStatus:
	case HandEvent:
		h.event(q.Event, &a)
	default:
		a.Error = fmt.Sprintf("nobody knows %q here", q.Want)
	}
	p := s.Progress()
	a.Status = &p
	return a
}

// event does an event.
func (h *hand) event(text string, a *HandAnswer) {
	s := h.session
	label := fmt.Sprintf("by hand %d", h.n+1)
	if strings.ContainsAny(text, "\n\r") || !strings.HasPrefix(text, "{") {
		a.Error = "an event is one line: {who: …, do: {…}}"
		return
	}
	ev, err := file.ParseEvent(s.crowd, text, label)
	if err != nil {
		a.Error = s.crowd.Redact(err.Error())
		return
	}
	h.n++
	a.Event = label
	if a.Done, err = s.engine.Hand(ev, fmt.Sprint(s.ID, " ", label)); err != nil {
		a.Error = s.crowd.Redact(err.Error())
	}
	if len(a.Done) > 0 {
		line := fmt.Sprintf("- {name: by-hand-%d, at: %s, %s\n", h.n, quantity.FormatDuration(ev.At.Round(time.Millisecond)),
			strings.TrimPrefix(strings.TrimSpace(s.crowd.Redact(text)), "{"))
		f, err := os.OpenFile(filepath.Join(s.Folder, HandFile), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		if err == nil {
			_, err = f.WriteString(line)
			if e := f.Close(); err == nil {
				err = e
			}
		}
		if err != nil {
			s.note("what was done by hand could not be written down: %s", err)
		}
	}
}

// ErrNobodyPlays is the error where a run folder is there, and nobody plays it.
var ErrNobodyPlays = errors.New("nobody plays this run")

// ByHand acts on a run that another process plays.
func ByHand(ctx context.Context, folder string, q *HandRequest) (*HandAnswer, error) {
	path, release, err := socketPath(folder)
	if err != nil {
		return nil, err
	}
	defer release()
	var d net.Dialer
	c, err := d.DialContext(ctx, "unix", path)
	if err != nil {
		return nil, ErrNobodyPlays
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	b, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	if _, err := c.Write(append(b, '\n')); err != nil {
		return nil, ErrNobodyPlays
	}
	line, err := bufio.NewReader(c).ReadBytes('\n')
	a := new(HandAnswer)
	if err != nil || json.Unmarshal(line, a) != nil {
		return nil, errors.New("the run did not answer: it may just have ended")
	}
	return a, nil
}

// PlayedNow lists the run folders in a folder that somebody plays, the newest first.
func PlayedNow(dir string) (list []string) {
	entries, _ := os.ReadDir(dir)
	var folders []string
	for i := len(entries) - 1; i >= 0; i-- {
		folder := filepath.Join(dir, entries[i].Name())
		folders = append(append(folders, folder), Parts(folder)...)
	}
	for _, folder := range folders {
		if info, err := os.Lstat(filepath.Join(folder, HandSocket)); err != nil || info.Mode()&os.ModeSocket == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if _, err := ByHand(ctx, folder, &HandRequest{Want: HandStatus}); err == nil {
			list = append(list, folder)
		}
		cancel()
	}
	return list
}
