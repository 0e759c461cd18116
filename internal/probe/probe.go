// Package probe tests the connection to a platform step by step, as one device would, and
// says of the first step that fails what was seen, what is the likeliest cause,
// and what to try.
package probe

import (
	"context"
	"net"
	"net/url"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
	"runcrowd/internal/run"
)

// Result is how a step ended.
type Result uint8

// The results of a step.
const (
	OK Result = iota
	Failed
	Skipped  // a step before it failed, or there is nothing to do
	Doubtful // it may be the cause of what fails later
)

func (r Result) String() string { return [...]string{"ok", "failed", "skipped", "doubtful"}[r] }

// Step is one step of the way.
type Step struct {
	Name   string
	Result Result
	Took   time.Duration // 0: it is a part of another
	Says   string        // what was seen
	Causes []string      // of a failure, the likeliest first
}

// Report is the way over one link.
type Report struct {
	Link    string
	Address string
	Device  string // as which it was gone
	Steps   []Step
}

// Failed tells whether some step did.
func (r *Report) Failed() bool {
	for _, s := range r.Steps {
		if s.Result == Failed {
			return true
		}
	}
	return false
}

// stepTime is how long one step of the network may take.
const stepTime = 5 * time.Second

// prober goes one way.
type prober struct {
	*Report
	see      func(Step)
	fail     bool
	measured time.Duration // of the step being made, where it is not the time that looking took
	part     bool          // the step being made is a part of another
	doubt    bool          // the step being made holds, and is doubtful
	token    string
	renew    time.Time // when it has to be changed
	links    map[*crowd.Link]link.Link
	skew     time.Duration // of the platform's clock against ours; above zero: it is ahead
}

// do makes one step; f gives what was seen, and on failure the causes.
func (p *prober) do(ctx context.Context, name string, f func(context.Context) (says string, causes []string, ok bool)) {
	s := Step{Name: name, Result: Skipped}
	if !p.fail {
		ctx, cancel := context.WithTimeout(ctx, stepTime)
		defer cancel()
		began := time.Now()
		p.measured, p.part, p.doubt = 0, false, false
		says, causes, ok := f(ctx)
		s.Took, s.Says, s.Causes = time.Since(began), says, causes
		switch {
		case p.part:
			s.Took = 0
		case p.measured > 0:
			s.Took = p.measured
		}
		if s.Result = OK; !ok {
			s.Result, p.fail = Failed, true
		} else if p.doubt {
			s.Result = Doubtful
		}
	}
	p.Steps = append(p.Steps, s)
	if p.see != nil {
		p.see(s)
	}
}

// Way tests the connection over the link of a stream's device: the network, the protocol,
// then one message. See, if not nil, is told of each step as it is made.
func Way(ctx context.Context, c *crowd.Crowd, f *fleet.Fleet, s *fleet.Stream, see func(Step)) Report {
	d := s.Device
	l := d.Cast.Link
	r := Report{Link: l.Name, Address: l.URL(), Device: d.Name}
	p := &prober{Report: &r, see: see, links: run.Links(c, nil)}
	defer func() {
		for _, l := range p.links {
			l.Close()
		}
	}()
	p.network(ctx, l, d, hostAndPort(l))
	p.clock(ctx, c, l, d)
	p.makeToken(ctx, d)
	if l.Protocol == crowd.MQTT {
		p.broker(ctx, l, d)
	}
	p.message(ctx, c, f, s)
	return r
}

// Reach tests the network to the platform alone: its name, TCP, and TLS where the link has it.
// Nothing is sent.
func Reach(ctx context.Context, d *fleet.Device, see func(Step)) Report {
	l := d.Cast.Link
	r := Report{Link: l.Name, Address: l.URL(), Device: d.Name}
	p := &prober{Report: &r, see: see}
	p.network(ctx, l, d, hostAndPort(l))
	return r
}

// hostAndPort is where a link leads.
func hostAndPort(l *crowd.Link) string {
	address := l.Address
	if l.Protocol == crowd.HTTP {
		u, err := url.Parse(l.Address)
		if err != nil {
			u = &url.URL{}
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
		}
		address = net.JoinHostPort(u.Hostname(), port)
	}
	return address
}
