package formula

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// keyName is what a key of a connection text looks like. What does not may be a value, and is
// not shown.
var keyName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_. -]{0,40}$`)

// Pairs are the keys and values of a connection text, key=value;key=value, in its order. Nothing
// comes back where the text is of another shape. A value may hold = but no ;.
func Pairs(text string) (keys, values []string) {
	for _, part := range strings.Split(text, ";") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		key, value, has := strings.Cut(part, "=")
		if key = strings.TrimSpace(key); !has || !keyName.MatchString(key) {
			return nil, nil
		}
		keys, values = append(keys, key), append(values, strings.TrimSpace(value))
	}
	return keys, values
}

// hostName is a host, with or without a port.
var hostName = regexp.MustCompile(`^([A-Za-z0-9._-]+|\[[0-9A-Fa-f:.%]+\])(:[0-9]*)?$`)

// addressParts are the keys that an address has.
var addressParts = []string{"scheme", "user", "password", "host", "port", "path"}

// lookup is the value of a key in a connection text, or a part of an address. Its errors never
// show a value.
func lookup(text, key string) (string, error) {
	keys, values := Pairs(text)
	for i, k := range keys {
		if strings.EqualFold(k, key) {
			return values[i], nil
		}
	}
	if len(keys) > 0 {
		return "", fmt.Errorf("lookup: the text has no key %q; it has %s", key, strings.Join(keys, ", "))
	}
	part := slices.Index(addressParts, strings.ToLower(key))
	whole := text
	if !strings.Contains(whole, "://") {
		whole = "//" + whole
	}
	u, err := url.Parse(whole)
	if err != nil || !hostName.MatchString(u.Host) || part < 0 && !strings.Contains(text, "://") {
		return "", fmt.Errorf("lookup: the text is neither key=value;key=value nor an address such as user:password@host")
	}
	password, _ := u.User.Password()
	if part < 0 {
		return "", fmt.Errorf("lookup: the text is an address, and has no %q; it has %s", key, strings.Join(addressParts, ", "))
	}
	return []string{u.Scheme, u.User.Username(), password, u.Hostname(), u.Port(), u.EscapedPath()}[part], nil
}
