// Package clock tells the time of this process: the wall clock's as it was when the process
// began, and from then on as much as passed. A wall clock that is set while a run plays
// moves neither its plan nor what is measured.
package clock

import "time"

var began = time.Now()

// Now is the time now. Differences between two of them are exact.
func Now() time.Time {
	now := time.Now()
	return began.Add(now.Sub(began)) // Sub uses the monotonic clock where both have it
}

// Nano is the time now in Unix nanoseconds.
func Nano() int64 { return began.UnixNano() + int64(time.Since(began)) }
