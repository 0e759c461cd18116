package run

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
)

// clearing is how many devices are connected at once while retained messages are removed.
const clearing = 64

// Uncleared is a retained message that could not be removed, and why.
type Uncleared struct {
	Device, Topic, Why string
}

// Retained are, for the devices that some messages leave on their broker, the topics of these:
// of readings with retain, and of their wills. A device that speaks through a gateway is the
// gateway's.
func Retained(devices []*fleet.Device) map[*fleet.Device][]string {
	of := map[*fleet.Device][]string{}
	for _, d := range devices {
		via := d
		if d.Gateway != nil {
			via = d.Gateway
		}
		if d.Cast.Link.Protocol != crowd.MQTT {
			continue
		}
		for _, s := range d.Streams {
			if s.Reading.Retain && s.Target != "" {
				of[via] = append(of[via], s.Target)
			}
		}
		if d.Will != nil && d.Will.Retain {
			of[via] = append(of[via], d.Will.Topic)
		}
	}
	for d := range of {
		slices.Sort(of[d])
		of[d] = slices.Compact(of[d])
	}
	return of
}

// ClearRetained removes the retained messages of devices: each publishes, as itself, a retained
// message without a body to the topic (MQTT 5, section 3.3.1.3). Cleared is the number of topics
// for which the broker acknowledged it. The error is a *link.ReachError where a link does not
// let anybody in.
func ClearRetained(ctx context.Context, f *fleet.Fleet, devices []*fleet.Device, network link.Network) (cleared int,
	failed []Uncleared, err error) {
	topics := Retained(devices)
	if len(topics) == 0 {
		return 0, nil, nil
	}
	engine.Shape(f, network)
	links := Links(f.Crowd, network)
	defer func() {
		for _, l := range links {
			l.Close()
		}
	}()
	var todo []*fleet.Device
	tried := map[*crowd.Link]bool{}
	for _, d := range f.Devices {
		if topics[d] == nil || d.Elsewhere {
			continue
		}
		if l := d.Cast.Link; !tried[l] {
			tried[l] = true
			if err := links[l].Try(ctx, plainly(d)); err != nil {
				return 0, nil, err
			}
		}
		todo = append(todo, d)
	}
	var mu sync.Mutex
	var clear errgroup.Group
	clear.SetLimit(clearing)
	for _, d := range todo {
		clear.Go(func() error {
			for topic, why := range clearOne(ctx, links[d.Cast.Link], d, topics[d]) {
				mu.Lock()
				if why == "" {
					cleared++
				} else {
					failed = append(failed, Uncleared{d.Name, topic, f.Crowd.Redact(why)})
				}
				mu.Unlock()
			}
			return nil
		})
	}
	_ = clear.Wait() // what failed is told of each topic
	slices.SortFunc(failed, func(a, b Uncleared) int {
		return slices.Compare([]string{a.Device, a.Topic}, []string{b.Device, b.Topic})
	})
	return cleared, failed, nil
}

// plainly is who a device is, without what it leaves behind and without what it listens to.
func plainly(d *fleet.Device) link.Identity {
	id := d.Identity()
	id.Will, id.Asks = nil, nil
	return id
}

// clearOne removes what one device left, and tells of each topic why not; or "".
func clearOne(ctx context.Context, l link.Link, d *fleet.Device, topics []string) map[string]string {
	ctx, cancel := context.WithTimeout(ctx, d.Cast.Link.ConnectTimeout+d.Cast.Link.Timeout)
	defer cancel()
	s := &clearSink{came: make(chan struct{}, len(topics)), why: map[string]string{}, down: "the broker did not answer"}
	conn := l.Connect(plainly(d), s)
	for i, t := range topics {
		conn.Send(&link.Message{Seq: uint64(i + 1), Target: t, MQTT: link.MQTT{QoS: 1, Retain: true}})
	}
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for left := len(topics); left > 0; {
		select {
		case <-s.came:
			left--
			continue
		case <-tick.C:
			conn.Tick(time.Now())
			continue
		case <-ctx.Done():
		}
		break
	}
	conn.Close(true)
	s.mu.Lock()
	defer s.mu.Unlock()
	result := map[string]string{}
	for _, t := range topics {
		why, is := s.why[t]
		if !is {
			why = s.down
		}
		result[t] = why
	}
	return result
}

// clearSink hears what becomes of messages that remove others.
type clearSink struct {
	mu   sync.Mutex
	came chan struct{}
	why  map[string]string // by topic; empty: it is done
	down string
}

func (s *clearSink) Settled(m *link.Message, _ int64, o outcome.Outcome, _ int, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case o == outcome.Accepted:
		s.why[m.Target] = ""
	case text == "":
		s.why[m.Target] = s.down
	default:
		s.why[m.Target] = o.String() + ": " + text
	}
	s.came <- struct{}{}
}

func (s *clearSink) Down(_ int, loss link.Loss) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.down = loss.Why
}

func (s *clearSink) Sent(*link.Message, int64, bool) {}
func (s *clearSink) Up(int, bool)                    {}
func (s *clearSink) Remark(int, string)              {}
func (s *clearSink) Listens(int, string, string)     {}
func (s *clearSink) Came(int, *link.Incoming)        {}
