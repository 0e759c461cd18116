package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"runcrowd/examples"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/report"
	"runcrowd/internal/sketch"
)

var crowdName = regexp.MustCompile(`[^a-z0-9-]+`)

func (e *env) newFile() *cobra.Command {
	var example, address, sample, topic, credentials, store string
	var heard learning
	var list strings.Builder
	for _, x := range examples.All() {
		fmt.Fprintf(&list, "  %-11s %s\n", x.Name, x.Doc)
	}
	cmd := &cobra.Command{
		Use:   "new DIR",
		Short: "Write a first crowd file, or a small example",
		Long: `New makes the folder DIR and writes a small crowd file with comments into it,
ready to be played against the stand-in. It never writes over a file.

With --address it writes one for the platform at that address, ready for probe.

With --sample it writes one whose messages are as those of a file: JSON, one or several;
lines of values, as CSV or T=21.5;H=40; line protocol; or CBOR. --topic says where
they go: a topic, or over HTTP a path, with {device} for the device.

With a recording as --sample, as record writes it, or with --listen 2m, which listens at
--address for so long, it learns the whole fleet from its traffic: the kinds of devices and
their names, how often each reading comes, and for each field the signal that makes such
values. The file says beside each what it was learnt from and how well it fits. --topic says
where the device stands, such as 'harbour/{device}/+', if that is not found.

--credentials says how devices say who they are, and --store how what was stored can be looked
at: the file then has the lines for it, to be filled.

` + shapes("--credentials", sketch.Credentials) + "\n" + shapes("--store", sketch.Stores) + `
On a terminal and without an option it asks for all this, and tests the address on the way.

With --example it writes one of these instead, each the smallest crowd that shows
one thing:

` + list.String(),
		Example: "  runcrowd new harbour\n  runcrowd new harbour --address mqtt://192.0.2.7:1883\n  runcrowd new gauges " +
			"--example roster",
		Args: exactly(1, "one folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if example != "" && address != "" {
				return errors.New("--example and --address write different files; give one")
			}
			if cmd.Flags().NFlag() == 0 && term.IsTerminal(int(os.Stdin.Fd())) {
				return e.askNew(args[0])
			}
			if credentials+store != "" {
				if example+heard.length != "" || address == "" {
					return errors.New("--credentials and --store go with --address, and perhaps --topic and --sample")
				}
				learnt, err := readSample(sample)
				if err != nil {
					return err
				}
				return e.writeShape(args[0], sketch.Options{Address: address, Target: topic, Credentials: credentials, Stored: store,
					Sample: learnt, User: heard.at.User})
			}
			heard.address, heard.topic, heard.path = address, topic, sample
			if heard.length != "" {
				if sample+example != "" {
					return errors.New("--listen learns from what it hears; leave out --sample and --example")
				}
				return e.writeHeard(args[0], &heard)
			}
			if heard.at.User+heard.at.Password+heard.at.CA != "" {
				return errors.New("--user, --password-env and --ca go with --listen")
			}
			if sample != "" {
				if example != "" {
					return errors.New("--example and --sample write different files; give one")
				}
				if recorded(sample) {
					return e.writeHeard(args[0], &heard)
				}
				return e.writeLearnt(args[0], address, topic, sample)
			}
			if topic != "" {
				return errors.New("--topic goes with --sample and --listen")
			}
			if address != "" {
				return e.writeForLink(args[0], address)
			}
			if example == "" {
				return e.writeFirst(args[0])
			}
			var known []string
			for _, x := range examples.All() {
				if x.Name == example {
					return e.writeExample(args[0], x)
				}
				known = append(known, x.Name)
			}
			return unknownName("--example", "there is no example", example, known)
		},
	}
	cmd.Flags().StringVar(&address, "address", "", "address of a platform: mqtt://, mqtts://, ws://, wss://, http:// or "+
		"https://HOST:PORT")
	cmd.Flags().StringVar(&sample, "sample", "", "a file of messages (JSON, CSV, lines, line protocol, CBOR), or a recording; "+
		"- is standard input")
	cmd.Flags().StringVar(&topic, "topic", "", "with --sample: the topic or path, such as 'harbour/{device}/state'; of a "+
		"recording: where the device stands")
	cmd.Flags().StringVar(&heard.length, "listen", "", "learn the fleet from what comes at --address for so long, such as 2m")
	cmd.Flags().StringVar(&heard.at.User, "user", "", "with --listen, or --credentials user: the user; for --listen the password "+
		"is asked for")
	cmd.Flags().StringVar(&heard.at.Password, "password-env", "", "with --listen: the variable of the environment that has the password")
	cmd.Flags().StringVar(&heard.at.CA, "ca", "", "with --listen: a file of certificates by which the broker's is checked")
	cmd.Flags().StringVar(&credentials, "credentials", "", "how devices say who they are: "+shapeNames(sketch.Credentials))
	cmd.Flags().StringVar(&store, "store", "", "how what was stored can be looked at: "+shapeNames(sketch.Stores))
	cmd.Flags().StringVar(&example, "example", "", "write this example instead")
	return cmd
}

