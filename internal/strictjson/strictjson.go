// Package strictjson parses JSON as evidence has to be parsed: whole, and in one way
// only. Beside what RFC 8259 forbids, a name that stands twice in one object is an
// error, because readers differ about which of the two counts (section 4); so is text
// that is not UTF-8 (section 8.1), which encoding/json would quietly replace.
package strictjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Member is one member of an object.
type Member struct {
	Name  string
	Value any
}

// Decode parses one JSON value: numbers are json.Number and keep their digits, lists
// are []any, objects are map[string]any.
func Decode(body []byte) (any, error) {
	d, err := decoder(body)
	if err != nil {
		return nil, err
	}
	return value(d)
}

// Members parses a JSON object, and keeps its order.
func Members(body []byte) ([]Member, error) {
	d, err := decoder(body)
	if err != nil {
		return nil, err
	}
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, errors.New("not an object")
	}
	return members(d)
}

// decoder has checked that the body is one JSON value, with nothing behind it.
func decoder(body []byte) (*json.Decoder, error) {
	if !utf8.Valid(body) {
		return nil, errors.New("it is not UTF-8")
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if json.Valid(body) {
		return d, nil
	}
	var v json.RawMessage
	switch err := d.Decode(&v); {
	case errors.Is(err, io.EOF):
		return nil, errors.New("it is empty")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, errors.New("it ends in the middle")
	case err != nil:
		return nil, err
	}
	return nil, errors.New("something stands after the JSON value")
}

func value(d *json.Decoder) (any, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t {
	case json.Delim('{'):
		list, err := members(d)
		if err != nil {
			return nil, err
		}
		object := make(map[string]any, len(list))
		for _, m := range list {
			object[m.Name] = m.Value
		}
		return object, nil
	case json.Delim('['):
		list := []any{}
		for d.More() {
			v, err := value(d)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := d.Token()
		return list, err
	}
	return t, nil
}

// members reads on behind the brace that opens an object.
func members(d *json.Decoder) ([]Member, error) {
	var list []Member
	var seen map[string]bool
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		name, _ := t.(string)
		v, err := value(d)
		if err != nil {
			return nil, err
		}
		twice := seen[name]
		if len(list) < 16 { // few: looking is faster than a map
			for i := range list {
				twice = twice || list[i].Name == name
			}
		}
		if twice {
			return nil, fmt.Errorf("the name %q stands twice in an object", name)
		}
		if list = append(list, Member{name, v}); len(list) == 16 {
			seen = make(map[string]bool, 32)
			for _, m := range list {
				seen[m.Name] = true
			}
		} else if seen != nil {
			seen[name] = true
		}
	}
	_, err := d.Token()
	return list, err
}

// Object is a decoded value as an object: a list of one object is that object, and any
// other list has its items under the names "0", "1" and so on. False: it is neither.
func Object(v any) (map[string]any, bool) {
	switch x := v.(type) {
	case map[string]any:
		return x, true
	case []any:
		if len(x) == 1 {
			if one, is := x[0].(map[string]any); is {
				return one, true
			}
		}
		m := make(map[string]any, len(x))
		for i, item := range x {
			m[strconv.Itoa(i)] = item
		}
		return m, true
	}
	return nil, false
}

// At is what stands at a place in a decoded value: the names of objects and the numbers of
// lists on the way, joined by dots. A name may have dots of its own.
func At(v any, place string) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		if inner, has := x[place]; has {
			return inner, true
		}
		for i := range len(place) {
			if place[i] != '.' {
				continue
			}
			if inner, has := x[place[:i]]; has {
				if found, has := At(inner, place[i+1:]); has {
					return found, true
				}
			}
		}
	case []any:
		first, rest, deeper := strings.Cut(place, ".")
		n, err := strconv.Atoi(first)
		switch {
		case err != nil || n < 0 || n >= len(x):
		case deeper:
			return At(x[n], rest)
		default:
			return x[n], true
		}
	}
	return nil, false
}

// Take takes out of an object what stands at a place, and objects that are empty without it.
func Take(object map[string]any, place string) (any, bool) {
	if v, has := object[place]; has {
		delete(object, place)
		return v, true
	}
	for i := range len(place) {
		if place[i] != '.' {
			continue
		}
		if inner, is := object[place[:i]].(map[string]any); is {
			if v, has := Take(inner, place[i+1:]); has {
				if len(inner) == 0 {
					delete(object, place[:i])
				}
				return v, true
			}
		}
	}
	return nil, false
}
