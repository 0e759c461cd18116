package signal_test

import (
	"fmt"
	"time"

	"runcrowd/internal/signal"
)

// Any one value can be made without those before it.
func ExampleSpec_Make() {
	spec, _ := signal.Find("tide")
	s, err := spec.Make(signal.Args{"range": 4.1, "mean": 9.0})
	if err != nil {
		fmt.Println(err)
		return
	}
	key := signal.Key(1907, "gauge-1", "level", "level_m")
	begin := time.Date(2030, 6, 1, 0, 0, 0, 0, time.UTC)
	for _, hour := range []int{6, 0, 3} { // in any order
		at := begin.Add(time.Duration(hour) * time.Hour)
		fmt.Printf("%d h %.2f m\n", hour, s.At(signal.Moment{Key: key, Seq: 1, Time: at}).Float())
	}
	// Output:
	// 6 h 7.03 m
	// 0 h 10.90 m
	// 3 h 8.34 m
}
