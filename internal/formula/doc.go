// Package formula compiles and runs the formulas of a crowd file and the texts
// with ${…} placeholders, in which each placeholder is a formula.
//
// The language is closed: it has the operators and functions of Operators and
// Functions and no others. An expression library runs it; what else that library
// knows is refused when a formula is compiled. Names must be known then, too, with
// a sample value that gives the type: a wrong name or type is an error with its
// place in the source, and not in the middle of a run.
//
// Whole numbers never wrap round, and a division by zero is an error (see Rules).
package formula
