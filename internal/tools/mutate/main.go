// Mutate tells how well the tests of a package hold its conditions: it breaks one condition,
// bound or returned constant at a time and plays the package's own tests. What no test notices
// is alive. It changes no file: the compiler gets the broken sources as an overlay. All mutants of
// a package are in one program; a variable of the environment switches one on.
//
//	go run ./internal/tools/mutate                      200 mutants of the rooms that judge
//	go run ./internal/tools/mutate -n 40 -seed 7 ./internal/verdict
//
// It is run by hand, and before each release.
package main

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// rooms are those whose mistakes are false verdicts.
var rooms = []string{"./internal/verdict", "./internal/evidence", "./internal/tally", "./internal/witness/match",
	"./internal/witness/hearing", "./internal/witness/listen", "./internal/witness/ask", "./internal/witness/find",
	"./internal/witness/count", "./internal/ledger"}

// sameText lists the mutants that change nothing.
//
//go:embed same.txt
var sameText string

// same are the mutants that change nothing, by file, line and change, and how many were met of each.
var same = func() map[string]int {
	list := map[string]int{}
	for line := range strings.Lines(sameText) {
		parts := strings.Split(strings.TrimSpace(line), " | ")
		if len(parts) == 4 && !strings.HasPrefix(line, "#") {
			list[strings.Join(parts[:3], " | ")] = 0
		}
	}
	return list
}()

// tries are the mutants that may change something.
func (r *room) tries() (list []*mutant) {
	for _, m := range r.mutants {
		key := fmt.Sprintf("%s | %s | %s", filepath.Base(m.file), m.source, m.what)
		if n, is := same[key]; is {
			same[key] = n + 1
			continue
		}
		list = append(list, m)
	}
	return list
}

// mutant is one change of one file of a room.
type mutant struct {
	room   *room
	file   string
	line   int
	what   string
	source string // the line
	n      int    // by which it is switched on
}

func (m *mutant) String() string {
	return fmt.Sprintf("%s:%d: %s", filepath.ToSlash(filepath.Clean(m.file)), m.line, m.what)
}

