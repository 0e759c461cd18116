package formula_test

import (
	"fmt"

	"runcrowd/internal/formula"
)

// A formula is compiled against names and types, and then run.
func ExampleCompile() {
	env := formula.Env{"level_m": 4.6, "draught_m": 1.4}
	f, err := formula.Compile("round(level_m - draught_m, 1)", env)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(f.Any(&formula.Machine{}, env))
	_, err = formula.Compile("level_m - drauht_m", env)
	fmt.Println(err)
	// Output:
	// 3.2 <nil>
	// "drauht_m" is not known here; did you mean "draught_m"?
}

// A text holds formulas in its placeholders.
func ExampleParseText() {
	env := formula.Env{"site": "outer", "n": 7}
	t, err := formula.ParseText("harbour/${site}/buoy-${pad(n, 3)}/state", env)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(t.Expand(&formula.Machine{}, env))
	// Output: harbour/outer/buoy-007/state <nil>
}
