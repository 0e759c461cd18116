package link_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/link"
)

func TestNextPage(t *testing.T) {
	const at = "https://shore.test/rows?page=1"
	for next, want := range map[string]string{
		"?page=2":                           "https://shore.test/rows?page=2",
		"/rows/2":                           "https://shore.test/rows/2",
		"https://shore.test/rows?after=x":   "https://shore.test/rows?after=x",
		"http://shore.test/rows?page=2":     "the next page of " + at + " is at http://shore.test, and was not asked: the credentials are for https://shore.test alone",
		"//elsewhere.test/rows":             "the next page of " + at + " is at https://elsewhere.test, and was not asked: the credentials are for https://shore.test alone",
		"https://shore.test:8443/rows":      "the next page of " + at + " is at https://shore.test:8443, and was not asked: the credentials are for https://shore.test alone",
		"https://shore.test@elsewhere.test": "the next page of " + at + " is at https://elsewhere.test, and was not asked: the credentials are for https://shore.test alone",
		"http://[":                          "the next page of " + at + " is \"http://[\", which is not an address",
	} {
		got, err := link.NextPage(at, next)
		if err != nil {
			got = err.Error()
		}
		assert.Equal(t, want, got, next)
	}
}
