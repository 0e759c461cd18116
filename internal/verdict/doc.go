// Package verdict judges a run: from the ledger alone it gives every message
// exactly one verdict, counts them, and says which requirements hold. It is
// pure: the same ledger gives the same result, at any later time.
//
// A message's verdict is decided in one place: heardOf.verdict, in judge.go.
package verdict
