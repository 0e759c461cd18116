package register_test

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/register"
)

// registry is a platform that knows devices, and can misbehave.
type registry struct {
	*httptest.Server
	mu     sync.Mutex
	known  map[string]bool
	bodies []string
	before func(w http.ResponseWriter, r *http.Request) bool // answers in its place
	stays  bool                                              // removes nothing, and says yes
	page   string                                            // address of the next page
	pace   string
	wait   string
	free   bool // before is called without the lock
}

func newRegistry(t *testing.T) *registry {
	p := &registry{known: map[string]bool{}, pace: "1000/s"}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p.free && p.before(w, r) {
			return
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if !p.free && p.before != nil && p.before(w, r) {
			return
		}
		switch r.Method {
		case http.MethodPost:
			var body struct{ Name string }
			raw := json.RawMessage{}
			if json.NewDecoder(r.Body).Decode(&raw) != nil || json.Unmarshal(raw, &body) != nil {
				w.WriteHeader(http.StatusBadRequest)
				return
			}
			p.bodies = append(p.bodies, string(raw))
			p.known[body.Name] = true
			fmt.Fprintf(w, `{"token": "key-of-%s", "deep": {"id": 12}}`, body.Name)
		case http.MethodDelete:
			if name := strings.TrimPrefix(r.URL.Path, "/d/"); !p.known[name] {
				w.WriteHeader(http.StatusNotFound)
			} else if !p.stays {
				delete(p.known, name)
			}
		default:
			var names []string
			for n := range p.known {
				names = append(names, n)
			}
			json.NewEncoder(w).Encode(map[string]any{"names": names, "next": p.page})
		}
	}))
	t.Cleanup(p.Close)
	return p
}

