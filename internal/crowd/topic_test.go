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
