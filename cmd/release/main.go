// Command release makes what goes with the binaries of a release:
//
//	release man DIR          the manual pages of all commands
//	release sbom BINARY      what a binary is made of, as CycloneDX 1.5 in JSON, on standard output
//	release licences BINARY  the licence texts of all that, on standard output
package main

import (
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra/doc"

	"runcrowd/internal/cli"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	switch {
	case len(args) == 2 && args[0] == "man":
		if err := os.MkdirAll(args[1], 0o755); err != nil {
			return err
		}
		root := cli.Commands()
		root.DisableAutoGenTag = true // the same source makes the same pages
		return doc.GenManTree(root, &doc.GenManHeader{Title: "RUNCROWD", Section: "1", Source: "Run Crowd",
			Manual: "Run Crowd"}, args[1])
	case len(args) == 2 && args[0] == "sbom":
		return sbom(args[1])
	case len(args) == 2 && args[0] == "licences":
		return licences(args[1])
	}
	return fmt.Errorf("usage: release man DIR, release sbom BINARY, or release licences BINARY")
}

// licences prints the licence texts of the modules that a binary was built of, of Go itself
// and of the plots in the HTML page. The error names a module that has none.
func licences(binary string) error {
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		return err
	}
	root, err := output("go", "env", "GOROOT")
	if err != nil {
		return err
	}
	fmt.Println("Run Crowd is made of the following. Its own licence is Apache-2.0.")
	if err := licence("Go "+info.GoVersion, root); err != nil {
		return err
	}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		dir, err := output("go", "list", "-m", "-f", "{{.Dir}}", m.Path)
		if err != nil {
			return err
		}
		if err := licence(m.Path+" "+m.Version, dir); err != nil {
			return err
		}
	}
	return licence("uplot, in the HTML page", filepath.Join("internal", "report", "page"))
}

// licence prints the licence texts in a folder.
func licence(name, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	found := false
	for _, e := range entries {
		upper := strings.ToUpper(e.Name())
		if !strings.Contains(upper, "LICENSE") && !strings.Contains(upper, "LICENCE") &&
			!strings.HasPrefix(upper, "COPYING") && !strings.HasPrefix(upper, "NOTICE") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			if e.IsDir() {
				continue
			}
			return err
		}
		found = true
		rule := strings.Repeat("-", 78)
		fmt.Printf("\n%s\n%s (%s)\n%s\n\n%s\n", rule, name, e.Name(), rule, strings.TrimSpace(string(text)))
	}
	if !found {
		return fmt.Errorf("%s has no licence text in %s", name, dir)
	}
	return nil
}

// output is what a command prints, without the line break at its end.
func output(name string, args ...string) (string, error) {
	out, err := exec.Command(name, args...).Output()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w", name, strings.Join(args, " "), err)
	}
	return strings.TrimSpace(string(out)), nil
}

// component is a part of a program, as CycloneDX has it.
type component struct {
	Type    string `json:"type"`
	Name    string `json:"name"`
	Version string `json:"version"`
	PURL    string `json:"purl,omitempty"`
}

// sbom prints the modules that a binary was built of, as it tells itself.
func sbom(binary string) error {
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		return err
	}
	list := []component{{Type: "library", Name: "std", Version: info.GoVersion,
		PURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		list = append(list, component{Type: "library", Name: m.Path, Version: m.Version,
			PURL: "pkg:golang/" + m.Path + "@" + m.Version})
	}
	e := json.NewEncoder(os.Stdout)
	e.SetIndent("", "  ")
	return e.Encode(map[string]any{
		"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
		"metadata": map[string]any{"component": component{Type: "application", Name: "runcrowd",
			Version: info.Main.Version, PURL: "pkg:generic/" + filepath.Base(binary)}},
		"components": list,
	})
}
