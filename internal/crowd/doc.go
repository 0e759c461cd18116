// Package crowd is the model of what a crowd file says: a fleet, what it sends, when,
// and how we know that it arrived. It holds plain types with their places in the file;
// package crowd/file reads them. Nothing here reads a file, knows YAML or holds a key.
//
// Texts and formulas are compiled for each group of devices, with the types of its
// properties, so that what can be known beforehand does not fail in a run.
package crowd
