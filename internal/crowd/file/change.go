package file

import (
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
)

// Change puts values into the text of a crowd file. Each change is KEY=VALUE: KEY is the way to the
// value, with dots between (plan.for, kinds.buoy.readings.state.every); an entry of a list is meant
// by its number, from 1, or by its kind or name (devices.buoy.count, plan.events.outage.for).
// The only entry of a list needs no name. VALUE is YAML on one line. The last key may be new. Comments
// stay, but the layout may change; a comment at the head names the keys. The key address is the
// platform's: see moveTo.
func Change(path string, source []byte, changes []string) ([]byte, error) {
	r := &reader{Problems: crowd.NewProblems(path, source)}
	root := r.document(source)
	if root == nil {
		return nil, r.Err()
	}
	var keys []string
	for _, text := range changes {
		key, _, _ := strings.Cut(text, "=")
		keys = append(keys, foreign.Line(key, 0))
		put, flag := putInto, "--set "+foreign.Line(key, 0)
		if key == "address" {
			put, flag = moveTo, "--address"
		}
		if err := put(root, text); err != nil {
			return nil, fmt.Errorf("%s: %w", flag, err) // the value may be a secret
		}
	}
	changed, err := yaml.Dump(root, yaml.WithIndent(2), yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("the changed crowd file cannot be written: %w", err)
	}
	var meant, reads any
	if err := errors.Join(root.Decode(&meant), yaml.Load(changed, &reads)); err != nil || !reflect.DeepEqual(meant, reads) {
		return nil, errors.New("this file cannot be changed for one run; change it in an editor")
	}
	return append([]byte("# Changed for this run: "+strings.Join(keys, ", ")+".\n"), changed...), nil
}

// LoadChanged is Load after Change, where there are changes; tell is told what takes long.
func LoadChanged(path string, changes []string, tell func(text string)) (*crowd.Crowd, error) {
	source, err := readSource(path)
	if err != nil {
		return nil, err
	}
	from := Sources{Getenv: os.LookupEnv, Tell: tell}
	if len(changes) == 0 {
		return Parse(path, source, from)
	}
	changed, err := Change(path, source, changes)
	if err != nil {
		return nil, err
	}
	c, err := Parse(path, changed, from)
	var mistakes *crowd.Problems
	if errors.As(err, &mistakes) {
		from.WithoutValues = true
		if _, err := Parse(path, source, from); err != nil {
			return nil, err // the places in the file itself
		}
		mistakes.Path += " (as changed)"
	}
	if c != nil {
		c.Changed = true
	}
	return c, err
}

// putInto makes one of the changes.
func putInto(n *yaml.Node, text string) error {
	way, value, ok := strings.Cut(text, "=")
	if !ok || slices.Contains(strings.Split(way, "."), "") {
		return errors.New("write KEY=VALUE, such as plan.for=30s")
	}
	var doc yaml.Node
	if err := yaml.Load([]byte(value), &doc); err != nil || strings.ContainsAny(value, "\r\n") || len(doc.Content) != 1 {
		return errors.New("the value is not YAML on one line, such as 30s, [a, b] or {low: 1, high: 2}")
	}
	for walked := ""; ; {
		if n.Kind == yaml.AliasNode {
			return fmt.Errorf("%s stands at several places of the file (*%s); change it there", walked, n.Value)
		}
		key, rest, next, err := step(n, way)
		if err != nil {
			return err
		}
		switch {
		case rest == "" && next == nil: // a mapping, and a new key
			n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, doc.Content[0])
			return nil
		case rest == "":
			if next.Anchor != "" || next.Kind == yaml.AliasNode {
				return fmt.Errorf("%s stands at several places of the file; change it there", key)
			}
			with := doc.Content[0]
			with.HeadComment, with.LineComment, with.FootComment = next.HeadComment, next.LineComment, next.FootComment
			*next = *with
			return nil
		}
		n, way, walked = next, rest, key
	}
}

// schemes are the keys of a link by the protocol of its address.
var schemes = map[string]string{"mqtt": "mqtt", "mqtts": "mqtt", "ws": "mqtt", "wss": "mqtt", "http": "http", "https": "http"}

