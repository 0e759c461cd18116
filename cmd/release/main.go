// Command release makes what goes with the binaries of a release:
//
//	release man DIR      the manual pages of all commands
//	release sbom BINARY  what a binary is made of, as CycloneDX 1.5 in JSON, on standard output
package main

import (
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
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
		return doc.GenManTree(root, &doc.GenManHeader{Title: "RUNCROWD", Section: "1", Source: "Run Crowd", Manual: "Run Crowd"}, args[1])
	case len(args) == 2 && args[0] == "sbom":
		return sbom(args[1])
	}
	return fmt.Errorf("usage: release man DIR, or release sbom BINARY")
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
	list := []component{{Type: "library", Name: "std", Version: info.GoVersion, PURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		list = append(list, component{Type: "library", Name: m.Path, Version: m.Version, PURL: "pkg:golang/" + m.Path + "@" + m.Version})
	}
	e := json.NewEncoder(os.Stdout)
	e.SetIndent("", "  ")
	return e.Encode(map[string]any{
		"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
		"metadata":   map[string]any{"component": component{Type: "application", Name: "runcrowd", Version: info.Main.Version, PURL: "pkg:generic/" + filepath.Base(binary)}},
		"components": list,
	})
}
