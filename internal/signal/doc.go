// Package signal makes values over time.
//
// A signal is pure: its value depends on the Moment alone, never on what was
// asked before, on other devices or on the order of goroutines. A walk is
// therefore found by halving the way between its fixed points, and a chain of
// states by going back until all beginnings lead to the same end: neither keeps
// a running state, and any one value of any one device can be made again
// without the rest.
//
// A new signal is one Spec in the list of its group: its parameters, and a function
// that makes it. The crowd file's reader, its schema and the command signals know it
// from there.
package signal
