// Package match knows whose a mark, a time, a body or a row is: the messages of a run by what
// witnesses find of them.
package match

import (
	"net"
	"path/filepath"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
)

// Catalog resolves marks, devices and topics of one run.
type Catalog struct {
	Run     string
	Network link.Network // how connections are opened
	// Listen is how callbacks are listened for; nil is net.Listen.
	Listen func(network, address string) (net.Listener, error)
	Folder string // of the crowd file: names of files are looked for from there
	// Fresh: the platform can have nothing of the run yet.
	Fresh bool
	// Tell is told what a user should know; nil: nobody is.
	Tell func(text string)
	// Corrupted tells whether a message was sent so that nothing may be kept of it: its mark is
	// looked for also where it cannot be read. It may be called from any goroutine. Nil: none
	// was.
	Corrupted func(stream int, seq uint64) bool
	// Index knows messages by what they carry, where no mark tells them apart; nil: all have one.
	Index   *Index
	numbers ledger.Numbers
	Fleet   *fleet.Fleet
	streams map[string]int // by device and reading
	devices map[string]*fleet.Device
	topics  map[string]int // by topic; -1 where several streams share it
	Places  []crowd.Mark   // where marks ride
	forms   []payload.Form // of bodies that are no flat JSON object, one for each reading
	batches bool           // some bodies hold several messages
}

// NewCatalog makes the catalog of a run.
func NewCatalog(f *fleet.Fleet, run string) *Catalog {
	c := &Catalog{Run: run, Folder: filepath.Dir(f.Crowd.Path), numbers: ledger.NumbersOf(run, len(f.Streams)), Fleet: f,
		streams: map[string]int{}, devices: map[string]*fleet.Device{}, topics: map[string]int{}}
	known := map[*crowd.Reading]bool{}
	for _, d := range f.Devices {
		c.devices[d.Name] = d
	}
	for _, s := range f.Streams {
		c.streams[streamKey(s.Device.Name, s.Reading.Name)] = s.Index
		if s.Device.Cast.Link.Protocol == crowd.MQTT {
			c.AddTopic(s.Target, s.Index)
		}
		c.batches = c.batches || s.Reading.Batch > 1
		if s.Form != nil && !known[s.Reading] {
			known[s.Reading] = true
			c.forms = append(c.forms, s.Form)
		}
	}
	for _, k := range f.Crowd.Kinds {
		if k.Mark.Place == crowd.MarkTime || k.Mark.Place == crowd.MarkNone {
			c.Index = newIndex(f)
			continue
		}
		known := false
		for _, p := range c.Places {
			known = known || p == k.Mark
		}
		if !known {
			c.Places = append(c.Places, k.Mark)
		}
	}
	return c
}

// AddTopic notes the stream of a topic; a topic of several streams tells none.
func (c *Catalog) AddTopic(topic string, stream int) {
	if old, shared := c.topics[topic]; shared && old != stream {
		stream = -1
	}
	c.topics[topic] = stream
}

func streamKey(device, reading string) string { return device + "\x00" + reading }

// Stream finds a stream by its names; -1 if there is none.
func (c *Catalog) Stream(device, reading string) int {
	if i, ok := c.streams[streamKey(device, reading)]; ok {
		return i
	}
	return -1
}

// Device finds a device by its name; nil if there is none.
func (c *Catalog) Device(name string) *fleet.Device { return c.devices[name] }

// Topic is the stream of a topic; -1 where it has several, or none: known is false then.
func (c *Catalog) Topic(topic string) (stream int, known bool) {
	stream, known = c.topics[topic]
	if !known {
		stream = -1
	}
	return stream, known
}

// MaxSeq bounds what a made-up mark may cost in memory.
const MaxSeq = 1 << 26
