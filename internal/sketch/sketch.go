// Package sketch writes a small crowd file from what is said in a few words: an address, a topic
// or a path, fields with their ranges.
package sketch

import (
	"fmt"
	"math"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd/file"
)

// Options are what a crowd is made of.
type Options struct {
	Name     string // of the crowd
	Head     string // the comment in the first line
	Address  string // mqtt://, mqtts://, ws://, wss://, http:// or https://, perhaps with a path
	Target   string // topic or path; a device stands in it as {device}, ${device} or +
	Devices  int
	Every    string
	For      string
	Fields   []string // NAME=LOW..HIGH, NAME=ONE,OTHER,…, NAME=VALUE
	Sample   *Sample  // in place of Fields: what messages look like
	User     string
	Password string   // the name of the variable of the environment that has it
	Headers  []string // Name: value
	Watcher  string   // over MQTT: the witness's own user, where each device has one
	Watch    string   // the name of the variable of the environment that has its password
	QoS      int
	CA       string // file of the authorities that the platform's certificate is checked by
	ReadBack string // over HTTP: the address at which what was stored can be read
	Rows     string // jq: the rows of its answer; empty: they are looked for

	Credentials string // the name of one of Credentials, in place of User and Headers; empty: none
	Stored      string // the name of one of Stores, in place of ReadBack; empty: none
}

// Target says where messages go that nothing is said of.
const (
	DefaultTopic = "runcrowd/{device}/state"
	DefaultField = "value=0..100"
)

// A name of a field that needs no quotes in a formula.
var fieldName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)

var number = regexp.MustCompile(`^-?\d+(\.\d+)?$`)

// Field is the line of a crowd file that a field in words stands for.
func Field(text string) (line string, err error) {
	name, of, found := strings.Cut(text, "=")
	name, of = strings.TrimSpace(name), strings.TrimSpace(of)
	if !found || of == "" || !fieldName.MatchString(name) {
		return "", fmt.Errorf("%q is no field; write NAME=20..25, NAME=on,off or NAME=5", text)
	}
	if low, high, is := strings.Cut(of, ".."); is {
		if !number.MatchString(low) || !number.MatchString(high) {
			return "", fmt.Errorf("%q is no range of numbers; write, for example, %s=20..25", of, name)
		}
		from, _ := strconv.ParseFloat(low, 64)
		to, _ := strconv.ParseFloat(high, 64)
		if from >= to {
			return "", fmt.Errorf("%s: %s is not below %s", name, low, high)
		}
		step := strconv.FormatFloat((to-from)/20, 'g', 3, 64)
		return fmt.Sprintf("%s: {signal: walk, low: %s, high: %s, step: %s, round: %d}", name, low, high, step,
			decimals(low, high, to-from)), nil
	}
	if words := strings.Split(of, ","); len(words) > 1 {
		for i := range words {
			words[i] = scalar(strings.TrimSpace(words[i]))
		}
		return fmt.Sprintf("%s: {signal: choice, of: [%s]}", name, strings.Join(words, ", ")), nil
	}
	return name + ": " + scalar(of), nil
}

// decimals are as many as a range is written with, or as make some hundred values of it.
func decimals(low, high string, width float64) int {
	n := 0
	for _, s := range []string{low, high} {
		if _, digits, is := strings.Cut(s, "."); is {
			n = max(n, len(digits))
		}
	}
	return min(9, max(n, int(math.Ceil(2-math.Log10(width)))))
}

// scalar is a value as YAML has it in a list: a number, true, false, or a text.
func scalar(s string) string {
	if number.MatchString(s) || s == "true" || s == "false" {
		return s
	}
	return quoted(s)
}

func quoted(s string) string {
	n := yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s, Style: yaml.DoubleQuotedStyle}
	b, err := yaml.Dump(&n, yaml.WithLineWidth(-1))
	if err != nil {
		return strconv.Quote(s)
	}
	return strings.TrimSpace(strings.ReplaceAll(string(b), "\n", " "))
}

// device puts our placeholder where a device stands in a topic, path or address; single: a level
// that is + stands for it, too.
func device(s string, single bool) string {
	s = strings.ReplaceAll(strings.ReplaceAll(s, "${device}", "{device}"), "{device}", "${device}")
	if !single {
		return s
	}
	levels := strings.Split(s, "/")
	for i := range levels {
		if levels[i] == "+" {
			levels[i] = "${device}"
		}
	}
	return strings.Join(levels, "/")
}