// moveTo gives the file's only link of an address's protocol that address, and with it whatever
// begins with the link's address of before: witnesses and registration ask the same platform.
func moveTo(root *yaml.Node, text string) error {
	_, address, _ := strings.Cut(text, "=")
	scheme, rest, _ := strings.Cut(address, "://")
	key := schemes[scheme]
	if key == "" || rest == "" || strings.ContainsAny(address, " \t\r\n") {
		return errors.New("write an address with its protocol, such as mqtts://broker.example:8883 or https://platform.example")
	}
	var names []string
	var old string
	links := valueOf(root, "links")
	for i := 0; links != nil && i+1 < len(links.Content); i += 2 {
		if at := valueOf(links.Content[i+1], key); at != nil && at.Kind == yaml.ScalarNode {
			names, old = append(names, foreign.Line(links.Content[i].Value, 0)), strings.TrimSuffix(at.Value, "/")
		}
	}
	switch {
	case len(names) > 1:
		return fmt.Errorf("there are several links over %s (%s); write --set links.%s.%s=ADDRESS",
			strings.ToUpper(key), strings.Join(names, ", "), names[0], key)
	case old == "":
		return fmt.Errorf("no link of this file is over %s", strings.ToUpper(key))
	}
	address = strings.TrimSuffix(address, "/")
	moveAll(root, old, address)
	return nil
}

// moveAll puts an address in the place of another, at the beginning of values.
func moveAll(n *yaml.Node, old, address string) {
	if rest, ok := strings.CutPrefix(n.Value, old); ok && n.Kind == yaml.ScalarNode && (rest == "" || strings.Contains("/?#", rest[:1])) {
		n.Value = address + rest
	}
	for _, x := range n.Content {
		moveAll(x, old, address)
	}
}

// valueOf is what stands below a key of a mapping; nil without it.
func valueOf(n *yaml.Node, key string) *yaml.Node {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// step goes down by the first key of a way. Without an entry of this key, next is nil where the way
// ends at a mapping, which may get it, and an error elsewhere.
func step(n *yaml.Node, way string) (key, rest string, next *yaml.Node, err error) {
	var known []string
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 { // names may have dots: the longest is meant
			k := n.Content[i].Value
			known = append(known, k)
			if r, ok := begins(way, k); ok && len(k) > len(key) {
				key, rest, next = k, r, n.Content[i+1]
			}
		}
	case yaml.SequenceNode:
		for i, x := range n.Content {
			names := append(entryNames(x), strconv.Itoa(i+1))
			if known = append(known, names[0]); slices.Index(known, names[0]) < i {
				known[i] = names[len(names)-1]
			}
			for _, k := range names {
				if r, ok := begins(way, k); ok && len(k) > len(key) {
					key, rest, next = k, r, x
				} else if ok && k == key && next != x { // of one kind, say
					return "", "", nil, fmt.Errorf("%q is several entries of the list; name one by its number, from 1", k)
				}
			}
		}
	default:
		return "", "", nil, fmt.Errorf("there is no %q: what should have it is %s", way, describe(n))
	}
	if next != nil {
		return key, rest, next, nil
	}
	if n.Kind == yaml.SequenceNode && len(n.Content) == 1 {
		return step(n.Content[0], way)
	}
	key, rest, _ = strings.Cut(way, ".")
	if rest == "" && n.Kind == yaml.MappingNode && key != "" {
		return key, "", nil, nil
	}
	if len(known) > mostNamed {
		known = append(slices.Clip(known[:mostNamed]), "…")
	}
	if n.Kind == yaml.SequenceNode {
		return "", "", nil, fmt.Errorf("there is no %q; name an entry of the list: %s", key, strings.Join(known, ", "))
	}
	return "", "", nil, fmt.Errorf("there is no %q; there is: %s", key, strings.Join(known, ", "))
}

// mostNamed is how many names an error lists.
const mostNamed = 12

// begins tells whether a way begins with a key, and what follows it.
func begins(way, key string) (rest string, ok bool) {
	if way == key {
		return "", true
	}
	rest, ok = strings.CutPrefix(way, key+".")
	return rest, ok && rest != ""
}

// entryNames are the names that an entry of a list has.
func entryNames(n *yaml.Node) (names []string) {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if k := n.Content[i].Value; (k == "name" || k == "kind") && !slices.Contains(names, n.Content[i+1].Value) {
			names = append(names, n.Content[i+1].Value)
		}
	}
	return names
}
