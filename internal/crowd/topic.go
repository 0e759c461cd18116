package crowd

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// CheckText tells why a text cannot stand in a packet of MQTT (MQTT 5, section 1.5.4).
func CheckText(s string) error {
	switch {
	case strings.ContainsRune(s, 0) || !utf8.ValidString(s):
		return fmt.Errorf("it holds a null character, or is not UTF-8")
	case len(s) > 65535:
		return fmt.Errorf("it is %d bytes long; the most is 65535", len(s))
	}
	return nil
}

// CheckPath tells why a text cannot be the path of a request (RFC 3986, section 3.3).
func CheckPath(path string) error {
	switch {
	case !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " \r\n\t\x00"):
		return fmt.Errorf("%q is not a path", path)
	case strings.Contains(path, "#"):
		return fmt.Errorf("%q holds a #, and what stands behind that is never sent; write %%23", path)
	}
	return nil
}

// CheckTopic tells why a text cannot be the topic of a message (MQTT 5,
// sections 1.5.4 and 4.7).
func CheckTopic(topic string) error {
	switch {
	case topic == "":
		return fmt.Errorf("the topic is empty")
	case strings.ContainsAny(topic, "+#"):
		return fmt.Errorf("the topic %q holds a wildcard; + and # are for subscriptions only", topic)
	case strings.ContainsRune(topic, 0):
		return fmt.Errorf("the topic %q holds a null character", topic)
	case len(topic) > 65535:
		return fmt.Errorf("the topic is %d bytes long; the most is 65535", len(topic))
	}
	return nil
}

// TopicMatches tells whether a topic is one of those that a filter means (MQTT 5,
// section 4.7).
func TopicMatches(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	if strings.HasPrefix(filter, "$share/") && len(f) > 2 {
		f = f[2:] // section 4.8.2
	}
	if strings.HasPrefix(topic, "$") && (f[0] == "+" || f[0] == "#") {
		return false
	}
	for i, level := range f {
		switch {
		case level == "#":
			return true
		case i >= len(t) || level != "+" && level != t[i]:
			return false
		}
	}
	return len(f) == len(t)
}

// CheckFilter tells why a text cannot be a topic filter (MQTT 5, section 4.7.1).
func CheckFilter(filter string) error {
	if filter == "" {
		return fmt.Errorf("the topic filter is empty")
	}
	if strings.ContainsRune(filter, 0) || len(filter) > 65535 {
		return fmt.Errorf("the topic filter holds a null character or is longer than 65535 bytes")
	}
	levels := strings.Split(filter, "/")
	for i, l := range levels {
		if strings.Contains(l, "#") && (l != "#" || i != len(levels)-1) {
			return fmt.Errorf("in %q the # must stand alone as the last level", filter)
		}
		if strings.Contains(l, "+") && l != "+" {
			return fmt.Errorf("in %q the + must stand alone in its level", filter)
		}
	}
	return nil
}

// FiltersOverlap tells whether some topic is meant by both filters.
func FiltersOverlap(a, b string) bool {
	x, y := strings.Split(unshared(a), "/"), strings.Split(unshared(b), "/")
	if wild(x[0]) && strings.HasPrefix(y[0], "$") || wild(y[0]) && strings.HasPrefix(x[0], "$") {
		return false // a wildcard in front means no topic of the broker's own (section 4.7.2)
	}
	for i := 0; ; i++ {
		switch {
		case i < len(x) && x[i] == "#" || i < len(y) && y[i] == "#":
			return true
		case i == len(x) || i == len(y):
			return len(x) == len(y)
		case x[i] != y[i] && x[i] != "+" && y[i] != "+":
			return false
		}
	}
}

func wild(level string) bool { return level == "+" || level == "#" }

// unshared is a filter without what makes it a shared one (section 4.8.2).
func unshared(filter string) string {
	if rest, shared := strings.CutPrefix(filter, "$share/"); shared {
		_, filter, _ = strings.Cut(rest, "/")
	}
	return filter
}
