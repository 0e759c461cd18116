package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/probe"
	"runcrowd/internal/sketch"
)

// shapes is a list of shapes for a help.
func shapes(title string, list []sketch.Shape) string {
	var b strings.Builder
	b.WriteString(title + "\n")
	for _, s := range list {
		fmt.Fprintf(&b, "  %-12s %s\n", s.Name, s.Doc)
	}
	return b.String()
}

func shapeNames(list []sketch.Shape) string {
	var names []string
	for _, s := range list {
		names = append(names, s.Name)
	}
	return strings.Join(names, ", ")
}

// sketched are the options that a new crowd file begins with.
func sketched(o sketch.Options) sketch.Options {
	o.Head, o.Devices, o.Every, o.For, o.QoS = "A first crowd for "+o.Address+": ten devices.", 10, "5s", "1m", 1
	if overHTTP(o.Address) && o.Target == "" && strings.Count(o.Address, "/") < 3 {
		o.Target = "/in/{device}/state"
	}
	if o.Credentials == "user" && o.User == "" {
		o.User = "harbour"
	}
	return o
}

func overHTTP(address string) bool { return strings.HasPrefix(address, "http") }

// writeShape writes a crowd file for a platform of a typical shape.
func (e *env) writeShape(dir string, o sketch.Options) error {
	name, err := nameFor(dir)
	if err != nil {
		return err
	}
	o.Name = name
	o = sketched(o)
	text, err := sketch.Crowd(o)
	if err != nil {
		return sketchError(err)
	}
	path, err := writeCrowd(dir, text, o.Files())
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "Wrote %s", path)
	for other := range o.Files() {
		fmt.Fprintf(e.stdout, ", %s", other)
	}
	fmt.Fprintf(e.stdout, ": ten devices for %s.\n", o.Address)
	if o.Sample != nil {
		for _, note := range o.Sample.Notes {
			fmt.Fprintf(e.stdout, "Look at this: %s.\n", note)
		}
	}
	for _, todo := range toFill(&o) {
		fmt.Fprintf(e.stdout, "To do: %s.\n", todo)
	}
	fmt.Fprintf(e.stdout, "\nThen see what it would send, test the connection step by step with one message, and play it:\n"+
		"  %[1]s preview %[2]s\n  %[1]s probe %[2]s\n  %[1]s run %[2]s\n", e.program, path)
	return nil
}

// toFill is what somebody has to do before a crowd file of this shape can be played.
func toFill(o *sketch.Options) (list []string) {
	switch o.Credentials {
	case "user":
		list = append(list, "export PLATFORM_PASSWORD=…, the password of "+o.User)
	case "own-user":
		list = append(list, "put names and passwords of the devices into "+sketch.RosterFile)
	case "certificate":
		list = append(list, "put a certificate and a key for each device into the folder certs")
	case "header":
		list = append(list, "export PLATFORM_TOKEN=…")
	case "path":
		list = append(list, "export INTAKE_KEY=…, the secret in the path")
	case "signed":
		list = append(list, "put a private key for each device into the folder keys, and what the platform wants into claims")
	case "oauth":
		list = append(list, "put in the address of the authorization server, and export CLIENT_SECRET=…")
	}
	switch o.Credentials {
	case "own-user", "signed", "oauth", "certificate":
		if !overHTTP(o.Address) {
			list = append(list, "give the witness credentials that may subscribe: those of a device would throw it off")
		}
	}
	switch o.Stored {
	case "query":
		list = append(list, "put in the request that reads what was stored, and where rows, mark and values are in the answer")
	case "database":
		list = append(list, "export DATABASE_URL=…, and put in the query")
	case "files":
		list = append(list, "put in where the files are")
	}
	return list
}

// asker asks questions on a terminal.
type asker struct {
	env *env
	in  *bufio.Reader
}

// errLeft: whoever was asked went away.
var errLeft = errors.New("the questions were not answered to the end; nothing was written")

// ask gives what was typed, or what stands in brackets where nothing was.
func (a *asker) ask(question, usual string) (string, error) {
	fmt.Fprintf(a.env.stderr, "%s [%s]: ", question, usual)
	line, err := a.in.ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		if err != nil {
			fmt.Fprintln(a.env.stderr)
			if err == io.EOF {
				err = errLeft
			}
			return "", err
		}
		return usual, nil
	}
	return line, nil
}

