package file

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"runcrowd/internal/crowd"
	"runcrowd/internal/signal"
	"runcrowd/internal/unit"
)

// Schema is the JSON Schema (draft 2020-12) of the crowd file, made from the tables that
// the reader goes by. It cannot know names and formulas: what it lets pass may still be a
// mistake, which check finds.
func Schema() []byte {
	defs := node{"field": fieldSchema(), "payload": payloadSchema(), "who": whoSchema(), "property": propertySchema(),
		"settings": changed(linkMap), defName("reading change"): changed(readingMap)}
	for _, m := range mappings() {
		if defs[defName(m.name)] == nil && m != rootMap {
			defs[defName(m.name)] = m.schema()
		}
	}
	doc := rootMap.schema()
	doc["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	doc["title"] = "Crowd file"
	doc["$defs"] = defs
	out, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		panic(err) // maps, texts and numbers always marshal
	}
	return append(out, '\n')
}

// described is the schema of a key's value, with what it means.
func (k *key) described() node {
	doc := k.doc
	if k.goes != "" {
		doc += " (" + k.goes + ")"
	}
	if k.def != "" {
		doc += " Default: " + k.def
	}
	s := sentenced(k.typ.schema, wanted(k.typ.words))
	if _, refers := s["$ref"]; refers {
		return node{"allOf": []node{s}, "description": doc}
	}
	s["description"] = doc
	return s
}

// wanted tells what is expected where a value is written otherwise.
func wanted(words string) string {
	words = strings.TrimPrefix(words, "a ")
	for begin, example := range map[string]string{"duration": "5s, 250ms or 12h25m", "percentage": "10%", "rate": "20/s"} {
		if words == begin || strings.HasPrefix(words, begin+",") {
			words += ", such as " + example
		}
	}
	return "Expected: " + words + "."
}

// sentenced is a schema whose patterns have a sentence that editors show in their place.
func sentenced(n node, text string) node {
	n = maps.Clone(n)
	for k, v := range n {
		switch x := v.(type) {
		case node:
			if k != "properties" {
				n[k] = sentenced(x, text)
			}
		case []node:
			list := make([]node, len(x))
			for i := range x {
				list[i] = sentenced(x[i], text)
			}
			n[k] = list
		case []any:
			list := slices.Clone(x)
			for i := range list {
				if inner, is := list[i].(node); is {
					list[i] = sentenced(inner, text)
				}
			}
			n[k] = list
		}
	}
	if _, has := n["pattern"].(string); has {
		n["patternErrorMessage"] = text
	}
	return n
}

// schema is a mapping with just these keys.
func (m *mapping) schema() node {
	props := node{}
	var required []string
	for i := range m.keys {
		props[m.keys[i].name] = m.keys[i].described()
		if m.keys[i].need != "" {
			required = append(required, m.keys[i].name)
		}
	}
	o := node{"type": "object", "description": m.doc, "properties": props, "additionalProperties": false}
	if required != nil {
		o["required"] = required
	}
	if m.one != nil {
		var one []node
		for _, k := range m.one {
			one = append(one, node{"required": []string{k}})
		}
		o["oneOf"] = one
	}
	if m.some != nil {
		var some []node
		for _, k := range m.some {
			some = append(some, node{"required": []string{k}})
		}
		o["anyOf"] = some
	}
	var rules []node
	for _, pair := range m.notBoth {
		rules = append(rules, node{"not": node{"required": pair[:]}})
	}
	for _, pair := range m.needs {
		rules = append(rules, node{"if": node{"required": []string{pair[0]}}, "then": node{"required": []string{pair[1]}}})
	}
	// A key of the other protocol, where the mapping itself says which one it is.
	for tells, protocol := range map[string]crowd.Protocol{"mqtt": crowd.MQTT, "http": crowd.HTTP,
		"subscribe": crowd.MQTT, "get": crowd.HTTP, "post": crowd.HTTP} {
		if (m == linkMap || m == witnessMap) && slices.Contains(m.names(), tells) {
			for _, wrong := range m.notFor(protocol) {
				rules = append(rules, node{"not": node{"required": []string{tells, wrong}}})
			}
		}
	}
	if m == witnessMap {
		for _, key := range []string{"get", "post"} {
			rules = append(rules, node{"if": node{"required": []string{key}}, "then": node{"anyOf": []node{
				{"required": []string{"rows"}}, {"required": []string{"form"}}}}})
		}
	}
	if rules != nil {
		slices.SortFunc(rules, func(a, b node) int { return compareJSON(a, b) })
		o["allOf"] = rules
	}
	return o
}

func compareJSON(a, b node) int {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return slices.Compare(x, y)
}

// changed is a mapping laid over another: any of its keys, and null takes one away.
func changed(m *mapping) node {
	props := node{}
	for i := range m.keys {
		k := m.keys[i]
		k.typ = orNull(k.typ)
		props[k.name] = k.described()
	}
	return node{"type": []string{"object", "null"}, "description": m.doc, "properties": props,
		"additionalProperties": false}
}

func whoSchema() node {
	s := orList(node{"type": []string{"string", "number"}})
	s["description"] = "Devices: all, a name, kind, tag, pattern, share or formula. A list means any of them. Such as: " +
		"light-buoy, buoy-0*, tag winter, 20% of light-buoy, every 10th, first 3 of tag winter, site == \"outer\"."
	return s
}

