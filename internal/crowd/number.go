package crowd

import (
	"regexp"
	"strconv"

	"runcrowd/internal/signal"
)

// jsonNumber is the grammar of numbers in JSON (RFC 8259, section 6).
var jsonNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?$`)

// Number reads a number of JSON, which is printed as it was written. What no float
// of 64 bits holds is none.
func Number(s string) (signal.Value, bool) {
	if !jsonNumber.MatchString(s) {
		return signal.Value{}, false
	}
	if i, err := strconv.ParseInt(s, 10, 64); err == nil {
		return signal.OfInt(i).Written(s), true
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return signal.Value{}, false
	}
	return signal.OfFloat(f).Written(s), true
}