func main() {
	n := flag.Int("n", 200, "how many mutants are tried")
	seed := flag.Uint64("seed", 1, "by which they are chosen")
	jobs := flag.Int("jobs", 2, "how many are tried at once")
	most := flag.Float64("most", 5, "exit 1 where more than this percentage stays alive")
	limit := flag.Duration("limit", 2*time.Minute, "how long the tests of a room may take; a mutant that never ends is "+
		"noticed")
	flag.Parse()
	list := flag.Args()
	whole := len(list) == 0
	if whole {
		list = rooms
	}
	if err := run(list, whole, *n, *seed, *jobs, *most, *limit); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(paths []string, whole bool, n int, seed uint64, jobs int, most float64, limit time.Duration) error {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var all []*mutant
	var rooms []*room
	for i, path := range paths {
		r := &room{path: path, dir: filepath.Join(dir, strconv.Itoa(i))}
		if err := r.build(); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		rooms, all = append(rooms, r), append(all, r.tries()...)
	}
	left := 0
	for key, n := range same {
		if left += n; n == 0 && whole {
			fmt.Fprintln(os.Stderr, "same.txt names what is not there any more:", key)
		}
	}
	rng := rand.New(rand.NewPCG(seed, 1))
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	total := len(all)
	all = all[:min(n, len(all))]
	var mu sync.Mutex
	var alive []string
	tried := map[*room][3]int{} // alive, and out of time
	var group sync.WaitGroup
	work := make(chan *mutant)
	for range jobs {
		group.Go(func() {
			for m := range work {
				lives, late := m.room.passes(m.n, limit)
				mu.Lock()
				count := tried[m.room]
				if count[0]++; late {
					count[2]++
				}
				if lives {
					count[1]++
					alive = append(alive, m.String())
					fmt.Fprintln(os.Stderr, "alive  "+m.String())
				}
				tried[m.room] = count
				mu.Unlock()
			}
		})
	}
	for _, m := range all {
		work <- m
	}
	close(work)
	group.Wait()
	slices.Sort(alive)
	for _, r := range rooms {
		fmt.Printf("%-28s %4d tried, %3d alive, %3d out of time (of %s; without a mutant it took %s)\n", r.path, tried[r][0],
			tried[r][1], tried[r][2], limit, r.took.Round(time.Second/10))
	}
	for _, a := range alive {
		fmt.Println("alive  " + a)
	}
	if len(all) == 0 {
		return errors.New("there is no mutant")
	}
	share := 100 * float64(len(alive)) / float64(len(all))
	fmt.Printf("%d of %d alive: %.1f %%; there are %d mutants, and %d that change nothing\n", len(alive), len(all), share, total, left)
	if share > most {
		return fmt.Errorf("more than %g %% are alive", most)
	}
	return nil
}

// room is a package, with all of its mutants in one program.
type room struct {
	path, dir string
	mutants   []*mutant
	program   string
	took      time.Duration // its tests, without a mutant
}

// place is where the compiler does not take a mutant.
var place = regexp.MustCompile(`(?m)^\S*?([^/\s]+\.go):(\d+):\d+: `)

// build makes the program. A line whose mutants do not compile gets none.
func (r *room) build() error {
	if err := os.MkdirAll(r.dir, 0o700); err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(r.path, "*.go"))
	if err != nil {
		return err
	}
	without := map[string]bool{}
	for range 20 {
		r.mutants = nil
		overlay := map[string]string{}
		put := func(name string, source []byte) error {
			broken := filepath.Join(r.dir, filepath.Base(name))
			path, err := filepath.Abs(name)
			overlay[path] = broken
			return errors.Join(err, os.WriteFile(broken, source, 0o600))
		}
		pkg := ""
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			source, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			name, broken, list, err := broken(source, len(r.mutants)+1, func(line int) bool {
				return without[filepath.Base(file)+":"+strconv.Itoa(line)]
			})
			if err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			lines := strings.Split(string(source), "\n")
			for _, m := range list {
				m.room, m.file, m.source = r, file, strings.TrimSpace(lines[m.line-1])
			}
			pkg, r.mutants = name, append(r.mutants, list...)
			if err := put(file, broken); err != nil {
				return err
			}
		}
		if err := put(filepath.Join(r.path, "zz_mutant.go"), []byte("package "+pkg+switches)); err != nil {
			return err
		}
		text, err := json.Marshal(map[string]any{"Replace": overlay})
		if err != nil {
			return err
		}
		given := filepath.Join(r.dir, "overlay.json")
		if err := os.WriteFile(given, text, 0o600); err != nil {
			return err
		}
		r.program = filepath.Join(r.dir, "room.test")
		out, err := exec.Command("go", "test", "-c", "-vet=off", "-gcflags=-e", "-overlay", given, "-o", r.program, r.path).CombinedOutput()
		if err == nil {
			return r.whole()
		}
		before := len(without)
		for _, m := range place.FindAllStringSubmatch(string(out), -1) {
			without[m[1]+":"+m[2]] = true
		}
		if len(without) == before {
			return fmt.Errorf("it does not compile: %s", out)
		}
	}
	return errors.New("it does not compile")
}

// whole says whether the tests pass with no mutant switched on.
func (r *room) whole() error {
	began := time.Now()
	if passes, _ := r.passes(0, 5*time.Minute); !passes {
		return errors.New("its tests fail without a mutant")
	}
	r.took = time.Since(began)
	return nil
}

// passes plays the tests with a mutant switched on; late: they ran out of time, which counts as noticed,
// and means nothing where the machine was busy.
func (r *room) passes(n int, limit time.Duration) (passes, late bool) {
	began := time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), limit+time.Minute)
	defer cancel()
	test := exec.CommandContext(ctx, r.program, "-test.failfast", "-test.timeout", limit.String())
	test.Dir, test.Env, test.WaitDelay = r.path, append(os.Environ(), fmt.Sprintf("%s=%d", variable, n)), 10*time.Second
	passes = test.Run() == nil
	return passes, !passes && time.Since(began) >= limit
}
