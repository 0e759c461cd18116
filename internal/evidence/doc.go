// Package evidence turns a ledger into one case a message: all that is told of it, by
// whichever pages and witnesses, gathered in bounded memory.
//
// A ledger is written as things happen; a message is due here, acknowledged there, found
// much later. Gathering keeps cases in memory up to a limit. What is beyond is sorted and
// kept in a temporary file, which has no name, and merged at the end. What was sent and
// found is compared as soon as both are known, so that their bytes need not be kept: they
// are read from the ledger again where they are asked for.
package evidence
