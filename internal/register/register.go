// Package register makes the devices of a crowd known to a platform, and removes
// them again. What it made is written down at once, in a file that its owner alone
// can read: a registration that was cut short goes on where it stopped, and a
// unregistration touches nothing that was not made here.
package register

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/link"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/wholefile"
)

// Bounds of a registration.
const (
	atOnce    = 8
	tries     = 4 // of one request
	maxAnswer = 16 << 20
	maxPages  = 100_000
	timeout   = 15 * time.Second
)

// Failure is a device with which it did not work.
type Failure struct {
	Device string
	Why    string
}

// Result is what became of the devices.
type Result struct {
	Done    []string // registered, or removed, now
	Already []string // registered by an earlier registration
	Failed  []Failure
	Skipped []string // not tried any more, because it was interrupted
}

// Comparison is whom the platform knows, against whom the crowd has.
type Comparison struct {
	Known   []string // of the crowd
	Missing []string // of the crowd, and not known
	Surplus []string // known, and not of the crowd
	Hint    string   // what a mistyped prefix looks like
}

// Registrar registers and unregisters.
type Registrar struct {
	Crowd  *crowd.Crowd
	Fleet  *fleet.Fleet
	client *http.Client
	own    credential.Guest // of the link, for requests that bring none
	pace   *rate.Limiter
	// Adopt takes devices that the platform knows, and that were not registered here, for
	// ours.
	Adopt bool

	mu     sync.Mutex
	result Result
}

// New makes a registrar; nothing is asked yet. A nil network is the usual one.
func New(f *fleet.Fleet, network link.Network) (*Registrar, error) {
	en := f.Crowd.Register
	own, err := f.Credentials.Guest(en.Link, "register")
	if err != nil {
		return nil, fmt.Errorf("register: link: the credentials of %q are those of single devices (%w); give the "+
			"registration a link of its own", en.Link.Name, err)
	}
	way := link.Transport(credential.TLS(en.Link), own.Cert, network)
	way.MaxIdleConnsPerHost = atOnce
	return &Registrar{Crowd: f.Crowd, Fleet: f, own: own, pace: rate.NewLimiter(rate.Limit(en.Pace), 1),
		client: &http.Client{Timeout: timeout, CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}, Transport: way}}, nil
}

// Register makes those devices known that are not. See, if not nil, is told of each.
func (o *Registrar) Register(ctx context.Context, see func(device string, err error)) (*Result, error) {
	unlock, err := o.alone()
	if err != nil {
		return nil, err
	}
	defer unlock()
	listed := o.Crowd.Register.List != nil
	made := func(d *fleet.Device) bool {
		e := o.Crowd.Registered[d.Name]
		return e.Made != nil && e.Removed == nil
	}
	// A list may lag behind what was done: what was made is not made again for that.
	known, err := o.listUntil(ctx, func(known map[string]bool) bool {
		return !slices.ContainsFunc(o.Fleet.Devices, func(d *fleet.Device) bool { return made(d) && !known[d.Name] })
	})
	if err != nil {
		return nil, err
	}
	var todo, adopted []*fleet.Device
	for _, d := range o.Fleet.Devices {
		entry, begun := o.Crowd.Registered[d.Name]
		switch {
		case made(d) && listed && !known[d.Name]:
			o.fail(d, "it was registered at "+entry.Made.Format(time.RFC3339)+", but the platform does not list it; it was "+
				"not registered a second time. If the platform forgot it, unregister it, and register it again")
		case made(d) && o.lacks(entry) != "":
			o.fail(d, "it was registered, but the answer had no "+o.lacks(entry)+"; unregister the device, and register it "+
				"again")
		case made(d):
			o.result.Already = append(o.result.Already, d.Name)
		case known[d.Name] && begun && entry.Steps > 0:
			todo = append(todo, d)
		case known[d.Name] && (begun || o.Adopt):
			adopted = append(adopted, d)
		case known[d.Name]:
			o.fail(d, "exists already and was not registered by this crowd; left unchanged. Remove it by hand, give the "+
				"device another name, or take it for yours with --adopt")
		default:
			todo = append(todo, d)
		}
	}
	if _, err := o.each(ctx, adopted, see, o.adopt); err != nil {
		return &o.result, err
	}
	return o.each(ctx, todo, see, o.register)
}