// registrar opens the crowd file of a folder anew, as each command does.
func (p *registry) registrar(t *testing.T, dir string) *register.Registrar {
	t.Helper()
	path := filepath.Join(dir, "harbour.yaml")
	text := strings.NewReplacer("HOST", p.URL, "PACE", p.pace, "WAIT", cmp.Or(p.wait, "200ms")).Replace(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1", username: "${device}", password: "${token}"}}
kinds: {buoy: {properties: {site: "o\"uter"}, readings: {state: {every: 1s, topic: "t/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy, count: 3, name: "buoy-${n}"}]
register:
  request: {url: "HOST/d", headers: {X-Key: "let-me-in"}, body: {name: "${device}", n: "${n}", of: ["${n + 1}", "no. ${ {'a': n}.a } of ${site}"], fixed: "$${n}"}}
  save: {token: .token, id: .deep.id}
  pace: PACE
  list: {get: "HOST/d", headers: {X-Key: "let-me-in"}, names: ".names[]?", next: .next}
  wait: WAIT
  unregister: {url: "HOST/d/${device}"}
plan: {for: 1s}
`)
	return open(t, path, text)
}

func open(t *testing.T, path, text string) *register.Registrar {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	c, err := file.Load(path)
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	o, err := register.New(f, nil)
	require.NoError(t, err)
	return o
}

var all = []string{"buoy-1", "buoy-2", "buoy-3"}

func TestRegisterUnregister(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	p.known["stranger"] = true
	o := p.registrar(t, dir)
	assert.Len(t, o.Fleet.NotRegistered(), 3)
	res, err := o.Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, all, res.Done)
	slices.Sort(p.bodies)
	assert.JSONEq(t, `{"name": "buoy-1", "n": 1, "of": [2, "no. 1 of o\"uter"], "fixed": "${n}"}`, p.bodies[0])

	o = p.registrar(t, dir)
	assert.Empty(t, o.Fleet.NotRegistered())
	assert.Equal(t, "key-of-buoy-2", o.Fleet.Devices[1].Password)
	assert.Equal(t, "12", o.Fleet.Devices[1].Env["id"])
	c, err := o.Compare(t.Context())
	require.NoError(t, err)
	assert.Equal(t, register.Comparison{Known: all, Surplus: []string{"stranger"}}, *c)
	res, err = o.Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, register.Result{Already: all}, *res)
	assert.Len(t, p.bodies, 3, "a device was registered twice")

	p.stays = true
	res, err = p.registrar(t, dir).Unregister(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, res.Done)
	require.Len(t, res.Failed, 3)
	assert.Equal(t, "the platform agreed to remove it, but still lists it", res.Failed[0].Why)
	assert.Empty(t, p.registrar(t, dir).Fleet.NotRegistered(), "what is not proven gone is kept")

	p.stays = false
	res, err = p.registrar(t, dir).Unregister(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, register.Result{Done: all}, *res)
	assert.Equal(t, map[string]bool{"stranger": true}, p.known)
	assert.Len(t, p.registrar(t, dir).Fleet.NotRegistered(), 3)

	// Devices of others are left alone, or taken for ours where we are told to.
	p.known["buoy-1"] = true
	res, err = p.registrar(t, dir).Register(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, res.Failed, 1)
	assert.Contains(t, res.Failed[0].Why, "was not registered by this crowd; left unchanged")
	o = p.registrar(t, dir)
	o.Adopt = true
	res, err = o.Register(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, res.Failed, 1)
	assert.Contains(t, res.Failed[0].Why, "the answer that had its token is not known here")
	res, err = p.registrar(t, dir).Unregister(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, all, res.Done)
}

// A registration that is cut short is written down as far as it came, and goes on
// from there; one whose platform forgot a device makes it anew.
func TestGoesOn(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	p.pace = "20/m" // the third would be asked for three seconds later
	p.before = func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost && len(p.bodies) == 1 {
			cancel()
		}
		return false
	}
	res, err := p.registrar(t, dir).Register(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, res.Failed)
	assert.Equal(t, all[:2], res.Done, "what has begun must be ended and written down")
	assert.Equal(t, all[2:], res.Skipped)
	p.pace, p.before = "1000/s", nil
	res, err = p.registrar(t, dir).Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, all[:2], res.Already)
	assert.Equal(t, all[2:], res.Done)
	assert.Len(t, p.bodies, 3, "a device was registered twice")

	// A torn last line is that of a process that was killed.
	file := filepath.Join(dir, "harbour.registered.jsonl")
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	f.WriteString(`{"device": "buoy-9", "ma`)
	f.Close()
	delete(p.known, "buoy-2")
	res, err = p.registrar(t, dir).Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, res.Done)
	require.Len(t, res.Failed, 1)
	assert.Contains(t, res.Failed[0].Why, "the platform does not list it; it was not registered a second time")
	p.known["buoy-2"] = true
	assert.Empty(t, p.registrar(t, dir).Fleet.NotRegistered())
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A removal is proven by a list that showed the device before and does not show it after;
// what is not proven is named, and can be removed again.
func TestRemovalIsProven(t *testing.T) {
	for _, c := range []struct {
		name   string
		list   func(p *registry) []string           // what it tells, where that is not the truth
		remove func(p *registry, device string) int // status of a DELETE
		wait   string
		done   []string
		why    string
	}{
		{name: "it lists ids", list: func(p *registry) (ids []string) {
			for n := range p.known {
				ids = append(ids, strings.ToUpper(n))
			}
			return ids
		}, why: "its list did not show it before either, and proves nothing"},
		{name: "it removes nothing", remove: func(*registry, string) int { return 204 }, why: "still lists it"},
		{name: "one of them is in use", remove: func(p *registry, d string) int {
			if d == "buoy-2" {
				return 409
			}
			delete(p.known, d)
			return 204
		}, done: []string{"buoy-1", "buoy-3"}, why: "was answered with status 409"},
		{name: "it says that one is not there, and lists it", remove: func(p *registry, d string) int {
			if d == "buoy-2" {
				return 404
			}
			delete(p.known, d)
			return 204
		}, done: []string{"buoy-1", "buoy-3"}, why: "still lists it"},
		{name: "they are gone before", remove: func(p *registry, d string) int { return 404 },
			list: func(*registry) []string { return nil }, why: "has no such device, as of all the others"},
		{name: "one is gone before", remove: func(p *registry, d string) int {
			if d == "buoy-2" {
				delete(p.known, d)
				return 404
			}
			delete(p.known, d)
			return 204
		}, list: func(p *registry) (names []string) {
			for n := range p.known {
				if n != "buoy-2" {
					names = append(names, n)
				}
			}
			return names
		}, done: all},
		{name: "it removes them later", wait: "30s", remove: func(p *registry, d string) int {
			time.AfterFunc(300*time.Millisecond, func() {
				p.mu.Lock()
				defer p.mu.Unlock()
				delete(p.known, d)
			})
			return 202
		}, done: all},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, dir := newRegistry(t), t.TempDir()
			_, err := p.registrar(t, dir).Register(t.Context(), nil)
			require.NoError(t, err)
			p.wait = c.wait
			p.before = func(w http.ResponseWriter, r *http.Request) bool {
				switch {
				case r.Method == http.MethodDelete && c.remove != nil:
					w.WriteHeader(c.remove(p, strings.TrimPrefix(r.URL.Path, "/d/")))
				case r.Method == http.MethodGet && c.list != nil:
					json.NewEncoder(w).Encode(map[string]any{"names": c.list(p)})
				default:
					return false
				}
				return true
			}
			res, err := p.registrar(t, dir).Unregister(t.Context(), nil)
			require.NoError(t, err)
			assert.Equal(t, c.done, res.Done)
			assert.Len(t, res.Failed, 3-len(c.done))
			for _, f := range res.Failed {
				assert.Contains(t, f.Why, c.why)
			}
			again := p.registrar(t, dir)
			assert.Len(t, again.Fleet.NotRegistered(), len(c.done), "what is not proven gone is kept")
			p.before = nil // and goes when the platform does as it should
			if len(p.known) == 0 {
				return // all of it is proven, or nothing can be
			}
			res, err = again.Unregister(t.Context(), nil)
			require.NoError(t, err)
			assert.Len(t, res.Done, 3-len(c.done), "%+v", res)
			assert.Empty(t, p.known)
		})
	}
}

// A device that was made, and whose answer was cut off, is found in the list and is ours.
func TestHalfAnAnswer(t *testing.T) {
	for _, listed := range []bool{true, false} {
		p, dir := newRegistry(t), t.TempDir()
		p.before = func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method != http.MethodPost {
				return false
			}
			var d struct{ Name string }
			json.NewDecoder(r.Body).Decode(&d)
			if p.known[d.Name] {
				w.WriteHeader(http.StatusConflict)
				return true
			}
			p.known[d.Name] = true
			panic(http.ErrAbortHandler)
		}
		registrar := func() *register.Registrar {
			o := p.registrar(t, dir)
			if !listed {
				o.Crowd.Register.List = nil
			}
			return o
		}
		res, err := registrar().Register(t.Context(), nil)
		require.NoError(t, err)
		assert.Len(t, res.Failed, 3)
		res, err = registrar().Register(t.Context(), nil)
		require.NoError(t, err)
		require.Len(t, res.Failed, 3)
		if listed {
			assert.Contains(t, res.Failed[0].Why, "the answer that had its token is not known here; unregister the device")
		} else {
			assert.Contains(t, res.Failed[0].Why, "an earlier request for it was not answered, and may have made it")
			res, err = registrar().Unregister(t.Context(), nil)
			require.NoError(t, err)
			require.Len(t, res.Failed, 3)
			assert.Contains(t, res.Failed[0].Why, "whether it exists is not known")
			assert.Len(t, p.known, 3)
		}
		o := registrar()
		o.Adopt = !listed
		res, err = o.Unregister(t.Context(), nil)
		require.NoError(t, err)
		assert.Equal(t, all, res.Done)
		assert.Empty(t, p.known)
	}
}

// A device that is registered a second time, without an answer, keeps what it had.
func TestWhatItHadStays(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	_, err := p.registrar(t, dir).Register(t.Context(), nil)
	require.NoError(t, err)
	p.before = func(http.ResponseWriter, *http.Request) bool { panic(http.ErrAbortHandler) }
	o := p.registrar(t, dir)
	_, err = o.RegisterOne(t.Context(), o.Fleet.Devices[1])
	require.Error(t, err)
	o = p.registrar(t, dir)
	assert.Empty(t, o.Fleet.NotRegistered())
	assert.Equal(t, "key-of-buoy-2", o.Fleet.Devices[1].Password)
}

// What goes wrong is told of each device, with what the platform said, and without
// its secrets.
func TestPlatformSays(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		t.Errorf("another host was asked, with the key %q", r.Header.Get("X-Key"))
	}))
	t.Cleanup(other.Close)
	limited := 0
	post := func(f func(http.ResponseWriter)) func(http.ResponseWriter, *http.Request) bool {
		return func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method == http.MethodPost {
				f(w)
			}
			return r.Method == http.MethodPost
		}
	}
	for _, c := range []struct {
		name   string
		before func(http.ResponseWriter, *http.Request) bool
		page   string
		why    string // of a device
		err    string // of all
		done   int
	}{
		{name: "a limit that lets the next ones through", done: 3, before: func(w http.ResponseWriter, r *http.Request) bool {
			if limited++; r.Method != http.MethodPost || limited > 3 {
				return false
			}
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusTooManyRequests)
			return true
		}},
		{name: "no", why: `/d was answered with status 422: “it wants a "model", not «secret»”`,
			before: post(func(w http.ResponseWriter) {
				w.WriteHeader(http.StatusUnprocessableEntity)
				fmt.Fprint(w, "it wants a \"model\",\n not let-me-in")
			})},
		{name: "an answer without what is kept", why: "it was registered, but the answer has no token (.token), and " +
			"nothing can be kept of it", before: post(func(w http.ResponseWriter) { fmt.Fprint(w, `{}`) })},
		{name: "no JSON", why: "it was registered, but the answer is not JSON, and nothing can be kept of it: “<p>hello”",
			before: post(func(w http.ResponseWriter) { fmt.Fprint(w, `<p>hello`) })},
		{name: "elsewhere", why: "was answered with status 307", before: post(func(w http.ResponseWriter) {
			w.Header().Set("Location", other.URL)
			w.WriteHeader(http.StatusTemporaryRedirect)
		})},
		{name: "a next page on another host", page: other.URL + "/d", err: "and was not asked: the credentials are for " +
			"http://127.0.0.1:"},
		{name: "a next page that is a cursor", page: "b2Zmc2V0", err: "is b2Zmc2V0, which is no address; make one of it"},
		{name: "a next page that is the same one", page: "/d", err: "comes to the same page again, or never ends; check " +
			"next"},
		{name: "a list that is none", err: "was answered with status 500: “out of order”",
			before: func(w http.ResponseWriter, _ *http.Request) bool {
				http.Error(w, "out of order", http.StatusInternalServerError)
				return true
			}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newRegistry(t)
			p.before, p.page = c.before, c.page
			res, err := p.registrar(t, t.TempDir()).Register(t.Context(), nil)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Len(t, res.Done, c.done)
			require.Len(t, res.Failed, 3-c.done)
			for _, f := range res.Failed {
				assert.Contains(t, f.Why, c.why)
			}
		})
	}
}

