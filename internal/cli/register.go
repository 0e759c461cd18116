package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/register"
	"runcrowd/internal/run"
)

func (e *env) register() *cobra.Command {
	var compare, adopt bool
	var with changes
	cmd := &cobra.Command{
		Use:   "register [FILE]",
		Short: "Register the devices with the platform",
		Long: `Register registers the devices of a crowd file with the platform: it sends the
requests that the file gives under register, for each device that was not registered
before, at the file's pace. What the file says to keep of the answers (tokens, ids)
is written at once to a file beside the crowd file. Only its owner can read it, and
every later command uses it. If register is interrupted, call it again: it goes on.

Where the file says how the platform lists its devices, a device that is listed before
it was registered here is left alone: it may be somebody else's. --adopt takes it for
ours. One whose registration was cut off, and that is listed, is ours.

With --compare it registers nothing: it asks the platform which devices it knows, and
compares them with the crowd.`,
		Example: "  runcrowd register harbour/crowd.yaml\n  runcrowd register harbour/crowd.yaml --compare",
		Args:    oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			o, ctx, stop, err := registrar(crowdFile(args), with)
			if err != nil {
				return err
			}
			defer stop()
			o.Adopt = adopt
			if compare {
				return e.tellComparison(ctx, o)
			}
			res, err := o.Register(ctx, e.progress("registered", len(o.Fleet.Devices)))
			return e.tellRegistered(ctx, o, res, err, "registered")
		},
	}
	with.flag(cmd)
	cmd.Flags().BoolVar(&adopt, "adopt", false, "take devices that the platform has, and that were not registered here, "+
		"for ours")
	cmd.Flags().BoolVar(&compare, "compare", false, "register nothing; compare the devices that the platform knows with "+
		"the crowd")
	return cmd
}

func (e *env) unregister() *cobra.Command {
	var adopt, leave bool
	var with changes
	cmd := &cobra.Command{
		Use:   "unregister [FILE]",
		Short: "Unregister the devices that register registered, and remove their retained messages",
		Long: `Unregister removes the devices that register registered, and no others. Where the file
says how the platform lists its devices, it proves that they are gone: the list showed
a device before, and does not show it after (it is asked again for as long as wait
says). What is not proven gone is named and stays registered here: call it again.

Before that, each device removes the retained messages that it left on its broker: of
its readings with retain, and its will. It connects as itself and publishes an empty
message to each of these topics. In a file that registers nothing, that is all.`,
		Example: "  runcrowd unregister harbour/crowd.yaml",
		Args:    oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if !leave {
				if only, err := e.clearRetained(crowdFile(args), with); only || err != nil {
					return err
				}
			}
			o, ctx, stop, err := registrar(crowdFile(args), with)
			if err != nil {
				return err
			}
			defer stop()
			o.Adopt = adopt
			res, err := o.Unregister(ctx, e.progress("unregistered", len(o.Crowd.Registered)))
			return e.tellRegistered(ctx, o, res, err, "unregistered")
		},
	}
	with.flag(cmd)
	cmd.Flags().BoolVar(&adopt, "adopt", false, "remove also devices whose registration was not answered, where no list "+
		"tells whether they exist")
	cmd.Flags().BoolVar(&leave, "leave-retained", false, "leave retained messages on the broker")
	return cmd
}

// clearRetained removes the retained messages of the devices that are unregistered, or of all
// where the file registers nothing; only tells that there is nothing more to do.
func (e *env) clearRetained(path string, with changes) (only bool, err error) {
	f, err := loadFleet(path, with)
	if err != nil {
		return false, err
	}
	var devices []*fleet.Device
	for _, d := range f.Devices {
		if _, is := f.Crowd.Registered[d.Name]; is || f.Crowd.Register == nil {
			devices = append(devices, d)
		}
	}
	if len(run.Retained(devices)) == 0 {
		return false, nil
	}
	ctx, stop := interruptible()
	defer stop()
	cleared, failed, err := run.ClearRetained(ctx, f, devices, nil)
	if err != nil {
		return false, &exitError{exitUnreachable, fmt.Errorf("the retained messages of the devices were not removed, and "+
			"nothing was unregistered: %s; --leave-retained leaves them", f.Crowd.Redact(err.Error()))}
	}
	fmt.Fprintf(e.stdout, "Retained messages were removed from %s, as the broker acknowledged.\n",
		plural(cleared, "topic"))
	for i, x := range failed {
		if i == 5 {
			fmt.Fprintf(e.stdout, "  … and %d more\n", len(failed)-5)
			break
		}
		fmt.Fprintf(e.stdout, "  %s, %s: %s\n", x.Device, x.Topic, x.Why)
	}
	switch {
	case ctx.Err() != nil:
		return false, &exitError{code: exitInterrupted}
	case len(failed) > 0 && f.Crowd.Register != nil:
		return false, &exitError{exitBroken, fmt.Errorf("%s could not be removed, and nothing was unregistered; "+
			"--leave-retained leaves them", plural(len(failed), "retained message"))}
	case len(failed) > 0:
		return false, &exitError{code: exitBroken}
	}
	return f.Crowd.Register == nil, nil
}