// fail notes that it did not work with a device.
func (o *Registrar) fail(d *fleet.Device, why string) {
	o.result.Failed = append(o.result.Failed, Failure{d.Name, why})
}

// adopt takes a device that the platform knows for one that was registered here.
func (o *Registrar) adopt(_ context.Context, d *fleet.Device, note func(crowd.Registered) error) error {
	now := time.Now().UTC()
	entry := crowd.Registered{Device: d.Name, Made: &now, Kept: o.Crowd.Registered[d.Name].Kept}
	if err := note(entry); err != nil {
		return err
	}
	if lacks := o.lacks(entry); lacks != "" {
		return errors.New("the platform knows it, but the answer that had its " + lacks + " is not known here; unregister " +
			"the device, and register it again")
	}
	return nil
}

// listUntil asks whom the platform knows until the answer is good, as long as the file
// allows; where the file has no list, nobody is known.
func (o *Registrar) listUntil(ctx context.Context, good func(map[string]bool) bool) (map[string]bool, error) {
	if o.Crowd.Register.List == nil {
		return nil, nil
	}
	deadline := time.Now().Add(o.Crowd.Register.Wait)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		names, err := o.list(ctx)
		if err != nil {
			return nil, err
		}
		known := make(map[string]bool, len(names))
		for _, n := range names {
			known[n] = true
		}
		left := time.Until(deadline)
		if good(known) || left <= 0 {
			return known, nil
		}
		select {
		case <-ctx.Done():
			return known, nil
		case <-time.After(min(pause, left)):
		}
	}
}

// lacks is what a registered device has not, of what was to be kept; or "".
func (o *Registrar) lacks(e crowd.Registered) string {
	for _, k := range o.Crowd.Register.Save {
		if e.Kept[k.Name] == "" {
			return k.Name
		}
	}
	return ""
}

// register makes one device known. Each answer is written down before the next request
// is made: what was begun goes on behind it.
func (o *Registrar) register(ctx context.Context, d *fleet.Device, note func(crowd.Registered) error) error {
	entry := crowd.Registered{Device: d.Name, Kept: map[string]string{}}
	if begun := o.Crowd.Registered[d.Name]; begun.Made == nil {
		entry.Steps = begun.Steps
		maps.Copy(entry.Kept, begun.Kept)
	}
	for _, k := range o.Crowd.Register.Save {
		if _, has := entry.Kept[k.Name]; !has && k.Request < entry.Steps {
			return fmt.Errorf("its registration was begun, but the answer to request %d had no %s, which later requests need; "+
				"unregister the device, and register it again", k.Request+1, k.Name)
		}
	}
	requests := o.Crowd.Register.Requests
	env := maps.Clone(d.Env)
	before, begun := o.Crowd.Registered[d.Name]
	if entry.Steps == 0 { // an answer that is cut off must not leave a device that nobody owns
		now := time.Now().UTC()
		asked := before // what it had stays, until the answer brings more
		asked.Device, asked.Asked = d.Name, &now
		if err := note(asked); err != nil {
			return err
		}
	}
	for i := entry.Steps; i < len(requests); i++ {
		for name, v := range entry.Kept {
			env[name] = v
		}
		answer, err := o.request(ctx, requests[i], d, env)
		if no, is := errors.AsType[*refusal](err); is && i == 0 && no.status >= 400 && no.status < 500 {
			switch {
			case no.status == http.StatusConflict && o.Adopt:
				return o.adopt(ctx, d, note)
			case !begun: // nothing was made
				err = cmp.Or(note(gone(d.Name)), err)
			case before.Asked == nil: // it is as it was
				before.Device = d.Name
				err = cmp.Or(note(before), err)
			case no.status == http.StatusConflict:
				err = fmt.Errorf("%w; an earlier request for it was not answered, and may have made it: take it for yours with "+
					"--adopt, or unregister it with --adopt", err)
			}
		}
		if err == nil {
			err = o.keep(answer, i, entry.Kept)
			if entry.Steps = i + 1; entry.Steps == len(requests) {
				now := time.Now().UTC()
				entry.Made, entry.Steps = &now, 0
			}
			if err := note(entry); err != nil {
				return err
			}
		}
		if err != nil {
			if len(requests) > 1 {
				err = fmt.Errorf("request %d: %w", i+1, err)
			}
			return err
		}
	}
	return nil
}

