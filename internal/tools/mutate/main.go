// Mutate tells how well the tests of a package hold its conditions: it breaks one condition,
// bound or returned constant at a time and plays the package's own tests. What no test notices
// is alive. It changes no file: broken sources are handed to the compiler as an overlay.
//
//	go run ./internal/tools/mutate                      200 mutants of the rooms that judge
//	go run ./internal/tools/mutate -n 40 -seed 7 ./internal/verdict
//
// It is run by hand, and before each release; 200 take a quarter of an hour on two cores.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
)

// rooms are those whose mistakes are false verdicts.
var rooms = []string{"./internal/verdict", "./internal/evidence", "./internal/tally", "./internal/witness/match",
	"./internal/witness/hearing", "./internal/witness/listen", "./internal/witness/ask", "./internal/witness/find",
	"./internal/witness/count", "./internal/ledger"}

// mutant is one change of one file.
type mutant struct {
	room, file string
	line       int
	what       string
	source     []byte
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
	if len(list) == 0 {
		list = rooms
	}
	if err := run(list, *n, *seed, *jobs, *most, *limit); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(rooms []string, n int, seed uint64, jobs int, most float64, limit time.Duration) error {
	var all []mutant
	for _, room := range rooms {
		list, err := mutants(room)
		if err != nil {
			return err
		}
		all = append(all, list...)
	}
	rng := rand.New(rand.NewPCG(seed, 1))
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:min(n, len(all))]
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var mu sync.Mutex
	var alive []string
	tried := map[string][2]int{}
	var group sync.WaitGroup
	work := make(chan int)
	for range jobs {
		group.Go(func() {
			for i := range work {
				m := &all[i]
				state, err := try(m, filepath.Join(dir, fmt.Sprint(i)), limit)
				mu.Lock()
				count := tried[m.room]
				switch {
				case err != nil:
					fmt.Fprintf(os.Stderr, "%s:%d: %s: %s\n", m.file, m.line, m.what, err)
				case state == "broken": // it does not compile: it shows nothing
				default:
					if count[0]++; state == "alive" {
						count[1]++
						alive = append(alive, fmt.Sprintf("%s:%d: %s", m.file, m.line, m.what))
					}
				}
				tried[m.room] = count
				mu.Unlock()
			}
		})
	}
	for i := range all {
		work <- i
	}
	close(work)
	group.Wait()
	sort.Strings(alive)
	total := [2]int{}
	for _, room := range rooms {
		c := tried[room]
		total[0], total[1] = total[0]+c[0], total[1]+c[1]
		fmt.Printf("%-22s %4d tried, %3d alive\n", room, c[0], c[1])
	}
	for _, a := range alive {
		fmt.Println("alive  " + a)
	}
	if total[0] == 0 {
		return fmt.Errorf("no mutant could be tried")
	}
	share := 100 * float64(total[1]) / float64(total[0])
	fmt.Printf("%d of %d alive: %.1f %%\n", total[1], total[0], share)
	if share > most {
		return fmt.Errorf("more than %g %% are alive", most)
	}
	return nil
}

// try plays the tests of a room with a mutant in it.
func try(m *mutant, dir string, limit time.Duration) (state string, err error) {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	path, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	broken, overlay := filepath.Join(dir, "mutant.go"), filepath.Join(dir, "overlay.json")
	text, err := json.Marshal(map[string]map[string]string{"Replace": {path: broken}})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(broken, m.source, 0o600); err != nil {
		return "", err
	}
	if err := os.WriteFile(overlay, text, 0o600); err != nil {
		return "", err
	}
	if out, err := exec.Command("go", "vet", "-overlay", overlay, m.room).CombinedOutput(); err != nil &&
		bytes.Contains(out, []byte("vet:")) {
		return "broken", nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit+time.Minute)
	defer cancel()
	test := exec.CommandContext(ctx, "go", "test", "-overlay", overlay, "-count=1", "-failfast", "-vet=off", "-timeout",
		limit.String(), m.room)
	test.WaitDelay = 10 * time.Second
	if out, err := test.CombinedOutput(); err != nil {
		if bytes.Contains(out, []byte("[build failed]")) {
			return "broken", nil
		}
		return "noticed", nil
	}
	return "alive", nil
}

// mutants are all that can be made of a room.
func mutants(room string) (list []mutant, err error) {
	files, err := filepath.Glob(filepath.Join(room, "*.go"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		for i := 0; ; i++ { // parsed anew for each: the tree is changed
			m, err := nth(src, i)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", file, err)
			}
			if m == nil {
				break
			}
			m.room, m.file = room, file
			list = append(list, *m)
		}
	}
	return list, nil
}

var others = map[token.Token][]token.Token{
	token.LSS: {token.LEQ, token.GEQ}, token.LEQ: {token.LSS, token.GTR}, token.GTR: {token.GEQ, token.LEQ},
	token.GEQ: {token.GTR, token.LSS},
	token.EQL: {token.NEQ}, token.NEQ: {token.EQL}, token.LAND: {token.LOR}, token.LOR: {token.LAND},
	token.ADD: {token.SUB}, token.SUB: {token.ADD},
}

// nth is the mutant of a place in a file; nil after the last.
func nth(src []byte, n int) (*mutant, error) {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, "", src, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	var m *mutant
	seen := 0
	site := func(pos token.Pos, what string, change func()) {
		if seen == n {
			change()
			m = &mutant{line: set.Position(pos).Line, what: what}
		}
		seen++
	}
	ast.Inspect(tree, func(node ast.Node) bool {
		switch x := node.(type) {
		case *ast.BinaryExpr:
			if text(x) {
				return true
			}
			for _, other := range others[x.Op] {
				site(x.OpPos, fmt.Sprintf("%s is %s", x.Op, other), func() { x.Op = other })
			}
		case *ast.IfStmt:
			site(x.If, "the condition is the other way round", func() {
				x.Cond = &ast.UnaryExpr{Op: token.NOT,
					X: &ast.ParenExpr{X: x.Cond}}
			})
		case *ast.CaseClause:
			for i := range x.List {
				if _, is := x.List[i].(*ast.BinaryExpr); is {
					site(x.Pos(), "the case never applies", func() {
						x.List[i] = &ast.BinaryExpr{X: x.List[i], Op: token.LAND,
							Y: ast.NewIdent("false")}
					})
				}
			}
		case *ast.ReturnStmt:
			for i := range x.Results {
				id, is := x.Results[i].(*ast.Ident)
				if is && (id.Name == "true" || id.Name == "false") {
					site(x.Pos(), "it returns the opposite of "+id.Name, func() {
						x.Results[i] = ast.NewIdent(
							map[string]string{"true": "false", "false": "true"}[id.Name])
					})
				}
			}
		}
		return m == nil
	})
	if m == nil {
		return nil, nil
	}
	var b bytes.Buffer
	if err := format.Node(&b, set, tree); err != nil {
		return nil, err
	}
	m.source = b.Bytes()
	return m, nil
}

// text tells whether an expression puts texts together: a mutant of it would not compile.
func text(x *ast.BinaryExpr) bool {
	found := false
	ast.Inspect(x, func(n ast.Node) bool {
		l, is := n.(*ast.BasicLit)
		found = found || is && l.Kind == token.STRING
		return !found
	})
	return found && slices.Contains([]token.Token{token.ADD, token.SUB}, x.Op)
}
