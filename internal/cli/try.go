package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/folder"
	"runcrowd/internal/quantity"
	"runcrowd/internal/sketch"
)

// typedPassword is the variable in which a password stands that was typed.
const typedPassword = "RUNCROWD_PASSWORD"

func (e *env) try() *cobra.Command {
	var o output
	var s sketch.Options
	var write, sample string
	cmd := &cobra.Command{
		Use:   "try ADDRESS [TOPIC-OR-PATH]",
		Short: "Play a small crowd without a crowd file",
		Long: `Try plays a small crowd that a few options describe, and judges what became of every
message, as run does. Over MQTT a witness subscribes to what is published. Over HTTP
messages are sent, and with --read-back a witness looks for them at that address.

In a topic, a path and an address {device} stands for the name of each device.

A field is NAME=20..25 (a number that wanders in this range), NAME=on,off (one of these)
or NAME=5 (always the same). With --sample the messages are as those of a file: JSON, one or
several. Numbers wander in the range that they have there, times are those of now, texts that
differ are drawn, and what looks like the name of a device is one.

A password is asked for on the terminal, or is in the variable that --password-env names;
it is never an option's value. A header with a secret names a variable, too:
--header 'Authorization: Bearer ${env.TOKEN}'.

With --write DIR the crowd file that it was stays in DIR, to go on with.`,
		Example: "  runcrowd try mqtt://127.0.0.1:1883\n  runcrowd try mqtts://broker.harbour:8883 'harbour/{device}/state' " +
			"--user watch --field temp=20..25 --field lamp=on,off\n  runcrowd try http://127.0.0.1:8080 '/in/{device}/state' " +
			"--read-back 'http://127.0.0.1:8080/stored/{device}'\n  runcrowd try mqtt://127.0.0.1:1883 --devices 100 --for 1m " +
			"--write harbour",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return fmt.Errorf("try needs the address of a platform, and may have a topic or a path: runcrowd try " +
					"mqtt://HOST:PORT 'harbour/{device}/state'")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(o.format); err != nil {
				return err
			}
			s.Address, s.Name, s.Head = args[0], "try", "What runcrowd try played."
			var err error
			if s.Sample, err = readSample(sample); err != nil {
				return err
			}
			if len(args) > 1 {
				s.Target = args[1]
			}
			if write != "" {
				name, err := nameFor(write)
				if err != nil {
					return err
				}
				s.Name = name
			}
			if s.CA != "" { // from here, wherever the crowd file is
				var err error
				if s.CA, err = filepath.Abs(s.CA); err != nil {
					return err
				}
			}
			if err := e.askPassword(&s); err != nil {
				return err
			}
			return e.playSketch(s, write, &o)
		},
	}
	o.flags(cmd)
	f := cmd.Flags()
	f.IntVar(&s.Devices, "devices", 10, "how many devices")
	f.StringVar(&s.Every, "every", "1s", "how often each sends")
	f.StringVar(&s.For, "for", "10s", "for how long")
	f.StringArrayVar(&s.Fields, "field", nil, "a field of each message, such as temp=20..25, lamp=on,off or n=5; may be "+
		"given several times")
	f.StringVar(&sample, "sample", "", "a file of messages that these are to be like: JSON, CSV, lines, line "+
		"protocol or CBOR; - is standard input")
	f.StringVar(&s.User, "user", "", "the user of all devices, or '{device}'; its password is asked for")
	f.StringVar(&s.Password, "password-env", "", "the variable of the environment that has the password")
	f.StringVar(&s.Watcher, "watch-user", "", "MQTT: the user of the witness, where each device has its own")
	f.StringVar(&s.Watch, "watch-password-env", "", "the variable of the environment that has its password")
	f.StringArrayVar(&s.Headers, "header", nil, "HTTP: a header of each request, 'Name: value'; may be given several times")
	f.IntVar(&s.QoS, "qos", 1, "MQTT: quality of service, 0, 1 or 2")
	f.StringVar(&s.CA, "ca", "", "a file of certificates, in PEM, by which the platform's is checked")
	f.StringVar(&s.ReadBack, "read-back", "", "HTTP: the address at which what was stored can be read, such as "+
		"'http://HOST/stored/{device}'")
	f.StringVar(&s.Rows, "rows", "", "jq: where its answer has the rows; if not given, they are looked for")
	f.StringVar(&write, "write", "", "a folder in which the crowd file is written")
	return cmd
}

// readSample learns from a file of messages; nil without one.
func readSample(path string) (*sketch.Sample, error) {
	if path == "" {
		return nil, nil
	}
	var text []byte
	var err error
	if path == "-" {
		text, err = io.ReadAll(io.LimitReader(os.Stdin, mostSample+1))
	} else {
		text, err = folder.ReadRegular(path)
	}
	if err != nil {
		return nil, fmt.Errorf("--sample: %s: %s", path, folder.Why(err))
	}
	if len(text) > mostSample {
		return nil, fmt.Errorf("--sample: %s is larger than %s; a part of it is enough", path, quantity.FormatSize(mostSample))
	}
	s, err := sketch.Read(text)
	if err != nil {
		return nil, fmt.Errorf("--sample: %s: %w", path, err)
	}
	return s, nil
}

// mostSample bounds a sample.
const mostSample = 64 << 20

// askPassword asks for the password of a user on the terminal, where no variable has it.
func (e *env) askPassword(s *sketch.Options) error {
	if s.User == "" || s.Password != "" {
		return nil
	}
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		return fmt.Errorf("the password of %s cannot be asked for, as there is no terminal; put it into a variable, and name "+
			"that with --password-env", s.User)
	}
	fmt.Fprintf(e.stderr, "Password of %s: ", s.User)
	typed, err := term.ReadPassword(fd)
	fmt.Fprintln(e.stderr)
	if err != nil {
		return fmt.Errorf("the password could not be read: %w", err)
	}
	if len(typed) == 0 {
		return nil
	}
	s.Password = typedPassword
	return os.Setenv(typedPassword, string(typed))
}

func (e *env) playSketch(s sketch.Options, write string, o *output) error {
	text, err := sketch.Crowd(s)
	if err != nil {
		return sketchError(err)
	}
	path := "try"
	if write != "" {
		path = filepath.Join(write, "crowd.yaml")
	}
	c, err := file.Parse(path, []byte(text), file.Sources{Getenv: os.LookupEnv})
	if err != nil {
		return sketchError(err)
	}
	if write != "" {
		if _, err := writeCrowd(write, text, nil); err != nil {
			return err
		}
	}
	_, err = e.play(c, path, o, func(p *played) {
		if o.format != "text" {
			return
		}
		fmt.Fprintf(e.stdout, "\nThe run folder is %s\n", p.folder)
		if write != "" {
			fmt.Fprintf(e.stdout, "The crowd file is %s; play it again with: %s run %s\n", path, e.program, path)
			return
		}
		fmt.Fprintf(e.stdout, "To go on with the crowd file that this was, give it a folder: --write DIR\n")
	})
	return err
}

// sketchError tells the first mistake of a crowd file that nobody wrote, without its place.
func sketchError(err error) error {
	if p := problemsOf(err); p != nil && len(p.List) > 0 {
		return errors.New(p.List[0].Text)
	}
	var u *url.Error
	if errors.As(err, &u) {
		return fmt.Errorf("%s is no address: %w", u.URL, u.Err)
	}
	return err
}