// Unregister removes the devices that were made here, and proves that they are gone
// where the platform tells whom it knows.
func (o *Registrar) Unregister(ctx context.Context, see func(device string, err error)) (*Result, error) {
	if o.Crowd.Register.Unregister == nil {
		return nil, errors.New("the file does not say how a device is removed; write, for example, register: {unregister: " +
			"{url: \"http://HOST/devices/${device}\"}}")
	}
	unlock, err := o.alone()
	if err != nil {
		return nil, err
	}
	defer unlock()
	before, err := o.listUntil(ctx, func(map[string]bool) bool { return true })
	if err != nil {
		return nil, fmt.Errorf("nothing was removed: %w", err)
	}
	listed := before != nil
	var todo []*fleet.Device
	for _, d := range o.Fleet.Devices {
		entry, begun := o.Crowd.Registered[d.Name]
		switch {
		case !begun:
		case entry.Asked != nil && entry.Made == nil && !before[d.Name] && !o.Adopt: // it may be another's
			o.fail(d, "its registration was not answered, and whether it exists is not known; --adopt removes it all the same")
		default:
			todo = append(todo, d)
		}
	}
	var mu sync.Mutex
	absent := map[string]bool{} // says the platform
	res, err := o.each(ctx, todo, see, func(ctx context.Context, d *fleet.Device,
		note func(crowd.Registered) error) error {
		none, err := o.remove(ctx, d)
		if err != nil {
			return err
		}
		mu.Lock()
		absent[d.Name] = none
		mu.Unlock()
		if listed || none {
			return nil
		}
		return note(gone(d.Name))
	})
	if err != nil || len(res.Done) == 0 {
		return res, err
	}
	removed := res.Done
	// Also when interrupted: what was removed is proven, or it is named.
	after, err := o.listUntil(context.WithoutCancel(ctx), func(known map[string]bool) bool {
		return !slices.ContainsFunc(removed, func(d string) bool { return known[d] })
	})
	res.Done = nil
	if err != nil {
		for _, d := range removed {
			res.Failed = append(res.Failed, Failure{d, "the platform agreed to remove it, but it could not be checked that it " +
				"is gone"})
		}
		return res, fmt.Errorf("it could not be checked that the devices are gone: %w", err)
	}
	var proven, unknown []*fleet.Device
	shown := false
	for _, d := range todo {
		none, is := absent[d.Name]
		switch {
		case !is:
		case !listed && !none:
			shown = true
			res.Done = append(res.Done, d.Name)
		case before[d.Name] && !after[d.Name]:
			shown = true
			proven = append(proven, d)
		case after[d.Name]:
			o.fail(d, "the platform agreed to remove it, but still lists it")
		case !none:
			o.fail(d, "the platform agreed to remove it, but its list did not show it before either, and proves nothing; "+
				"check register: list: names")
		default:
			unknown = append(unknown, d)
		}
	}
	// That the platform has no such device is believed where it knew others: the address may
	// be a wrong one.
	if shown {
		proven, unknown = append(proven, unknown...), nil
	}
	for _, d := range unknown {
		o.fail(d, "the platform says that it has no such device, as of all the others; check register: unregister: url. If "+
			"they are gone indeed, remove "+o.Crowd.RegisteredFile())
	}
	// What is proven gone is forgotten; the rest stays, and can be removed again.
	return o.each(context.WithoutCancel(ctx), proven, nil, func(_ context.Context, d *fleet.Device,
		note func(crowd.Registered) error) error {
		return note(gone(d.Name))
	})
}