// nameFor is a crowd's name that fits a folder.
func nameFor(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	name := strings.Trim(crowdName.ReplaceAllString(strings.ToLower(filepath.Base(abs)), "-"), "-")
	if name == "" {
		name = "crowd"
	}
	return name, nil
}

// writeLearnt writes a crowd file whose messages are as those of a sample.
func (e *env) writeLearnt(dir, address, topic, sample string) error {
	name, err := nameFor(dir)
	if err != nil {
		return err
	}
	learnt, err := readSample(sample)
	if err != nil {
		return err
	}
	if address == "" {
		address = "mqtt://" + examples.MQTTAddress
	}
	if strings.HasPrefix(address, "http") && topic == "" && strings.Count(address, "/") < 3 {
		topic = "/in/{device}/state"
	}
	text, err := sketch.Crowd(sketch.Options{Name: name, Head: "Ten devices that send what a sample shows.",
		Address: address, Target: topic, Devices: 10, Every: "5s", For: "1m", QoS: 1, Sample: learnt})
	if err != nil {
		return sketchError(err)
	}
	path, err := writeCrowd(dir, text, nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "Wrote %s: ten devices that send %s.\n", path, plural(len(learnt.Fields), "field"))
	for _, note := range learnt.Notes {
		fmt.Fprintf(e.stdout, "Look at this: %s.\n", note)
	}
	fmt.Fprintln(e.stdout)
	e.whatNext(path)
	return nil
}

// writeForLink writes a crowd file for a platform; an address that no link can have
// is told as it would be in the file.
func (e *env) writeForLink(dir, address string) error {
	name, err := nameFor(dir)
	if err != nil {
		return err
	}
	template := examples.LinkMQTT
	if strings.HasPrefix(address, "http") {
		template = examples.LinkHTTP
	}
	address = strings.TrimRight(address, "/")
	text := strings.NewReplacer("crowd: NAME", "crowd: "+name, "ADDRESS", address).Replace(template)
	if _, err := file.Parse("crowd.yaml", []byte(text), file.Sources{}); err != nil {
		if p := problemsOf(err); p != nil {
			return fmt.Errorf("--address: %s", p.List[0].Text)
		}
		return err
	}
	path, err := writeCrowd(dir, text, nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "Wrote %s: one device for %s.\n\n", path, address)
	fmt.Fprintf(e.stdout, "Put in what the platform wants to see, then test the connection step by step, and send one "+
		"message:\n  %s probe %s\n  %s send %s %s\n", e.program, path, e.program, path,
		map[bool]string{true: "gauge-001", false: "buoy-001"}[template == examples.LinkHTTP])
	return nil
}

func (e *env) writeFirst(dir string) error {
	name, err := nameFor(dir)
	if err != nil {
		return err
	}
	path, err := writeCrowd(dir, strings.Replace(examples.First, "crowd: NAME", "crowd: "+name, 1), nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "Wrote %s: ten buoys that report over MQTT.\n\n", path)
	e.whatNext(path)
	fmt.Fprintf(e.stdout, "Then put the addresses of your own platform in place of %s and %s.\n", examples.MQTTAddress,
		examples.HTTPAddress)
	return nil
}

