// Package tally counts rulings: by kind, device and round, with percentiles, and holds the
// counts against what is required.
package tally
