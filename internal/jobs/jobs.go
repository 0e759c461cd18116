// Package jobs writes what schedulers need to play a crowd in parts: scripts for Slurm, and a manifest for Kubernetes.
// They are for reading and changing; nothing here submits them.
package jobs

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/check"
	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
	"runcrowd/internal/run"
)

//go:embed play.sbatch judge.sbatch submit.sh kubernetes.yaml
var texts embed.FS

// Job says what is to be played, and where.
type Job struct {
	Crowd  *crowd.Crowd
	Needs  check.Needs // of a part
	Length time.Duration
	Out    string   // Slurm: the folder of the run folders, absolute, on all machines the same
	More   []string // further arguments of run

	// Slurm
	Program string // how it is called there
	File    string // the crowd file, absolute

	// Kubernetes
	Name   string // of the run
	Image  string
	Claim  string // of the volume for run folders that is there already; empty: the manifest has one
	Folder string // of the crowd file on that volume; empty: the manifest has the file
}

// longest is how long a part may take: the plan, all that comes after it, and a queue at the platform.
func (j *Job) longest() time.Duration {
	if j.Length == 0 {
		return 0
	}
	after := time.Duration(0)
	for _, w := range j.Crowd.Witnesses {
		after = max(after, w.Wait)
	}
	return j.Length + j.Length/10 + time.Duration(max(1, j.Crowd.Plan.Rounds))*3*after + 10*time.Minute
}

// fill is what the texts are made from. No secret may stand in them.
func (j *Job) fill() (map[string]any, error) {
	for _, arg := range j.More {
		if j.Crowd.Redact(arg) != arg {
			return nil, errors.New("a value that is given with --set is a secret, and would stand in what is written: write ${env.NAME} in " +
				"its place in the crowd file, and export NAME")
		}
	}
	// What is judged may take as much as it is given by default, beside what was known while it played.
	mib := func(bytes float64) int { return int(math.Ceil((bytes+400e6)/(1<<20)/100)) * 100 }
	minutes := int(math.Ceil(j.longest().Minutes()))
	var env []string
	for name := range j.Crowd.Env {
		env = append(env, name)
	}
	slices.Sort(env)
	return map[string]any{
		"Crowd": j.Crowd.Name, "Parts": j.Needs.Parts, "Files": j.Needs.Files, "ManyFiles": j.Needs.Files > 1000,
		"Cores": int(math.Ceil(max(j.Needs.Cores, 0.1))), "Milli": int(math.Ceil(max(j.Needs.Cores, 0.1)*10)) * 100,
		"MiB": mib(j.Needs.Memory), "Twice": 2 * mib(j.Needs.Memory), "Minutes": minutes, "Env": env, "Out": j.Out, "More": j.More,
		"Program": j.Program, "File": j.File,
		"Storage": 1024 + int(2*j.Needs.Ledger*float64(j.Needs.Parts)/(1<<20)),
	}, nil
}

// Slurm writes the script of an array that plays the parts, that of a job that judges them, and one that submits both;
// by their file names.
func (j *Job) Slurm() (map[string][]byte, error) {
	// sbatch takes its own lines apart by blanks and quotes, and % in a file name is its own.
	if odd := regexp.MustCompile(`[^\w./+:@=-]`).FindString(j.Out); odd != "" {
		return nil, fmt.Errorf("the folder of the runs, %s, has a %q, and sbatch reads its name in a way of its own; name another folder", j.Out, odd)
	}
	x, err := j.fill()
	if err != nil {
		return nil, err
	}
	list := map[string][]byte{}
	for _, name := range []string{"play.sbatch", "judge.sbatch", "submit.sh"} {
		text, err := render(name, x)
		if err != nil {
			return nil, err
		}
		list[name] = text
	}
	return list, nil
}

// mostData is what a ConfigMap may hold, with room for the rest of it.
const mostData = 1000 << 10

// item is a file of a ConfigMap.
type item struct{ Key, Path string }