// gone says that a device is not there any more.
func gone(device string) crowd.Registered {
	now := time.Now().UTC()
	return crowd.Registered{Device: device, Gone: &now}
}

// remove asks the platform to remove a device; none tells that it says it has no such device.
func (o *Registrar) remove(ctx context.Context, d *fleet.Device) (none bool, err error) {
	env := maps.Clone(d.Env)
	for name, v := range o.Crowd.Registered[d.Name].Kept {
		env[name] = v
	}
	_, err = o.request(ctx, o.Crowd.Register.Unregister, d, env)
	if no, is := errors.AsType[*refusal](err); is && (no.status == http.StatusNotFound || no.status == http.StatusGone) {
		return true, nil
	}
	return false, err
}

// RegisterOne makes one device known, whatever is known of it, and tells what the platform
// gave it.
func (o *Registrar) RegisterOne(ctx context.Context, d *fleet.Device) (kept map[string]string, err error) {
	unlock, err := o.alone()
	if err != nil {
		return nil, err
	}
	defer unlock()
	failed := error(nil)
	_, err = o.each(ctx, []*fleet.Device{d}, nil, func(ctx context.Context, d *fleet.Device,
		note func(crowd.Registered) error) error {
		failed = o.register(ctx, d, func(e crowd.Registered) error { kept = maps.Clone(e.Kept); return note(e) })
		return failed
	})
	return kept, cmp.Or(err, failed)
}

// UnregisterOne removes one device.
func (o *Registrar) UnregisterOne(ctx context.Context, d *fleet.Device) error {
	unlock, err := o.alone()
	if err != nil {
		return err
	}
	defer unlock()
	failed := error(nil)
	_, err = o.each(ctx, []*fleet.Device{d}, nil, func(ctx context.Context, d *fleet.Device,
		note func(crowd.Registered) error) error {
		none := false
		if none, failed = o.remove(ctx, d); failed != nil {
			return failed
		}
		if none {
			failed = errors.New("the platform says that it has no such device; check register: unregister: url")
			return failed
		}
		if o.Crowd.Register.List == nil {
			return note(gone(d.Name))
		}
		now := time.Now().UTC() // that it is gone is proven by unregister
		entry := o.Crowd.Registered[d.Name]
		entry.Device, entry.Removed = d.Name, &now
		return note(entry)
	})
	return cmp.Or(err, failed)
}

// Forgotten are devices that were made here and are no longer in the crowd file.
func (o *Registrar) Forgotten() []string {
	of := map[string]bool{}
	for _, d := range o.Fleet.Devices {
		of[d.Name] = true
	}
	var list []string
	for name := range o.Crowd.Registered {
		if !of[name] {
			list = append(list, name)
		}
	}
	sort.Strings(list)
	return list
}

// Compare asks the platform whom it knows.
func (o *Registrar) Compare(ctx context.Context) (*Comparison, error) {
	if o.Crowd.Register.List == nil {
		return nil, errors.New("the file does not say how the platform lists its devices; write, for example, register: " +
			"{list: {get: \"http://HOST/devices\", names: \".devices[].name\"}}")
	}
	names, err := o.list(ctx)
	if err != nil {
		return nil, err
	}
	there, ours := map[string]bool{}, map[string]bool{}
	for _, n := range names {
		there[n] = true
	}
	c := &Comparison{}
	for _, d := range o.Fleet.Devices {
		ours[d.Name] = true
		if there[d.Name] {
			c.Known = append(c.Known, d.Name)
		} else {
			c.Missing = append(c.Missing, d.Name)
		}
	}
	for n := range there {
		if !ours[n] {
			c.Surplus = append(c.Surplus, n)
		}
	}
	sort.Strings(c.Surplus)
	// A prefix that is mistyped makes all of one side miss and all of the other surplus.
	if len(c.Missing) > 0 && len(c.Surplus) > 0 {
		if near := formula.Nearest(c.Missing[0], c.Surplus); near != "" {
			c.Hint = fmt.Sprintf("the crowd has %s, the platform %s: is one of them mistyped?", c.Missing[0], near)
		}
	}
	return c, nil
}