// A device whose secret never came is not registered, however often that is asked.
func TestWhatIsKeptNeverCame(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	p.before = func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost {
			return false
		}
		body, _ := io.ReadAll(r.Body)
		var d struct{ Name string }
		json.Unmarshal(body, &d)
		p.known[d.Name] = true
		fmt.Fprint(w, `{"deep": {"id": 7}}`)
		return true
	}
	for _, why := range []string{"the answer has no token", "the answer had no token; unregister the device"} {
		o := p.registrar(t, dir)
		res, err := o.Register(t.Context(), nil)
		require.NoError(t, err)
		require.Len(t, res.Failed, 3, "%+v", res)
		assert.Contains(t, res.Failed[0].Why, why)
		assert.Empty(t, res.Already)
		assert.Len(t, p.registrar(t, dir).Fleet.NotRegistered(), 3)
	}
}

// A mistyped prefix is told, and the devices of another file are left alone.
func TestCompareHint(t *testing.T) {
	p := newRegistry(t)
	p.known["bouy-1"], p.known["bouy-2"] = true, true
	c, err := p.registrar(t, t.TempDir()).Compare(t.Context())
	require.NoError(t, err)
	assert.Equal(t, all, c.Missing)
	assert.Equal(t, "the crowd has buoy-1, the platform bouy-1: is one of them mistyped?", c.Hint)
}

