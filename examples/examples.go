// Package examples holds crowd files that come with the program.
package examples

import (
	"embed"
	"io/fs"
	"path"
	"sort"
	"strings"
)

// SkerryRoads is the crowd that the demo plays.
//
//go:embed skerry-roads.crowd.yaml
var SkerryRoads string

// Storm is a bad night at Skerry Roads, that the demo plays, too.
//
//go:embed storm.crowd.yaml
var Storm string

// First is the crowd file that `runcrowd new` writes; NAME stands for its name.
//
//go:embed first.crowd.yaml
var First string

// LinkMQTT and LinkHTTP are what `runcrowd new --link` writes for a broker or an
// intake; ADDRESS stands for its address, NAME for the crowd's name.
var (
	//go:embed link-mqtt.crowd.yaml
	LinkMQTT string
	//go:embed link-http.crowd.yaml
	LinkHTTP string
)

//go:embed small
var small embed.FS

// The stand-in's usual addresses, as they stand in the examples.
const (
	MQTTAddress = "127.0.0.1:1883"
	HTTPAddress = "127.0.0.1:8080"
	HookAddress = "127.0.0.1:9099" // of the callback
)

// Example is a small crowd that shows one thing: a crowd.yaml, and the files that
// it reads.
type Example struct {
	Name  string
	Doc   string   // what it shows, in one line
	Try   []string // the commands that its first comment names, if it needs other than the usual
	Files map[string][]byte
}

// All lists the examples by name.
func All() []Example {
	var list []Example
	dirs, _ := fs.ReadDir(small, "small") // what is embedded can be read
	for _, d := range dirs {
		e := Example{Name: d.Name(), Files: map[string][]byte{}}
		files, _ := fs.ReadDir(small, path.Join("small", d.Name()))
		for _, f := range files {
			e.Files[f.Name()], _ = small.ReadFile(path.Join("small", d.Name(), f.Name()))
		}
		for line := range strings.Lines(string(e.Files["crowd.yaml"])) {
			if command, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "#   "); is {
				e.Try = append(e.Try, command)
			} else if !strings.HasPrefix(line, "#") {
				break
			}
		}
		e.Doc = firstSentence(string(e.Files["crowd.yaml"]))
		list = append(list, e)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	return list
}

// firstSentence is that of the comment at a file's head.
func firstSentence(text string) string {
	var words []string
	for _, line := range strings.Split(text, "\n") {
		comment, is := strings.CutPrefix(line, "# ")
		if !is {
			break
		}
		words = append(words, comment)
	}
	s := strings.Join(words, " ")
	if i := strings.Index(s, ". "); i > 0 {
		s = s[:i]
	}
	return strings.TrimSuffix(s, ".")
}