// registrar opens the registration of a crowd file, with a context that an interruption ends.
func registrar(path string, with changes) (*register.Registrar, context.Context, context.CancelFunc, error) {
	f, err := loadFleet(path, with)
	if err != nil {
		return nil, nil, nil, err
	}
	if f.Crowd.Register == nil {
		return nil, nil, nil, fmt.Errorf("%s does not say how devices are registered; write, for example, register: "+
			"{request: {url: \"http://HOST/devices\", body: {name: \"${device}\"}}, save: {token: .token}}", path)
	}
	registrar, err := register.New(f, nil)
	if err != nil {
		return nil, nil, nil, err
	}
	ctx, stop := interruptible()
	return registrar, ctx, stop, nil
}

// progress tells now and then how far it is.
func (e *env) progress(what string, all int) func(string, error) {
	n := 0
	return func(string, error) {
		if n++; n%100 == 0 {
			fmt.Fprintf(e.stderr, "%d of %d %s …\n", n, all, what)
		}
	}
}

func (e *env) tellRegistered(ctx context.Context, o *register.Registrar, res *register.Result, err error,
	what string) error {
	if res != nil {
		fmt.Fprintf(e.stdout, "%s %s", plural(len(res.Done), "device"), what)
		if n := len(res.Already); n > 0 {
			fmt.Fprintf(e.stdout, "; %d before", n)
		}
		fmt.Fprintln(e.stdout)
		for i, f := range res.Failed {
			if i == 5 {
				fmt.Fprintf(e.stdout, "  … and %d more\n", len(res.Failed)-5)
				break
			}
			fmt.Fprintf(e.stdout, "  %s: %s\n", f.Device, f.Why)
		}
		if n := len(res.Skipped); n > 0 {
			fmt.Fprintf(e.stdout, "%s not tried yet; call it again to go on\n", plural(n, "device"))
		}
		if what == "unregistered" {
			if list := o.Forgotten(); len(list) > 0 {
				fmt.Fprintf(e.stdout, "Registered here, but no longer in the crowd file: %s. Put them back to unregister them.\n",
					formula.List(list))
			}
			if o.Crowd.Register.List == nil && len(res.Done) > 0 {
				fmt.Fprintln(e.stdout, "Whether they are gone was not checked: the file has no register: list.")
			} else if len(res.Done) > 0 && err == nil {
				fmt.Fprintln(e.stdout, "The platform listed them before, or said that they were not there, and lists none of "+
					"them now.")
			}
			if n := len(res.Failed); n > 0 {
				fmt.Fprintf(e.stdout, "%s not proven gone, and stay registered here; call it again to remove them.\n",
					plural(n, "device"))
			}
		} else if len(res.Done)+len(res.Already) > 0 && len(o.Crowd.Register.Save) > 0 {
			fmt.Fprintf(e.stdout, "What was kept is in %s; only its owner can read it\n", o.Crowd.RegisteredFile())
		}
	}
	switch {
	case err != nil:
		return &exitError{exitUnreachable, errors.New(o.Crowd.Redact(err.Error()))}
	case ctx.Err() != nil:
		return &exitError{code: exitInterrupted}
	case len(res.Failed) > 0:
		return &exitError{code: exitBroken}
	}
	return nil
}

func (e *env) tellComparison(ctx context.Context, o *register.Registrar) error {
	c, err := o.Compare(ctx)
	if err != nil {
		return &exitError{exitUnreachable, errors.New(o.Crowd.Redact(err.Error()))}
	}
	tell := func(name, doc string, list []string) {
		some := ""
		if len(list) > 0 {
			some = ": " + formula.List(list)
		}
		fmt.Fprintf(e.stdout, "  %-8s %5d  %s%s\n", name, len(list), doc, some)
	}
	fmt.Fprintf(e.stdout, "  %-8s %5d  %s\n", "known", len(c.Known), "in the crowd, and known to the platform")
	tell("missing", "in the crowd, but not known to the platform", c.Missing)
	tell("surplus", "known to the platform, but not in the crowd", c.Surplus)
	if c.Hint != "" {
		fmt.Fprintln(e.stdout, strings.ToUpper(c.Hint[:1])+c.Hint[1:])
	}
	if len(c.Missing) > 0 {
		return &exitError{code: exitBroken}
	}
	return nil
}
