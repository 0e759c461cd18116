package register_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/memnet"
	"runcrowd/internal/register"
)

var (
	firstSeed = flag.Uint64("seed", 1, "the first seed of random registries")
	seeds     = flag.Int("seeds", 150, "how many random registries there are")
)

// liar is a registry that lies, forgets to answer, and is slow, as a seed says; it knows
// what is true.
type liar struct {
	*rand.Rand
	mu       sync.Mutex
	known    map[string]string // the devices that exist, with their newest token
	ours     map[string]bool   // that exist because we asked for them
	listed   map[string]bool   // what the list shows, which may lag
	listing  string            // "none", "true", "lags", "ids"
	lies     float64           // how often a request goes wrong
	adopts   bool              // a device of others was taken for ours, as the tester said
	mistakes []string
	wg       sync.WaitGroup
	ctx      context.Context
}

func (p *liar) later(d time.Duration, do func()) {
	p.wg.Go(func() {
		select {
		case <-time.After(d):
		case <-p.ctx.Done():
			return
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		do()
	})
}

// change makes or removes a device, and the list follows.
func (p *liar) change(name, token string, here bool) {
	if p.known[name] = token; !here {
		delete(p.known, name)
		delete(p.ours, name)
	}
	show := func() {
		if _, is := p.known[name]; is {
			p.listed[name] = true
		} else {
			delete(p.listed, name)
		}
	}
	if p.listing == "lags" {
		p.later(time.Duration(p.IntN(2500))*time.Millisecond, show)
	} else {
		show()
	}
}

func (p *liar) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	fate := ""
	if p.Float64() < p.lies {
		fate = []string{"nothing", "cut", "cut after", "500", "500 after", "no token", "later"}[p.IntN(7)]
	}
	end := func(status int) {
		switch fate {
		case "cut after":
			panic(http.ErrAbortHandler)
		case "500 after":
			status = http.StatusInternalServerError
		}
		w.WriteHeader(status)
	}
	switch {
	case r.Method == http.MethodGet:
		names := slices.Sorted(maps.Keys(p.listed))
		for i, n := range names {
			if p.listing == "ids" {
				names[i] = "id-" + strings.ToUpper(n)
			}
		}
		json.NewEncoder(w).Encode(map[string]any{"names": names})
	case fate == "cut":
		panic(http.ErrAbortHandler)
	case fate == "500":
		w.WriteHeader(http.StatusInternalServerError)
	case r.Method == http.MethodPost:
		var body struct{ Name string }
		json.NewDecoder(r.Body).Decode(&body)
		if _, is := p.known[body.Name]; is {
			w.WriteHeader(http.StatusConflict)
			return
		}
		token := fmt.Sprintf("key-%d-of-%s", p.IntN(1000), body.Name)
		p.ours[body.Name] = true
		p.change(body.Name, token, true)
		if end(http.StatusCreated); fate != "no token" {
			fmt.Fprintf(w, `{"token": %q}`, token)
		}
	default:
		name := strings.TrimPrefix(r.URL.Path, "/d/")
		_, is := p.known[name]
		switch {
		case is && !p.ours[name] && !p.adopts:
			p.mistakes = append(p.mistakes, name+", which others made, was removed")
		case !is:
			w.WriteHeader(http.StatusNotFound)
			return
		case fate == "nothing" && p.listing != "none": // nobody could know
		case fate == "no token" && p.listing != "none" && p.listed[name] == (p.listing != "ids"):
			w.WriteHeader(http.StatusNotFound) // it is there, and the list may tell
			return
		case fate == "later" && p.listing != "none":
			p.later(time.Duration(p.IntN(3000))*time.Millisecond, func() { p.change(name, "", false) })
			w.WriteHeader(http.StatusAccepted)
			return
		default:
			p.change(name, "", false)
		}
		end(http.StatusNoContent)
	}
}

// TestRandomRegistries registers and unregisters, at random, with platforms that lie: what is
// said to be registered is; what is said to be gone is; nothing that we made is forgotten,
// nothing of others is touched.
func TestRandomRegistries(t *testing.T) {
	dir := t.TempDir()
	if testing.Short() {
		*seeds = min(*seeds, 40)
	}
	for seed := *firstSeed; seed < *firstSeed+uint64(*seeds) && !t.Failed(); seed++ {
		synctest.Test(t, func(t *testing.T) { randomRegistry(t, seed, filepath.Join(dir, fmt.Sprint(seed))) })
	}
}

