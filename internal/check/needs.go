package check

import (
	"fmt"
	"math"

	"runcrowd/internal/crowd"
)

// Needs is about what a process needs that plays a crowd, or the largest part of it. The figures are from the table in
// docs/scale.md: they are of one kind of machine, and tell one gigabyte from ten, not a core from a core and a half.
type Needs struct {
	Parts     int     // processes; 1: the whole crowd is one
	MostParts int     // no more have devices to play
	Devices   int     // of the part
	Files     int     // open: connections of devices and witnesses, the ledger, and some more
	MaxFiles  int     // that a process may have open here; 0: not known
	Enough    int     // parts of which each may have its files open here; 0: not known
	Memory    float64 // bytes: while it plays, and then judges
	Cores     float64 // at the steady rate
	Ledger    float64 // bytes on disk, of all rounds; 0: without end
}

// What the parts of a crowd cost; docs/scale.md says how it was measured.
const (
	baseMemory      = 35e6   // the program
	deviceMemory    = 4.2e3  // a device of the crowd, wherever it is played
	connectedMemory = 12e3   // more, for one with a connection of its own
	secureMemory    = 28e3   // more, over TLS
	messageMemory   = 0.7e3  // a message: what is known of it while the run plays
	messageLedger   = 135.0  // bytes on disk
	seenLedger      = 90.0   // more, for each witness
	mqttCore        = 80e-6  // seconds a message
	httpCore        = 130e-6 //
	witnessCore     = 20e-6  // more, for each witness
	spareFiles      = 50     // beside connections
	mostKnown       = 512e6  // what is known of messages is sorted on disk from then on (--memory)
)

// TooMany says what can be done where a process may not have so many files open.
func (n *Needs) TooMany() string {
	text := fmt.Sprintf("it needs about %d open files in a process, and this machine allows %d; ", n.Files, n.MaxFiles)
	if n.Enough > n.Parts && n.Enough <= n.MostParts {
		text += fmt.Sprintf("play it in %d parts (run --part), or ", n.Enough)
	}
	return text + fmt.Sprintf("raise the limit (ulimit -Hn %d, as root)", n.Files)
}

// needs of the processes that play the fleet in some parts; the load is known.
func (c *checker) needs(parts, maxFiles int) Needs {
	f, l := c.Fleet, &c.load
	n := Needs{Parts: parts, MaxFiles: maxFiles}
	units := 0
	connected, secure := 0, 0
	for _, d := range f.Devices {
		if d.Gateway != nil {
			continue
		}
		units++
		if link := d.Cast.Link; link.Protocol == crowd.MQTT || link.PerDevice {
			if connected++; link.TLS != nil {
				secure++
			}
		}
	}
	n.MostParts = units
	share := 1 / float64(parts)
	up := func(n int) int { return int(math.Ceil(float64(n) * share)) }
	n.Devices = up(len(f.Devices))
	beside := spareFiles + len(f.Crowd.Witnesses)
	watched := float64(len(f.Crowd.Witnesses))
	for i := range l.Links {
		link, cost := f.Crowd.Link(l.Links[i].Name), mqttCore
		if link.Protocol == crowd.HTTP {
			cost = httpCore
			if !link.PerDevice {
				beside += min(link.Connections, up(l.Links[i].Connections))
			}
		}
		n.Cores += share * l.Links[i].PerSecond * (cost + witnessCore*watched)
	}
	n.Files = up(connected) + beside
	if room := maxFiles - beside; maxFiles > 0 && room > 0 {
		n.Enough = max(1, (connected+room-1)/room)
	}
	known := min(mostKnown, messageMemory*share*l.Messages)
	if l.Messages == 0 { // without end
		known = mostKnown
	}
	n.Memory = baseMemory + deviceMemory*float64(len(f.Devices)) + share*(connectedMemory*float64(connected)+
		secureMemory*float64(secure)) + known
	n.Ledger = share * l.Messages * (messageLedger + seenLedger*watched)
	return n
}