func TestUnreadableFile(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	p.registrar(t, dir)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "harbour.registered.jsonl"), 0o700))
	_, err := file.Load(filepath.Join(dir, "harbour.yaml"))
	assert.ErrorContains(t, err, "harbour.registered.jsonl cannot be read: it is a folder; it says which devices are "+
		"registered, and holds their secrets")
}

// Several requests in order: what one answer gives, the next request uses; a registration
// that was begun goes on behind the last answer, and is unregistered like a whole one.
func TestSeveralRequests(t *testing.T) {
	var mu sync.Mutex
	var seen []string
	refuse := "/d/id-buoy-2/keys"
	answers := `{"id": "id-%s"}`
	p := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		if r.URL.Path == refuse {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		seen = append(seen, r.Method+" "+r.URL.Path+" "+string(body))
		switch {
		case r.URL.Path == "/d":
			var b struct{ Name string }
			json.Unmarshal(body, &b)
			fmt.Fprintf(w, answers, b.Name)
		case strings.HasSuffix(r.URL.Path, "/keys"):
			fmt.Fprintf(w, `{"token": "key-of%s"}`, strings.ReplaceAll(r.URL.Path, "/", "-"))
		}
	}))
	defer p.Close()
	dir := t.TempDir()
	registrar := func() *register.Registrar {
		return open(t, filepath.Join(dir, "harbour.yaml"), strings.ReplaceAll(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1", username: "${device}", password: "${token}"}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "t/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy, count: 3, name: "buoy-${n}"}]
register:
  requests:
    - {<<: {save: {id: .id}}, url: "HOST/d", body: {name: "${device}"}}
    - {url: "HOST/d/${id}/keys", method: PUT, body: "for ${id}"}
  save: {token: .token}
  pace: 1000/s
  unregister: {url: "HOST/d/${id}"}
plan: {for: 1s}
`, "HOST", p.URL))
	}
	res, err := registrar().Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"buoy-1", "buoy-3"}, res.Done)
	require.Len(t, res.Failed, 1)
	assert.Contains(t, res.Failed[0].Why, "request 2: PUT "+p.URL+"/d/«secret»/keys was answered with status 500")
	assert.Contains(t, seen, "PUT /d/id-buoy-1/keys for id-buoy-1")
	o := registrar()
	require.Len(t, o.Fleet.NotRegistered(), 1)
	assert.Equal(t, "buoy-2", o.Fleet.NotRegistered()[0].Name)

	seen, refuse = nil, ""
	res, err = o.Register(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"buoy-2"}, res.Done)
	assert.Equal(t, []string{"PUT /d/id-buoy-2/keys for id-buoy-2"}, seen, "the first request was answered, and is not "+
		"made again")
	o = registrar()
	assert.Empty(t, o.Fleet.NotRegistered())
	assert.Equal(t, "key-of-d-id-buoy-2-keys", o.Fleet.Devices[1].Password)

	seen = nil
	res, err = o.Unregister(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, all, res.Done)
	assert.ElementsMatch(t, []string{"DELETE /d/id-buoy-1 ", "DELETE /d/id-buoy-2 ", "DELETE /d/id-buoy-3 "}, seen)

	// An answer without what the next request needs.
	answers = `{"name": "%s"}`
	res, err = registrar().Register(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, res.Failed, 3)
	assert.Contains(t, res.Failed[0].Why, "request 1: it was registered, but the answer has no id (.id)")
	seen = nil
	res, err = registrar().Register(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, res.Failed, 3)
	assert.Contains(t, res.Failed[0].Why, "the answer to request 1 had no id, which later requests need")
	assert.Empty(t, seen)
}

// What a device had leaves the file with it; what the others have stays, and so does what
// is no entry. Two at once are kept apart.
func TestTokensLeaveWithTheirDevices(t *testing.T) {
	p, dir := newRegistry(t), t.TempDir()
	_, err := p.registrar(t, dir).Register(t.Context(), nil)
	require.NoError(t, err)
	path := filepath.Join(dir, "harbour.registered.jsonl")
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	f.WriteString("a line by hand\n")
	f.Close()
	p.before = func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodDelete {
			return false
		}
		if strings.HasSuffix(r.URL.Path, "buoy-2") {
			w.WriteHeader(http.StatusInternalServerError)
			return true
		}
		if strings.HasSuffix(r.URL.Path, "buoy-1") { // while this one unregisters
			_, err := p.registrar(t, dir).Register(context.Background(), nil)
			assert.ErrorContains(t, err, "another process registers or unregisters devices of this crowd just now")
		}
		return false
	}
	p.free = true
	res, err := p.registrar(t, dir).Unregister(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"buoy-1", "buoy-3"}, res.Done)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "key-of-buoy-1")
	assert.NotContains(t, string(text), "key-of-buoy-3")
	assert.Contains(t, string(text), "key-of-buoy-2")
	assert.Contains(t, string(text), "a line by hand\n")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	o := p.registrar(t, dir)
	assert.Len(t, o.Fleet.NotRegistered(), 2)
}
