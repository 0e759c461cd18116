package crowd_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/crowd"
)

// The examples of MQTT 5, sections 4.7.1 and 4.7.2.
func TestMatches(t *testing.T) {
	for _, c := range []struct {
		filter, topic string
		want          bool
	}{
		{"sport/tennis/player1/#", "sport/tennis/player1", true},
		{"sport/tennis/player1/#", "sport/tennis/player1/score/wimbledon", true},
		{"sport/#", "sport", true}, {"#", "sport/tennis", true}, {"sport/tennis/+", "sport/tennis/player1", true},
		{"sport/tennis/+", "sport/tennis/player1/ranking", false},
		{"sport/+", "sport", false}, {"sport/+", "sport/", true}, {"+/+", "/finance", true}, {"/+", "/finance", true},
		{"+", "/finance", false},
		{"#", "$SYS/broker", false}, {"+/monitor", "$SYS/monitor", false}, {"$SYS/#", "$SYS/broker", true},
		{"$share/group/sport/+", "sport/tennis", true}, {"$share/group", "group", false},
	} {
		assert.Equal(t, c.want, crowd.TopicMatches(c.filter, c.topic), "%s and %s", c.filter, c.topic)
	}
}

func TestPaths(t *testing.T) {
	assert.NoError(t, crowd.CheckPath("/in/a%20b?x=1&y=%23"))
	for path, want := range map[string]string{"in": "is not a path", "/a b": "is not a path", "/a\n": "is not a path",
		"/in#part": "what stands behind that is never sent"} {
		assert.ErrorContains(t, crowd.CheckPath(path), want)
	}
}

// Two filters overlap where some topic is meant by both.
func TestFiltersThatOverlap(t *testing.T) {
	for pair, want := range map[[2]string]bool{
		{"a/b", "a/b"}: true, {"a/b", "a/c"}: false, {"a/+", "a/b"}: true, {"a/+", "+/b"}: true, {"a/+/c", "a/b/+"}: true,
		{"a/#", "a"}: true, {"a/#", "a/b/c"}: true, {"a/#", "b/#"}: false, {"a/b", "a/b/c"}: false, {"a/+", "a"}: false,
		{"#", "a/b"}: true, {"#", "$SYS/x"}: false, {"+/x", "$SYS/x"}: false, {"$SYS/#", "$SYS/x"}: true, {"+/+", "a/#"}: true,
		{"+/+", "a/b/#"}: true, {"+/+", "a/b/c"}: false, {"$share/g/a/#", "a/b"}: true, {"$share/g/a/#", "$share/h/b/#"}: false,
		{"/a", "a"}: false, {"+/a", "/a"}: true,
	} {
		assert.Equal(t, want, crowd.FiltersOverlap(pair[0], pair[1]), "%v", pair)
		assert.Equal(t, want, crowd.FiltersOverlap(pair[1], pair[0]), "%v", pair)
	}
}