// Crowd is the crowd file. It is one that can be read, or the error says what was wrong.
func Crowd(o Options) (string, error) {
	u, err := url.Parse(strings.ReplaceAll(o.Address, "{device}", "-device-"))
	if err != nil || u.Host == "" || u.Scheme == "" {
		return "", fmt.Errorf("%q is no address; write one such as mqtt://127.0.0.1:1883 or http://127.0.0.1:8080/in/{device}",
			o.Address)
	}
	if u.User != nil {
		return "", fmt.Errorf("the address holds a user or a password, which others would see; give --user, and the " +
			"password in a variable with --password-env")
	}
	overHTTP := u.Scheme == "http" || u.Scheme == "https"
	base, target := o.Address, o.Target
	if path := strings.ReplaceAll(u.RequestURI(), "-device-", "{device}"); overHTTP && path != "/" {
		if target != "" {
			return "", fmt.Errorf("the address has a path already (%s); leave out %s", path, target)
		}
		target, base = path, u.Scheme+"://"+u.Host
	}
	switch {
	case overHTTP && target == "":
		return "", fmt.Errorf("say where messages go: a path, such as %s /in/{device}", strings.TrimRight(o.Address, "/"))
	case overHTTP && !strings.HasPrefix(target, "/"):
		target = "/" + target
	case target == "":
		target = DefaultTopic
	case !overHTTP && strings.Contains(target, "#"):
		return "", fmt.Errorf("%q is a filter: nothing can be published to it; write a topic, such as %s", target, DefaultTopic)
	}
	target = device(target, !overHTTP)
	if o.Credentials == "path" && !strings.Contains(target, "${env.") {
		target = "/${env.INTAKE_KEY}" + target
	}
	if o.ReadBack != "" && !overHTTP {
		return "", fmt.Errorf("--read-back goes with HTTP; over MQTT a witness subscribes to what is published")
	}
	fields := o.Fields
	if len(fields) == 0 {
		fields = []string{DefaultField}
	}
	var b strings.Builder
	w := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	w("# %s", o.Head)
	w("# docs/crowd-file.md explains the keys; runcrowd check FILE tells mistakes.")
	w("crowd: %s\n", o.Name)
	if err := o.link(w, overHTTP, base); err != nil {
		return "", err
	}
	mark := "mark"
	if o.Sample != nil && o.Sample.Mark != "" {
		mark = o.Sample.Mark
	}
	w("\nkinds:                       # what: one kind of device, with one reading")
	w("  device:")
	switch {
	case o.Sample == nil:
	case !o.Sample.Beside && mark != "mark":
		w("    mark: {field: %s}   # what tells messages apart", mark)
	case !o.Sample.Beside:
	case overHTTP:
		w("    mark: {header: X-Mark}   # what tells messages apart; a JSON object would have a place for it")
	default:
		w("    mark: {user_property: x-mark}   # what tells messages apart; a JSON object would have a place for it")
	}
	w("    readings:\n      state:")
	w("        every: %s", quoted(o.Every))
	if overHTTP {
		w("        path: %s", quoted(target))
	} else {
		w("        topic: %s\n        qos: %d", quoted(target), o.QoS)
	}
	var lines []string
	if o.Sample != nil {
		if len(o.Fields) > 0 {
			return "", fmt.Errorf("--sample says what the fields are; leave out --field, and change them in the file")
		}
		for _, note := range o.Sample.Notes {
			w("        # %s", note)
		}
		comment := "as the sample; ${mark} tells messages apart, and the platform has to keep it"
		if o.Sample.Beside {
			comment = "as the sample"
		}
		if o.Sample.Payload != "" {
			w("        payload: %s   # %s", o.Sample.Payload, strings.ReplaceAll(comment, "${mark}", mark))
		} else {
			w("        payload:             # "+comment+"\n"+
				"          form: template\n          template: '%s'", strings.ReplaceAll(o.Sample.Template, "'", "''"))
		}
		lines = o.Sample.Fields
	}
	for _, f := range fields {
		if o.Sample != nil {
			break
		}
		line, err := Field(f)
		if err != nil {
			return "", err
		}
		lines = append(lines, line)
	}
	if len(lines) > 0 {
		w("        fields:              # runcrowd signals lists what values can be made of")
	}
	for _, line := range lines {
		w("          %s", line)
	}
	width := len(strconv.Itoa(o.Devices))
	w("\ndevices:                     # who")
	if len(o.Files()) > 0 {
		w("  - {kind: device, roster: %s}", RosterFile)
	} else {
		w("  - {kind: device, count: %d, name: \"device-${pad(n, %d)}\"}", o.Devices, width)
	}
	w("\nplan: {for: %s}", quoted(o.For))
	switch {
	case !overHTTP:
		w("\nwitnesses:                   # how we know: what comes out of the broker")
		w("  out:\n    proves: received\n    subscribe: %s", quoted(filter(target)))
		o.subscribes(w)
		if o.Watcher != "" {
			w("    username: %s", quoted(o.Watcher))
		}
		if o.Watch != "" {
			w("    password: \"${env.%s}\"", o.Watch)
		}
	case o.ReadBack != "":
		w("\nwitnesses:                   # how we know: what the platform has stored")
		w("  store:\n    proves: stored")
		read := device(o.ReadBack, false)
		w("    get: %s", quoted(read))
		rows := o.Rows
		if rows == "" {
			rows = `if type == "array" then .[] else first(.rows, .items, .data, .results, .values, .hits | arrays)[] end`
		}
		w("    rows: '%s'", strings.ReplaceAll(rows, "'", "''"))
		w("    mark: '%s'", anywhere("."+mark+"? // empty"))
		w("    values: '%s'", anywhere("select(has(\""+mark+"\"))"))
		if !strings.Contains(read, "${device}") {
			w("    device: '%s | split(\"/\")[1]'", anywhere("."+mark+"? // empty"))
		}
		if len(o.Headers) > 0 || o.User != "" {
			w("    link: platform           # its user or access token")
		}
	case o.Stored != "" && o.Stored != "none":
		w("\nwitnesses:                   # how we know: what the platform has stored")
	}
	if err := o.store(w); err != nil {
		return "", err
	}
	text := b.String()
	only := file.Sources{OnlyRead: true, Open: func(name string) ([]byte, error) {
		if b, is := o.Files()[name]; is {
			return b, nil
		}
		return nil, os.ErrNotExist
	}}
	if _, err := file.Parse("crowd.yaml", []byte(text), only); err != nil {
		return text, err
	}
	return text, nil
}

