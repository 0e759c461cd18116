package crowd

import (
	"bytes"
	"errors"
	"io"
	"time"

	"runcrowd/internal/formula"
	"runcrowd/internal/recording"
)

// Recording is recorded traffic that a group of devices plays again.
type Recording struct {
	Pos   Pos
	File  string
	Paths []string // of its files; none: Data is all there is
	Data  []byte
	recording.Places

	Speed    float64       // 2: twice as fast
	Every    time.Duration // from one message to the next, in place of their own distances
	From, To time.Time     // what lies between is played; zero: all
	Loop     bool          // from the beginning again, until the plan is over
	Times    []string      // fields that hold times, which are moved
	AllTimes bool
	Override []Override

	// What was found in it: the devices, in order, and when the first and the last message came.
	Devices     []string
	First, Last time.Time
	Lines       int64
	Bytes       int64           // of all bodies
	Largest     int             // body, in bytes
	Others      int64           // lines that are of no device
	Raw         map[string]bool // readings that are not all JSON objects
	// QoS is, by reading, the least and the most that messages of MQTT were recorded with.
	QoS map[string][2]byte
}

// Override is a field that has another value than the one recorded.
type Override struct {
	Name  string
	Value *formula.Text
}

// RecordedName is the property that tells what a device is called in the recording.
const RecordedName = "recorded"

// Open begins to read it.
func (r *Recording) Open() (recording.Source, error) {
	if r.Time != "" {
		if r.Paths == nil {
			return recording.RowsOf(io.NopCloser(bytes.NewReader(r.Data)), r.File, &r.Places)
		}
		return recording.OpenRows(r.Paths[0], &r.Places)
	}
	if r.Paths == nil {
		return nil, errors.New("the recording is not here: a run folder keeps no copy of it")
	}
	return recording.Open(r.Paths...), nil
}

// In tells whether a message is of the time that is played.
func (r *Recording) In(at time.Time) bool {
	return (r.From.IsZero() || !at.Before(r.From)) && (r.To.IsZero() || at.Before(r.To))
}

// Length is how long it lasts when it is played once.
func (r *Recording) Length() time.Duration {
	if r.Every > 0 {
		return time.Duration(r.Lines) * r.Every
	}
	return time.Duration(float64(r.Last.Sub(r.First)) / r.Speed)
}