func randomRegistry(t *testing.T, seed uint64, dir string) {
	require.NoError(t, os.Mkdir(dir, 0o755))
	rng := rand.New(rand.NewPCG(seed, 1))
	p := &liar{Rand: rand.New(rand.NewPCG(seed, 2)), known: map[string]string{}, ours: map[string]bool{},
		listed: map[string]bool{}, listing: []string{"none", "true", "lags", "ids"}[rng.IntN(4)],
		lies: []float64{0, 0.2, 0.6}[rng.IntN(3)]}
	ctx, cancel := context.WithCancel(t.Context())
	p.ctx = ctx
	if rng.IntN(2) == 0 { // one of the names is another's
		p.known["buoy-2"], p.listed["buoy-2"] = "not-ours", true
	}
	network := memnet.New()
	l, err := network.Listen("tcp", "127.0.0.1:80")
	require.NoError(t, err)
	srv := &http.Server{Handler: p}
	p.wg.Go(func() { srv.Serve(l) })
	defer p.wg.Wait()
	defer srv.Close()
	defer cancel()
	list := `list: {get: "http://127.0.0.1:80/d", names: ".names[]?"}`
	if p.listing == "none" {
		list = ""
	}
	path := filepath.Join(dir, "harbour.yaml")
	require.NoError(t, os.WriteFile(path, []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1", username: "${device}", password: "${token}"}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "t/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy, count: 4, name: "buoy-${n}"}]
register:
  request: {url: "http://127.0.0.1:80/d", body: {name: "${device}"}}
  save: {token: .token}
  `+list+`
  wait: 8s
  unregister: {url: "http://127.0.0.1:80/d/${device}"}
plan: {for: 1s}
`), 0o600))
	registrar := func() *register.Registrar {
		c, err := file.Load(path)
		require.NoError(t, err)
		f, err := fleet.Build(c, credential.New(c))
		require.NoError(t, err)
		o, err := register.New(f, network.Dial)
		require.NoError(t, err)
		return o
	}
	did := ""
	for range 3 + rng.IntN(5) {
		o := registrar()
		if o.Adopt = rng.IntN(4) == 0; o.Adopt {
			p.mu.Lock()
			p.adopts = true
			p.mu.Unlock()
		}
		during, stop := context.WithCancel(ctx)
		if rng.IntN(4) == 0 {
			p.later(time.Duration(rng.IntN(1500))*time.Millisecond, stop)
		}
		unregister := rng.IntN(2) == 0
		did += fmt.Sprintf("unregister=%t adopt=%t; ", unregister, o.Adopt)
		must := func(is bool, format string, args ...any) {
			require.True(t, is, "seed %d, list %s, %s: %s", seed, p.listing, did, fmt.Sprintf(format, args...))
		}
		var res *register.Result
		if unregister {
			res, err = o.Unregister(during, nil)
		} else {
			res, err = o.Register(during, nil)
		}
		if err != nil && during.Err() != nil {
			must(strings.Contains(err.Error(), "interrupted"), "%v", err)
			res = &register.Result{}
			err = nil
		}
		stop()
		must(err == nil, "%v", err)
		p.mu.Lock()
		must(len(p.mistakes) == 0, "%v", p.mistakes)
		of := map[string]int{}
		for _, d := range slices.Concat(res.Done, res.Already, res.Skipped) {
			of[d]++
		}
		for _, x := range res.Failed {
			of[x.Device]++
		}
		for d, n := range of {
			must(n == 1, "%s is told %d times: %+v", d, n, *res)
		}
		now := registrar()
		for _, d := range now.Fleet.Devices {
			token, exists := p.known[d.Name]
			entry, kept := now.Crowd.Registered[d.Name]
			must(kept || !p.ours[d.Name], "%s was made here, and is forgotten: %+v", d.Name, *res)
			switch done := slices.Contains(res.Done, d.Name); {
			case done && unregister:
				must(!exists, "%s is said to be gone, and is there", d.Name)
			case done:
				must(exists, "%s is said to be registered, and is not there", d.Name)
				must(d.Password == token, "%s has %q, and the platform gave %q", d.Name, d.Password, token)
			case slices.Contains(res.Already, d.Name) && p.listing == "true":
				must(exists, "%s is said to be registered already, and is not there", d.Name)
			}
			must(!kept || entry.Gone == nil, "%s is kept, and gone", d.Name)
		}
		p.mu.Unlock()
	}
}