// filter is the topic filter of a topic.
func filter(topic string) string {
	levels := strings.Split(topic, "/")
	for i := range levels {
		if strings.Contains(levels[i], "${") {
			levels[i] = "+"
		}
	}
	return strings.Join(levels, "/")
}

// anywhere looks for something in a row, also in texts that hold JSON.
func anywhere(what string) string {
	return "first(.. | objects, (strings | fromjson? | objects) | " + what + ")"
}

// link writes the link to the platform.
func (o *Options) link(w func(string, ...any), overHTTP bool, base string) error {
	w("links:                       # where: the platform")
	w("  platform:")
	if overHTTP {
		w("    http: %s", quoted(base))
	} else {
		w("    mqtt: %s", quoted(base))
	}
	if o.User != "" && o.Credentials == "" {
		w("    username: %s", quoted(device(o.User, false)))
	}
	if o.Password != "" {
		w("    password: \"${env.%s}\"", o.Password)
	}
	if err := o.credentials(w, overHTTP); err != nil {
		return err
	}
	if len(o.Headers) > 0 {
		w("    headers:")
		for _, h := range o.Headers {
			name, value, found := strings.Cut(h, ":")
			name, value = strings.TrimSpace(name), strings.TrimSpace(value)
			if !found || name == "" || value == "" {
				return fmt.Errorf("%q is no header; write Name: value", h)
			}
			if !overHTTP {
				return fmt.Errorf("headers go with HTTP, and %s is MQTT", o.Address)
			}
			if file.LooksSecret(name) && !strings.Contains(value, "${env.") {
				return fmt.Errorf("the header %s holds a secret, which others would see on the command line; put it into a "+
					"variable, and write '%s: ${env.NAME}'", name, name)
			}
			w("      %s: %s", quoted(name), quoted(value))
		}
	}
	if o.CA != "" {
		w("    tls: {ca: %s}", quoted(o.CA))
	}
	return nil
}
