package ask

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// program is a source that is a program of the user's: it prints a JSON object a line.
type program struct {
	spec    *crowd.Witness
	catalog *match.Catalog
	pace    *rate.Limiter
}

func newProgram(spec *crowd.Witness, c *match.Catalog) *program {
	return &program{spec, c, limiter(spec)}
}

// Start implements Source: a program that is not there is told before anything is sent.
func (p *program) Start(ctx hearing.Context, d *fleet.Device) error {
	now := clock.Now()
	words, err := p.words(Question{Device: d, From: now, To: now})
	if err == nil {
		_, err = p.path(words[0])
	}
	if err != nil {
		return fmt.Errorf("the witness %q: program: %w", p.spec.Name, err)
	}
	return nil
}

// path finds a program: by its name as a shell does, or from the folder of the crowd file.
func (p *program) path(name string) (string, error) {
	if strings.ContainsRune(name, '/') && !filepath.IsAbs(name) {
		name = filepath.Join(p.catalog.Folder, name)
		if abs, err := filepath.Abs(name); err == nil {
			name = abs
		}
	}
	path, err := exec.LookPath(name)
	if err != nil {
		var e *exec.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		return "", fmt.Errorf("%s cannot be run: %w", name, err)
	}
	return path, nil
}

func (p *program) words(q Question) ([]string, error) {
	env := formula.Env{}
	for k, v := range q.Device.Env {
		env[k] = v
	}
	env["from"], env["to"] = q.From.UTC(), q.To.UTC()
	var list []string
	for _, t := range p.spec.Words[q.Device.Cast] {
		s, err := t.Expand(&formula.Machine{}, env)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, nil
}

// Ask implements Source.
func (p *program) Ask(ctx hearing.Context, q Question) (int, error) {
	if err := p.pace.Wait(ctx); err != nil {
		return 0, contextDone(ctx)
	}
	q.Cursor.Turn()
	return 1, p.run(ctx, q)
}

// contextDone is the error of what had no room before the deadline.
func contextDone(ctx hearing.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return context.DeadlineExceeded
}

// run runs the program once.
func (p *program) run(ctx hearing.Context, q Question) error {
	words, err := p.words(q)
	if err != nil {
		return err
	}
	path, err := p.path(words[0])
	if err != nil {
		return err
	}
	running, cancel := context.WithTimeoutCause(ctx, p.spec.Timeout, errSlowProgram)
	defer cancel()
	cmd := exec.CommandContext(running, path, words[1:]...)
	cmd.Dir = p.catalog.Folder
	alone(cmd)
	cmd.WaitDelay = time.Second // somebody it started may hold its output
	said := &tail{}
	cmd.Stderr = said
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%s cannot be run: %w", words[0], err)
	}
	wrong := p.lines(io.LimitReader(out, p.spec.MaxAnswer+1), words[0], q.Cursor)
	if wrong != nil {
		cancel() // nobody reads on
	}
	err = cmd.Wait()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case wrong != nil:
		return wrong
	case errors.Is(context.Cause(running), errSlowProgram):
		return fmt.Errorf("%s did not end within %s; raise timeout%s", words[0], quantity.FormatDuration(p.spec.Timeout),
			said.told())
	case err != nil:
		return fmt.Errorf("%s failed: %w%s", words[0], err, said.told())
	}
	return nil
}

var errSlowProgram = errors.New("the program is slow")

// lines reads what a program prints.
func (p *program) lines(r io.Reader, name string, on *Cursor) error {
	in, total := bufio.NewReader(r), int64(0)
	for n := 1; ; n++ {
		line, err := in.ReadSlice('\n')
		long := append([]byte(nil), line...)
		for err == bufio.ErrBufferFull && int64(len(long)) <= p.spec.MaxRow {
			line, err = in.ReadSlice('\n')
			long = append(long, line...)
		}
		total += int64(len(long))
		text := bytes.TrimSpace(long)
		switch {
		case int64(len(long)) > p.spec.MaxRow:
			return fmt.Errorf("%s prints a line longer than max_row, %s; raise it", name, quantity.FormatSize(p.spec.MaxRow))
		case total > p.spec.MaxAnswer:
			return fmt.Errorf("%s prints more than max_answer, %s; let it print less, or raise it", name,
				quantity.FormatSize(p.spec.MaxAnswer))
		case err != nil && err != io.EOF:
			return nil // it was ended; why is told by that
		case len(text) == 0:
		default:
			row, wrong := strictjson.Decode(text)
			if _, is := row.(map[string]any); wrong == nil && !is {
				wrong = errors.New("it is no object")
			}
			if wrong != nil {
				return fmt.Errorf("%s prints what is no JSON object on line %d (%w): %s", name, n, wrong,
					match.Clip(strings.ToValidUTF8(string(text), "?")))
			}
			on.Row(row)
		}
		if err == io.EOF {
			return nil
		}
	}
}

// tail keeps the end of what a program says on its standard error.
type tail struct {
	mu sync.Mutex
	b  []byte
}

// Write implements io.Writer.
func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.b = append(t.b, b...)
	t.b = append(t.b[:0], t.b[max(0, len(t.b)-1000):]...)
	return len(b), nil
}

func (t *tail) told() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := strings.Join(strings.Fields(strings.ToValidUTF8(string(t.b), "?")), " ")
	if s == "" {
		return ""
	}
	if r := []rune(s); len(r) > 300 {
		s = "…" + string(r[len(r)-300:])
	}
	return "; it says" + foreign.Said(s)
}

// Offset implements Source.
func (p *program) Offset() (*ledger.Offset, bool) { return nil, false }

// Stop implements Source.
func (p *program) Stop() {}
