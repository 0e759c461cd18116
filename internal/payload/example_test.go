package payload_test

import (
	"fmt"

	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// A form writes bodies, and reads its own back.
func ExampleForm() {
	form := payload.NewCSV([]payload.Field{{Name: "mark", Type: signal.Text}, {Name: "wave_m", Type: signal.Float}},
		"mark", ';', true)
	body, err := form.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfText("k3f9a2xy/buoy-1/state/1"),
		signal.OfFloat(0.42)}}})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("%s\n", body)
	found, err := form.Read(body)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(found[0].Mark, found[0].Values)
	// Output:
	// mark;wave_m
	// k3f9a2xy/buoy-1/state/1;0.42
	// k3f9a2xy/buoy-1/state/1 map[wave_m:0.42]
}
