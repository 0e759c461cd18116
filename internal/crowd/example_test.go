package crowd_test

import (
	"fmt"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
)

// A selection names devices wherever the file or the command line does.
func ExampleParseSelection() {
	fleet := []crowd.Candidate{
		{Name: "buoy-001", Kind: "light-buoy", Env: formula.Env{"n": 1, "site": "outer"}},
		{Name: "buoy-002", Kind: "light-buoy", Env: formula.Env{"n": 2, "site": "inner"}},
		{Name: "gauge-1", Kind: "tide-gauge", Env: formula.Env{"n": 1, "site": "inner"}},
	}
	for _, text := range []string{"light-buoy", "buoy-00?", `site == "inner"`, "first 1 of light-buoy"} {
		who, err := crowd.ParseSelection(text)
		if err != nil {
			fmt.Println(err)
			return
		}
		picked, err := who.Pick(1907, fleet)
		fmt.Println(text, picked, err)
	}
	// Output:
	// light-buoy [true true false] <nil>
	// buoy-00? [true true false] <nil>
	// site == "inner" [false true true] <nil>
	// first 1 of light-buoy [true false false] <nil>
}

// Topics are matched as the standard says.
func ExampleTopicMatches() {
	fmt.Println(crowd.TopicMatches("harbour/+/state", "harbour/buoy-7/state"))
	fmt.Println(crowd.TopicMatches("harbour/#", "harbour"))
	fmt.Println(crowd.TopicMatches("#", "$SYS/uptime"))
	// Output:
	// true
	// true
	// false
}