func propertySchema() node {
	return node{"description": "A property: a value, a text with ${…}, or a way of drawing one; null goes back to what " +
		"the kind says.",
		"anyOf": []node{{"type": []string{"string", "number", "boolean", "null"}}, ref(propertyMap.name)}}
}

func payloadSchema() node {
	props := node{}
	var rules []node
	for _, form := range crowd.PayloadForms {
		m := payloadMaps[form]
		var foreign []node
		for i := range m.keys {
			k := &m.keys[i]
			if k.name != "form" && k.name != "content_type" || props[k.name] == nil {
				props[k.name] = k.described()
			}
		}
		// Keys of other forms do not go with this one.
		for _, other := range crowd.PayloadForms {
			for _, name := range payloadMaps[other].names() {
				if !slices.Contains(m.names(), name) && !slices.ContainsFunc(foreign,
					func(n node) bool { return n["required"].([]string)[0] == name }) {
					foreign = append(foreign, node{"required": []string{name}})
				}
			}
		}
		then := node{"not": node{"anyOf": foreign}}
		var required []string
		for i := range m.keys {
			if m.keys[i].need != "" {
				required = append(required, m.keys[i].name)
			}
		}
		if required != nil {
			then["required"] = required
		}
		rules = append(rules, node{"if": node{"properties": node{"form": node{"const": form}}, "required": []string{"form"}},
			"then": then})
	}
	var words []node
	for _, form := range crowd.PayloadForms {
		words = append(words, node{"const": form, "description": payloadMaps[form].doc})
	}
	return node{"description": "What the body is made like. Default: json", "anyOf": []node{{"oneOf": words},
		{"type": "object", "minProperties": 1, "properties": props, "additionalProperties": false, "allOf": rules}}}
}

// paramSchema is that of a signal's parameter.
func paramSchema(p signal.Param) node {
	formula := node{"type": "string", "pattern": `\$\{`}
	orFormula := func(s node) node { return node{"anyOf": []node{s, formula}} }
	var s node
	switch p.Type {
	case signal.Number:
		s = node{"type": []string{"number", "string"}}
	case signal.Duration:
		s = orFormula(node{"type": "string", "pattern": `^\s*-?` + spanRE + `$`})
	case signal.Length:
		s = orFormula(node{"type": "string", "pattern": `^\s*[0-9.]+\s*(mm|cm|m|km)\s*$`})
	case signal.Speed:
		s = orFormula(node{"type": "string", "pattern": `^\s*[0-9.]+\s*(m/s|km/h|kn|mph)\s*$`})
	case signal.Clock:
		s = node{"type": "string", "pattern": `^\d{1,2}:\d{2}(:\d{2})?$`}
	case signal.Day:
		s = node{"type": "string", "pattern": `^\d{2}-\d{2}$`}
	case signal.Share:
		s = node{"type": "string", "pattern": shareRE}
	case signal.Flag:
		s = maps.Clone(truth.schema)
	case signal.Word:
		s = node{"enum": p.Words}
	case signal.Values:
		s = orList(scalar())
	case signal.Numbers:
		s = node{"type": "array", "items": node{"type": "number"}, "minItems": 1}
	case signal.Route:
		s = node{"type": "array", "items": node{"type": "string"}, "minItems": 2}
	case signal.States:
		s = node{"type": "object", "minProperties": 1, "additionalProperties": node{"type": []string{"object", "null"},
			"additionalProperties": node{"type": "string", "pattern": shareRE}}}
	default:
		s = node{"type": "string"}
	}
	s = sentenced(s, wanted(p.Type.String()))
	s["description"] = p.Doc
	return s
}

// fieldSchema explains each signal where its name stands, and lets only its own
// parameters pass.
func fieldSchema() node {
	props := node{}
	known := fieldMap.names()
	for i := range fieldMap.keys {
		props[fieldMap.keys[i].name] = fieldMap.keys[i].described()
	}
	props["unit"].(node)["examples"] = unit.Names("")
	var names []node
	var rules []node
	for _, s := range signal.All() {
		names = append(names, node{"const": s.Name, "title": s.Name, "description": s.Doc + ". For example " + s.Example})
		own, allowed := node{}, slices.Clone(known)
		var required []string
		for _, p := range s.Params {
			own[p.Name] = paramSchema(p)
			allowed = append(allowed, p.Name)
			if p.Default == nil && !p.Optional {
				required = append(required, p.Name)
			}
		}
		then := node{"properties": own, "propertyNames": node{"enum": allowed}}
		if required != nil {
			then["required"] = required
		}
		rules = append(rules, node{"if": node{"properties": node{"signal": node{"const": s.Name}},
			"required": []string{"signal"}}, "then": then})
	}
	props["signal"] = node{"oneOf": names, "description": "A generator of values over time."}
	rules = append(rules, node{"if": node{"required": []string{"formula"}},
		"then": node{"propertyNames": node{"enum": known}}}, node{"not": node{"required": []string{"round", "digits"}}})
	made := node{"type": "object", "properties": props, "allOf": rules,
		"oneOf": []node{{"required": []string{"signal"}}, {"required": []string{"formula"}}}}
	return node{"description": "A field: a value, a text with ${…}, a signal or a formula.", "if": node{"type": "object"},
		"then": made, "else": node{"type": []string{"string", "number", "boolean", "null"}}}
}