// storeError says that what was done could not be written down: nothing more is done.
type storeError struct{ error }

// alone locks the file of what is registered, which the caller unlocks: one process at a
// time, as the file is written anew when devices are unregistered.
func (o *Registrar) alone() (unlock func() error, err error) {
	lock := flock.New(o.Crowd.RegisteredFile() + ".lock")
	mine, err := lock.TryLock()
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s cannot be written, and nothing was changed: %w", o.Crowd.RegisteredFile(), err)
	case !mine:
		return nil, fmt.Errorf("another process registers or unregisters devices of this crowd just now (%s is locked); "+
			"nothing was changed", o.Crowd.RegisteredFile())
	}
	return lock.Unlock, nil
}

// each does a step for some devices, at the file's pace; what it notes is written down.
func (o *Registrar) each(ctx context.Context, todo []*fleet.Device, see func(string, error),
	do func(context.Context, *fleet.Device, func(crowd.Registered) error) error) (*Result, error) {
	if len(todo) == 0 {
		return &o.result, nil
	}
	file, err := os.OpenFile(o.Crowd.RegisteredFile(), os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600)
	if err == nil {
		err = file.Chmod(0o600) // it may be older, and others could read it
	}
	if err == nil {
		err = endLine(file)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be written, and nothing was changed: %w", o.Crowd.RegisteredFile(), err)
	}
	defer file.Close()
	note := func(entry crowd.Registered) error {
		line, _ := json.Marshal(entry) // texts and times always marshal
		o.mu.Lock()
		defer o.mu.Unlock()
		if _, err := file.Write(append(line, '\n')); err != nil {
			return &storeError{fmt.Errorf("%s cannot be written: %w; %s is registered with the platform now",
				o.Crowd.RegisteredFile(), err, entry.Device)}
		}
		return nil
	}
	var g errgroup.Group
	g.SetLimit(atOnce)
	for _, d := range todo {
		if o.pace.Wait(ctx) != nil {
			o.mu.Lock()
			o.result.Skipped = append(o.result.Skipped, d.Name)
			o.mu.Unlock()
			continue
		}
		g.Go(func() error {
			err := do(ctx, d, note)
			if store, is := errors.AsType[*storeError](err); is {
				return store
			}
			o.mu.Lock()
			defer o.mu.Unlock()
			if err != nil {
				o.result.Failed = append(o.result.Failed, Failure{d.Name, o.Crowd.Redact(err.Error())})
			} else {
				o.result.Done = append(o.result.Done, d.Name)
			}
			if see != nil {
				see(d.Name, err)
			}
			return nil
		})
	}
	err = g.Wait()
	if tidyErr := tidy(o.Crowd.RegisteredFile()); err == nil && tidyErr != nil {
		err = fmt.Errorf("%s still holds what devices had that are unregistered: %w", o.Crowd.RegisteredFile(), tidyErr)
	}
	sort.Strings(o.result.Done)
	sort.Slice(o.result.Failed, func(i, j int) bool { return o.result.Failed[i].Device < o.result.Failed[j].Device })
	return &o.result, err
}