func (e *env) writeExample(dir string, x examples.Example) error {
	if err := writeFiles(dir, x.Files); err != nil {
		return err
	}
	path := filepath.Join(dir, "crowd.yaml")
	also := ""
	for _, name := range fileNames(x.Files) {
		if name != "crowd.yaml" {
			also += ", " + filepath.Join(dir, name)
		}
	}
	fmt.Fprintf(e.stdout, "Wrote %s%s.\n%s.\n\n", path, also, x.Doc)
	if len(x.Try) == 0 {
		e.whatNext(path)
		return nil
	}
	fmt.Fprintf(e.stdout, "Try it, the stand-in in one terminal and the rest in another:\n")
	for _, line := range x.Try {
		line = strings.ReplaceAll(line, "runcrowd ", e.program+" ")
		fmt.Fprintf(e.stdout, "  %s\n", strings.ReplaceAll(line, "crowd.yaml", path))
	}
	return nil
}

func (e *env) whatNext(path string) {
	fmt.Fprintf(e.stdout, "See what it would send:\n  %s check %s\n  %s preview %s\n\n", e.program, path, e.program, path)
	fmt.Fprintf(e.stdout, "Try it against the stand-in, in two terminals:\n  %s standin\n  %s run %s\n\n", e.program,
		e.program, path)
}

// schemaFile is where a new crowd file finds its schema.
const schemaFile = "crowd.schema.json"

// writeCrowd writes a crowd file into a folder, and beside it the schema, by which editors complete
// and check, and what else belongs to it.
func writeCrowd(dir, text string, files map[string][]byte) (path string, err error) {
	all := map[string][]byte{"crowd.yaml": []byte("# yaml-language-server: $schema=" + schemaFile + "\n" + text),
		schemaFile: file.Schema()}
	maps.Copy(all, files)
	return filepath.Join(dir, "crowd.yaml"), writeFiles(dir, all)
}

// fileNames are those of files, the crowd file first.
func fileNames(files map[string][]byte) []string {
	return slices.SortedFunc(maps.Keys(files), func(a, b string) int {
		if is := a == "crowd.yaml"; is != (b == "crowd.yaml") {
			return map[bool]int{true: -1, false: 1}[is]
		}
		return strings.Compare(a, b)
	})
}

// writeFiles writes files into a folder; keys can be read by their owner alone.
// None is written over another: where one of the names is taken, nothing is written.
func writeFiles(dir string, files map[string][]byte) error {
	for _, name := range fileNames(files) {
		path := filepath.Join(dir, name)
		if _, err := os.Lstat(path); err == nil {
			return fmt.Errorf("%s exists already and was left as it is; nothing was written: name another folder", path)
		}
	}
	for _, name := range fileNames(files) {
		path, mode := filepath.Join(dir, name), os.FileMode(0o644)
		if filepath.Ext(name) == ".key" {
			mode = 0o600
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return fmt.Errorf("the folder %s cannot be made: %w", filepath.Dir(path), errors.Unwrap(err))
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
		if err != nil {
			return fmt.Errorf("%s cannot be written: %w", path, errors.Unwrap(err))
		}
		_, err = f.Write(files[name])
		if err2 := f.Close(); err == nil {
			err = err2
		}
		if err != nil {
			return fmt.Errorf("%s cannot be written: %w", path, err)
		}
	}
	return nil
}

func (e *env) schema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [report]",
		Short: "Print the JSON Schema of the crowd file, for editors, or of the report",
		Long: `Schema prints the JSON Schema (draft 2020-12) of the crowd file. An editor that
knows it completes keys and words, explains them, and underlines mistakes.

Write it to a file and name it in the first line of a crowd file:

  runcrowd schema > crowd.schema.json
  # yaml-language-server: $schema=crowd.schema.json

"schema report" prints that of the report in JSON, for programs that read it.`,
		Example: "  runcrowd schema > crowd.schema.json\n  runcrowd schema report > report.schema.json",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || len(args) == 1 && args[0] == "report" {
				return nil
			}
			return fmt.Errorf("schema is of the crowd file, or of the report: runcrowd schema [report]; %q is neither", args[0])
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				_, err := e.raw.Write(report.Schema)
				return err
			}
			_, err := e.raw.Write(file.Schema())
			return err
		},
	}
}