// choose asks for one of some shapes, by its number or its name.
func (a *asker) choose(question string, list []sketch.Shape) (string, error) {
	for i, s := range list {
		fmt.Fprintf(a.env.stderr, "  %d  %s\n", i+1, s.Doc)
	}
	for {
		typed, err := a.ask(question, "1")
		if err != nil {
			return "", err
		}
		if n, err := strconv.Atoi(typed); err == nil && n > 0 && n <= len(list) {
			return list[n-1].Name, nil
		}
		for _, s := range list {
			if s.Name == typed {
				return s.Name, nil
			}
		}
		fmt.Fprintf(a.env.stderr, "Type a number from 1 to %d.\n", len(list))
	}
}

// askNew asks what a new crowd file is to be, and writes it.
func (e *env) askNew(dir string) error {
	a := &asker{env: e, in: bufio.NewReader(os.Stdin)}
	fmt.Fprintf(e.stderr, "A few questions. Enter takes what stands in brackets; Ctrl-C ends, and nothing is written.\n\n")
	const standin = "the stand-in"
	var o sketch.Options
	for {
		address, err := a.ask("Address of the platform, such as mqtt://HOST:1883 or https://HOST", standin)
		if err != nil {
			return err
		}
		if address == standin {
			fmt.Fprintln(e.stderr)
			return e.writeFirst(dir)
		}
		o.Address = address
		c, d, err := reachable(o)
		if err != nil {
			fmt.Fprintf(e.stderr, "%s\n", sketchError(err))
			continue
		}
		ctx, stop := interruptible()
		r := probe.Reach(ctx, d, func(s probe.Step) { e.tellStep(e.stderr, s, c) })
		ended := ctx.Err() != nil
		stop()
		if ended {
			return &exitError{exitInterrupted, errLeft}
		}
		if !r.Failed() {
			break
		}
		keep, err := a.ask("Nothing answers there just now. Keep this address? yes, or no for another", "no")
		if err != nil {
			return err
		}
		if keep == "yes" || keep == "y" {
			break
		}
	}
	fmt.Fprintln(e.stderr, "\nHow do devices say who they are?")
	var ways []sketch.Shape
	for _, s := range sketch.Credentials {
		if overHTTP(o.Address) || !strings.HasPrefix(s.Doc, "HTTP: ") {
			ways = append(ways, s)
		}
	}
	var err error
	if o.Credentials, err = a.choose("One of these", ways); err != nil {
		return err
	}
	if o.Credentials == "user" {
		if o.User, err = a.ask("User", "harbour"); err != nil {
			return err
		}
	}
	fmt.Fprintln(e.stderr)
	what, usual := "Topic, with {device} for the device", "harbour/{device}/state"
	if overHTTP(o.Address) {
		what, usual = "Path, with {device} for the device", "/in/{device}/state"
	}
	if o.Target, err = a.ask(what, usual); err != nil {
		return err
	}
	for {
		path, err := a.ask("A file with a real message, if there is one: JSON, CSV, lines, CBOR", "none")
		if err != nil {
			return err
		}
		if path == "none" {
			break
		}
		if o.Sample, err = readSample(path); err == nil {
			break
		}
		fmt.Fprintf(e.stderr, "%s\n", strings.TrimPrefix(err.Error(), "--sample: "))
	}
	for o.Sample == nil {
		fields, err := a.ask("Fields of a message, such as temp=20..25 lamp=on,off", sketch.DefaultField)
		if err != nil {
			return err
		}
		o.Fields = strings.Fields(fields)
		wrong := error(nil)
		for _, f := range o.Fields {
			if _, err := sketch.Field(f); err != nil && wrong == nil {
				wrong = err
			}
		}
		if wrong == nil {
			break
		}
		fmt.Fprintf(e.stderr, "%s\n", wrong)
	}
	fmt.Fprintln(e.stderr, "\nHow can one look at what the platform has stored?")
	if o.Stored, err = a.choose("One of these", sketch.Stores); err != nil {
		return err
	}
	fmt.Fprintln(e.stderr)
	return e.writeShape(dir, o)
}

// reachable is a device of a crowd at an address; nothing of it is sent.
func reachable(o sketch.Options) (*crowd.Crowd, *fleet.Device, error) {
	o.Name = "new"
	text, err := sketch.Crowd(sketched(o))
	if err != nil {
		return nil, nil, err
	}
	c, err := file.Parse("crowd.yaml", []byte(text), file.Sources{OnlyRead: true})
	if err != nil {
		return nil, nil, err
	}
	f, err := fleet.Build(c, credential.New(c))
	if err != nil {
		return nil, nil, err
	}
	return c, f.Devices[0], nil
}
