package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
)

// changes are what the flags of a command change in a crowd file for this once.
type changes []string

func (c *changes) flag(cmd *cobra.Command) {
	cmd.Flags().Var(&changeFlag{c, ""}, "set", "another value for this once, such as plan.for=30s or "+
		"devices.buoy.count=500; may be given several times")
}

// shortFlags adds flags for what is changed most.
func (c *changes) shortFlags(cmd *cobra.Command) {
	for _, x := range []struct{ flag, key, help string }{
		{"for", "plan.for", "how long the plan lasts this once, such as 30s"},
		{"count", "devices.count", "how many devices there are this once, in a file with one group of them"},
		{"seed", "seed", "the seed this once"},
		{"address", "address", "where the platform is this once, such as mqtts://broker.example:8883; witnesses that ask there follow"},
	} {
		cmd.Flags().Var(&changeFlag{c, x.key}, x.flag, x.help)
	}
}

// changeFlag is a flag that changes the value of a key, or of the one that it is given.
type changeFlag struct {
	changes *changes
	key     string
}

func (f *changeFlag) String() string { return "" }
func (f *changeFlag) Type() string {
	if f.key == "" {
		return "KEY=VALUE"
	}
	return "value"
}

func (f *changeFlag) Set(text string) error {
	if f.key != "" {
		text = f.key + "=" + text
	}
	*f.changes = append(*f.changes, text)
	return nil
}

// load reads a crowd file as it is changed.
func (c changes) load(path string) (*crowd.Crowd, error) {
	return file.LoadChanged(path, c, func(text string) { fmt.Fprintln(os.Stderr, text) })
}

// loadFleet reads a crowd file and makes its devices.
func loadFleet(path string, with changes) (*fleet.Fleet, error) {
	c, err := with.load(path)
	if err != nil {
		return nil, err
	}
	return fleet.Build(c, credential.New(c))
}

// deviceNamed finds a device; command is who asks.
func deviceNamed(f *fleet.Fleet, command, name string) (*fleet.Device, error) {
	var known []string
	for _, d := range f.Devices {
		if d.Name == name {
			return d, nil
		}
		known = append(known, d.Name)
	}
	return nil, unknownName(command, "there is no device", name, known)
}

// linkNamed finds the link that --link names.
func linkNamed(c *crowd.Crowd, name string) (*crowd.Link, error) {
	if l := c.Link(name); l != nil {
		return l, nil
	}
	var known []string
	for _, l := range c.Links {
		known = append(known, l.Name)
	}
	return nil, unknownName("--link", "there is no link", name, known)
}

// interruptible is a context that ends with Ctrl-C.
func interruptible() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), endSignals()...)
}

// selectDevices finds the devices that --who or --who names; all without one.
func selectDevices(f *fleet.Fleet, flag string, texts []string) ([]*fleet.Device, error) {
	var who []*crowd.Selection
	for _, t := range texts {
		s, err := crowd.ParseSelection(t)
		if err != nil {
			return nil, fmt.Errorf("--%s: %w", flag, err)
		}
		who = append(who, s)
	}
	devices, err := f.Select(who...)
	if err != nil {
		return nil, fmt.Errorf("--%s: %w", flag, err)
	}
	return devices, nil
}

// parseMoment reads when a plan begins: now, RFC 3339, or a time of today, UTC.
func parseMoment(text string, now time.Time) (time.Time, error) {
	if text == "" || text == "now" {
		return now, nil
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, text); err == nil {
			y, m, d := now.UTC().Date()
			return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), 0, time.UTC), nil
		}
	}
	return time.Time{}, fmt.Errorf("--at: %q is not a time; write one such as 15:00 or 2030-06-01T12:00:00Z", text)
}

// problemsOf is the list of mistakes in an error, or nil.
func problemsOf(err error) *crowd.Problems {
	var p *crowd.Problems
	if errors.As(err, &p) {
		return p
	}
	return nil
}