// Kubernetes writes a manifest: a volume, the crowd's files, an Indexed Job that plays the parts, and a Job that judges
// them. No secret is in it.
func (j *Job) Kubernetes() ([]byte, error) {
	x, err := j.fill()
	if err != nil {
		return nil, err
	}
	name := label(j.Crowd.Name, 20) + "-" + label(j.Name, 24)
	x["Name"], x["Image"], x["Run"] = name, j.Image, j.Name
	x["Secret"] = label(j.Crowd.Name, 40) + "-secrets"
	if x["Claim"], x["ClaimName"] = j.Claim, j.Claim; j.Claim == "" {
		x["ClaimName"] = label(j.Crowd.Name, 40) + "-runs"
	}
	file := "/crowd/crowd.yaml"
	if j.Folder != "" {
		file = path.Join("/runs", j.Folder, filepath.Base(j.Crowd.Path))
	} else {
		items, data, err := j.data()
		if err != nil {
			return nil, err
		}
		x["Items"], x["Data"] = items, data
	}
	x["PlayArgs"] = append([]string{"/runcrowd", "run", file, "--part", "auto", "--out", "/runs", "--quiet", "--judge-later"},
		j.More...)
	folder := run.WholeFolder("/runs", j.Crowd.Name, j.Name)
	wait := "1d"
	if d := j.longest(); d > 0 { // also where parts have to wait for a place, or begin again
		wait = quantity.FormatDuration((2*d + 2*time.Hour).Round(time.Minute))
	}
	x["JudgeArgs"] = []string{"/runcrowd", "verify", folder, "--await-parts", wait, "--trust", "--to", folder + "/report.html", "--force"}
	return render("kubernetes.yaml", x)
}

// data are the files of the crowd, as a ConfigMap has them.
func (j *Job) data() (items []item, text string, err error) {
	const elsewhere = "copy the crowd's folder to the volume, and say with --folder where it is there"
	if len(j.Crowd.PlainSecrets()) > 0 {
		return nil, "", errors.New("secrets stand in the crowd file in plain text, and whoever may read the manifest would have them; " +
			"write ${env.NAME}, or " + elsewhere)
	}
	texts, binary := map[string]string{"crowd.yaml": string(j.Crowd.Source)}, map[string][]byte{}
	items = []item{{"crowd.yaml", "crowd.yaml"}}
	size := len(j.Crowd.Source)
	for i, f := range j.Crowd.Files {
		switch {
		case !filepath.IsLocal(f.Name):
			return nil, "", fmt.Errorf("the crowd file names %s, which is not in its folder; %s", f.Name, elsewhere)
		case !bytes.Equal(f.Data, f.Copy):
			return nil, "", fmt.Errorf("secrets stand in %s; %s", f.Name, elsewhere)
		}
		key := fmt.Sprintf("file-%d", i+1)
		items = append(items, item{key, filepath.ToSlash(filepath.Clean(f.Name))})
		if size += len(f.Data); utf8.Valid(f.Data) {
			texts[key] = string(f.Data)
		} else {
			binary[key] = f.Data
			size += len(f.Data) / 3
		}
	}
	if size > mostData {
		return nil, "", fmt.Errorf("the crowd file and the files that it names are %d bytes, more than a ConfigMap holds; %s", size, elsewhere)
	}
	doc := map[string]any{"data": texts}
	if len(binary) > 0 {
		coded := map[string]string{}
		for key, b := range binary {
			b, _ := json.Marshal(b) // as base64
			coded[key] = strings.Trim(string(b), `"`)
		}
		doc["binaryData"] = coded
	}
	b, err := yaml.Marshal(doc)
	return items, string(b), err
}

// label is a name as Kubernetes takes it for objects (RFC 1123, section 2.1): lower case letters, digits and hyphens.
func label(name string, most int) string {
	s := regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-")
	if s = strings.Trim(s[:min(len(s), most)], "-"); s == "" {
		return "run"
	}
	return s
}

// render fills a text in.
func render(name string, x map[string]any) ([]byte, error) {
	t, err := template.New(name).Funcs(template.FuncMap{"sh": shell, "q": quoted}).ParseFS(texts, name)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = t.Execute(&b, x)
	return b.Bytes(), err
}

// simple is what needs no quotes in a shell.
var simple = regexp.MustCompile(`^[\w./+:@=-]+$`)

// shell is a word of a shell (POSIX, XCU 2.2.2).
func shell(s string) string {
	if simple.MatchString(s) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// quoted is a value of YAML, which JSON is too.
func quoted(v any) (string, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(v)
	return strings.TrimSpace(b.String()), err
}
