package ledger_test

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// A message is noted when it is due, sent and settled, and read back as one.
func Example() {
	dir, err := os.MkdirTemp("", "ledger")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "ledger")
	start := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	if err != nil {
		fmt.Println(err)
		return
	}
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.Flush() // streams stand before what is told of them
	page := w.Page()
	page.Due(0, 1, 1, start.UnixNano(), ledger.ToKeep, 0, []byte(`{"wave_m":0.4}`))
	page.Sent(0, 1, start.Add(time.Millisecond).UnixNano(), false)
	page.Settled(0, 1, start.Add(3*time.Millisecond).UnixNano(), outcome.Accepted, 0, "")
	w.End(false)
	if err := w.Close(); err != nil {
		fmt.Println(err)
		return
	}
	book, err := ledger.Read(path)
	if err != nil {
		fmt.Println(err)
		return
	}
	m := book.Messages[0][0]
	fmt.Println(book.Streams[0].Device, m.Outcome, m.At.Sub(m.Sent), string(m.Carried), book.Ended)
	// Output: buoy-1 accepted 2ms {"wave_m":0.4} true
}
