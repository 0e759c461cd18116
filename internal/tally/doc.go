// Package tally counts rulings: by kind, device and round, with percentiles, and holds the
// counts against what is required. Counts of parts of a run merge.
package tally
