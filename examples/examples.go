// Package examples holds crowd files that come with the program.
package examples

import _ "embed"

// SkerryRoads is the crowd that the demo plays.
//
//go:embed skerry-roads.crowd.yaml
var SkerryRoads string

// First is the crowd file that `runcrowd new` writes; NAME stands for its name.
//
//go:embed first.crowd.yaml
var First string

// The stand-in's usual addresses, as they stand in the examples.
const (
	MQTTAddress = "127.0.0.1:1883"
	HTTPAddress = "127.0.0.1:8080"
)