// tidy takes the entries of devices that are unregistered out of the file: their tokens are
// nobody's business any more. The file is replaced whole, or not at all.
func tidy(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	gone := map[string]int{} // the last line that says so
	lines := bytes.SplitAfter(text, []byte("\n"))
	names := make([]string, len(lines))
	for i, line := range lines {
		var e crowd.Registered
		if json.Unmarshal(line, &e) != nil {
			continue // not ours to judge: it stays
		}
		if names[i] = e.Device; e.Gone != nil {
			gone[e.Device] = i
		}
	}
	if len(gone) == 0 {
		return nil
	}
	var kept []byte
	for i, line := range lines {
		if last, is := gone[names[i]]; !is || i > last {
			kept = append(kept, line...)
		}
	}
	return wholefile.Write(path, kept)
}

// endLine ends a last line that a killed process left torn: what is added must not
// be lost with it.
func endLine(f *os.File) error {
	info, err := f.Stat()
	if err != nil || info.Size() == 0 {
		return err
	}
	var last [1]byte
	if _, err := f.ReadAt(last[:], info.Size()-1); err != nil || last[0] == '\n' {
		return err
	}
	_, err = f.Write([]byte("\n"))
	return err
}

// request makes a request for a device and gives the answer's body. One that has
// begun is ended, also when interrupted; waiting for the platform's limit is not.
func (o *Registrar) request(ctx context.Context, q *crowd.Request, d *fleet.Device, env formula.Env) ([]byte, error) {
	p := q.For(d.Cast)
	m := &formula.Machine{}
	address, err := p.URL.Expand(m, env)
	if err != nil {
		return nil, fmt.Errorf("url: %w", err)
	}
	body := ""
	if p.Body != nil {
		if body, err = p.Body.Expand(m, env); err != nil {
			return nil, fmt.Errorf("body: %w", err)
		}
	}
	texts := []*formula.Text{p.URL, p.Body}
	for _, h := range p.Headers {
		texts = append(texts, h.Value)
	}
	for _, t := range texts {
		o.Crowd.Computed(t, m, env, d.Cast.Secrets)
	}
	header := http.Header{}
	if body != "" && json.Valid([]byte(body)) {
		header.Set("Content-Type", "application/json")
	}
	for _, h := range p.Headers {
		v, err := h.Value.Expand(m, env)
		if err != nil {
			return nil, fmt.Errorf("the header %s: %w", h.Name, err)
		}
		header.Set(h.Name, v)
	}
	for try := 1; ; try++ {
		answer, status, after, err := o.once(context.WithoutCancel(ctx), q.Method, address, header, body)
		switch {
		case err == nil && slices.Contains(q.OKStatus, status):
			return answer, nil
		case err == nil && (after == 0 || try == tries):
			return nil, &refusal{status, fmt.Sprintf("%s %s was answered with status %d%s", q.Method, address, status,
				link.Snippet(answer))}
		case err != nil && (after == 0 || try == tries):
			return nil, err
		}
		if err := wait(ctx, after); err != nil {
			return nil, err
		}
	}
}

// refusal is an answer that is not good.
type refusal struct {
	status int
	text   string
}

func (r *refusal) Error() string { return r.text }

// wait waits as long as the platform asks for.
func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return errors.New("interrupted while it waited, as the platform asked; call it again to go on")
	case <-time.After(d):
		return nil
	}
}

// once makes a request once. After says when it may be made again; zero: not.
func (o *Registrar) once(ctx context.Context, method, address string, header http.Header,
	body string) (answer []byte, status int, after time.Duration, err error) {
	req, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
	if err != nil {
		return nil, 0, 0, fmt.Errorf("%s is not an address", address)
	}
	req.Header = header.Clone()
	req.Header.Set("User-Agent", "runcrowd")
	if err := o.own.Authorize(req); err != nil {
		return nil, 0, 0, err
	}
	resp, err := o.client.Do(req)
	if err != nil && ctx.Err() != nil {
		return nil, 0, 0, errors.New("interrupted while the platform was asked")
	}
	if err != nil {
		what, try := link.Explain(err, req.URL.Host)
		return nil, 0, 0, fmt.Errorf("%s: %s; %s", address, what, try)
	}
	defer resp.Body.Close()
	if answer, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer)); err != nil {
		return nil, 0, 0, fmt.Errorf("%s: the answer broke off: %w", address, err)
	}
	if after = link.RetryAfter(resp, time.Now()); after == 0 && resp.StatusCode == http.StatusTooManyRequests {
		after = time.Second // a limit that does not say for how long
	}
	return answer, resp.StatusCode, after, nil
}

