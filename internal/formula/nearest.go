package formula

import (
	"fmt"
	"strings"
)

// List joins names for a message and cuts a long list short.
func List(names []string) string {
	const most = 16
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

// Hint is what to add to a message about a name that is none: what it may have
// meant, or else what there is.
func Hint(name string, known []string) string {
	if near := Nearest(name, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	if len(known) > 0 {
		return "; there is " + List(known)
	}
	return ""
}

// Nearest is the known name most like the given one, or "" if none is close:
// at most a third of its letters may differ (Levenshtein distance in which
// neighbours that changed places count once).
func Nearest(name string, known []string) string {
	best, bestDistance := "", max(1, len(name)/3)+1
	for _, k := range known {
		if d := distance(strings.ToLower(name), strings.ToLower(k)); d < bestDistance {
			best, bestDistance = k, d
		}
	}
	return best
}

func distance(a, b string) int {
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}