// keep picks out of the answer to a request what the file keeps, into kept. The platform
// has done it by then: an error says so.
func (o *Registrar) keep(answer []byte, request int, kept map[string]string) error {
	var v any
	for _, k := range o.Crowd.Register.Save {
		if k.Request != request {
			continue
		}
		if v == nil {
			var err error
			if v, err = strictjson.Decode(answer); err != nil {
				return errors.New("it was registered, but the answer is not JSON, and nothing can be kept of it" +
					link.Snippet(answer))
			}
		}
		x, err := first(k.Path, v)
		if err != nil || x == nil {
			return fmt.Errorf("it was registered, but the answer has no %s (%s), and nothing can be kept of it", k.Name, k.Path)
		}
		if n, is := x.(json.Number); is {
			x = n.String()
		}
		kept[k.Name] = formula.String(x)
		if !k.Public {
			o.Crowd.Secret(kept[k.Name])
		}
	}
	return nil
}

// first is the first result of a jq expression.
func first(source string, v any) (any, error) {
	q, err := jq.Parse(source)
	if err != nil {
		return nil, err
	}
	return q.One(v)
}

// list asks the platform for the names of all devices, page by page.
func (o *Registrar) list(ctx context.Context) ([]string, error) {
	l := o.Crowd.Register.List
	pick, err := jq.Parse(l.Names)
	if err != nil {
		return nil, err
	}
	header := http.Header{"Accept": {"application/json"}}
	env := formula.Env{"crowd": o.Crowd.Name, "env": o.Crowd.Env}
	for _, h := range l.Headers {
		v, err := h.Value.Expand(&formula.Machine{}, env)
		if err != nil {
			return nil, fmt.Errorf("register: list: the header %s: %w", h.Name, err)
		}
		o.Crowd.Computed(h.Value, &formula.Machine{}, env, crowd.Known)
		header.Set(h.Name, v)
	}
	var names []string
	address := l.Get
	seen := map[string]bool{}
	for page := 0; page < maxPages && !seen[address]; page++ {
		seen[address] = true
		body, status, after, err := o.once(ctx, http.MethodGet, address, header, "")
		for try := 1; err == nil && after > 0 && try < tries; try++ {
			if err := wait(ctx, after); err != nil {
				return nil, err
			}
			body, status, after, err = o.once(ctx, http.MethodGet, address, header, "")
		}
		if err != nil {
			return nil, err
		}
		if status != http.StatusOK {
			return nil, fmt.Errorf("%s was answered with status %d%s", address, status, link.Snippet(body))
		}
		v, err := strictjson.Decode(bytes.TrimSpace(body))
		if err != nil {
			return nil, fmt.Errorf("%s: the answer is not JSON%s", address, link.Snippet(body))
		}
		list, err := pick.All(v)
		if err != nil {
			return nil, fmt.Errorf("%s: the answer does not have the names that the file expects (%w)", address, err)
		}
		for _, x := range list {
			s, is := x.(string)
			if !is {
				return nil, fmt.Errorf("%s: names: %s gives %v, which is no name%s", address, l.Names, x, link.Snippet(body))
			}
			names = append(names, s)
		}
		if l.Next == "" {
			return names, nil
		}
		next, err := first(l.Next, v)
		if err != nil {
			return nil, err
		}
		if address, err = link.NextPage(address, next); err != nil {
			return nil, err
		}
		if address == "" {
			return names, nil
		}
	}
	return nil, fmt.Errorf("%s comes to the same page again, or never ends; check next", l.Get)
}
