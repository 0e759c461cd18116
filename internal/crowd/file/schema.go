package file

import (
	"encoding/json"
	"slices"
	"strings"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/signal"
	"runcrowd/internal/unit"
)

type node = map[string]any

// Schema is the JSON Schema (draft 2020-12) of the crowd file. It is made from
// the same lists of keys and signals as the reader. A schema cannot know names
// and formulas: what it lets pass may still be a mistake.
func Schema() []byte {
	doc := schemaOf("A crowd: a fleet of virtual devices and all that it does.", rootKeys, []string{"crowd", "links", "kinds", "devices", "plan"}, node{
		"crowd":     text("The crowd's name: letters, digits, - _ and ."),
		"seed":      whole("Same file, same seed, same clock: the same messages.", 0),
		"links":     mapOf("Where: how devices reach the platform.", linkSchema()),
		"kinds":     mapOf("What: sorts of devices, and what they say.", kindSchema()),
		"devices":   devicesSchema(),
		"enroll":    enrollSchema(),
		"plan":      planSchema(),
		"mark":      markSchema("Where the mark rides that tells messages apart, for all kinds that say nothing else."),
		"witnesses": mapOf("How we know: where we look for messages on the platform's side.", witnessSchema()),
		"require":   requireSchema(),
	})
	doc["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	doc["title"] = "Crowd file"
	doc["$defs"] = node{"field": fieldSchema(), "property": propertySchema(), "reading": readingSchema(), "who": whoSchema("Devices: all, a name, kind, tag, pattern, share or formula.")}
	out, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		panic(err) // maps, texts and numbers always marshal
	}
	return append(out, '\n')
}

// schemaOf is a mapping with just these keys.
func schemaOf(doc string, keys, required []string, props node) node {
	for _, k := range keys {
		if props[k] == nil {
			panic("the schema lacks the key " + k) // the tests make the schema
		}
	}
	if len(props) != len(keys) {
		panic("the schema has keys that the reader does not know: " + strings.Join(keys, " "))
	}
	o := node{"type": "object", "description": doc, "properties": props, "additionalProperties": false}
	if len(required) > 0 {
		o["required"] = required
	}
	return o
}

func mapOf(doc string, of node) node {
	return node{"type": "object", "description": doc, "additionalProperties": of, "minProperties": 1}
}
func ref(name string) node  { return node{"$ref": "#/$defs/" + name} }
func text(doc string) node  { return node{"type": []string{"string", "number"}, "description": doc} }
func plain(doc string) node { return node{"type": "string", "description": doc} }
func number(doc string) node {
	return node{"type": "number", "description": doc}
}
func yes(doc string) node { return node{"type": "boolean", "description": doc} }
func whole(doc string, low int) node {
	return node{"type": "integer", "minimum": low, "description": doc}
}
func words(doc string, list ...string) node { return node{"enum": list, "description": doc} }
func pattern(doc, re, example string) node {
	return node{"type": "string", "pattern": re, "description": doc + " For example " + example + "."}
}

const durationRE = `^\s*-?([0-9.]+\s*(ns|us|µs|μs|ms|s|m|min|h|d)\s*)+$`

func span(doc, example string) node { return pattern(doc, durationRE, example) }
func share(doc, example string) node {
	return pattern(doc, `^\s*[0-9.]+\s*%\s*$`, example)
}
func either(doc string, of ...node) node {
	return node{"anyOf": of, "description": doc}
}
func listOf(of node) node { return node{"type": "array", "items": of} }
func orList(of node) node { return node{"anyOf": []node{of, listOf(of)}} }

var scalar = node{"type": []string{"string", "number", "boolean"}}

func whoSchema(doc string) node {
	o := orList(node{"type": []string{"string", "number"}})
	o["description"] = doc + " A list means any of them. Such as: light-buoy, buoy-0*, tag winter, 20% of light-buoy, every 10th, first 3 of tag winter, site == \"outer\"."
	return o
}

func headers(doc string) node {
	return node{"type": []string{"object", "null"}, "description": doc, "additionalProperties": scalar}
}

func linkProps() node {
	return node{
		"mqtt":            plain("Address of a broker: mqtt://, mqtts://, ws:// or wss://HOST:PORT. ${env.NAME} may stand in it."),
		"http":            plain("Address of an HTTP intake: http:// or https://HOST:PORT. ${env.NAME} may stand in it."),
		"version":         node{"enum": []any{5, 5.0, "5", "3.1.1", 3, "3", "5.0", 1, 2, "1", "2"}, "description": "Version of MQTT: 5 or 3.1.1, default 5; of HTTP: 1 or 2, default 1."},
		"client_id":       text("Client id of a device. Default ${device}."),
		"username":        text("User name of a device, such as ${device} or ${env.NAME}."),
		"password":        text("Password of a device; from the environment: ${env.NAME}, or a roster's column: ${token}."),
		"keep_alive":      span("Keep-alive of the connection. Default 60s.", "60s"),
		"clean_start":     yes("Begin without what the broker may have kept of an earlier session. Default true."),
		"session_expiry":  span("How long the broker keeps the session of a lost connection (version 5). Default 5m.", "5m"),
		"in_flight":       whole("Most messages of a device that wait for their acknowledgement. Default 20.", 1),
		"headers":         headers("Headers of each request, such as Authorization: Bearer ${token}."),
		"timeout":         span("How long a request may take. Default 5s.", "5s"),
		"connect_timeout": span("How long connecting may take. Default 5s.", "5s"),
		"back_off":        pattern("First and longest wait before connecting again. Default 500ms to 30s.", `^.+ to .+$`, "500ms to 30s"),
		"backlog":         whole("Most messages that wait in a device for the link. Default 1000.", 1),
		"connections":     either("Most HTTP requests under way at once, default 256; or per device: a connection of its own for each.", whole("", 1), words("", "per device")),
		"retries":         whole("How often one HTTP message is sent again at most: after 429 or 503 with Retry-After, and where retry_key is given after no answer. Default 3.", 0),
		"retry_key":       plain("A header that carries the mark, by which the platform knows a repeated request; such as Idempotency-Key."),
		"tls": schemaOf("How connections are secured: for mqtts, wss and https.", tlsKeys, nil, node{
			"ca":   plain("A file with the certificates of the authorities to trust, in PEM; those of the machine if not given."),
			"cert": plain("The device's certificate, in PEM; such as certs/${device}.pem."), "key": plain("Its key, in PEM; such as certs/${device}.key."),
			"server_name": plain("The name the platform's certificate must be for, if not the host."), "alpn": orList(node{"type": "string"}),
			"min_version": node{"enum": []any{1.2, 1.3, "1.2", "1.3"}, "description": "The lowest version of TLS. Default 1.2."},
			"verify":      yes("Check the platform's certificate. Default true."),
		}),
		"access_token":  tokenSchema(),
		"path":          plain("Path of a WebSocket, of a device: /mqtt?token=${token}. Default: that of the address."),
		"topic_aliases": whole("Most topics of a device that are sent as a number, as far as the broker allows (version 5). Default 0.", 0),
		"redirects":     words("Whether a device goes where the broker refers it to, and shows its credentials there (version 5). Default report.", "report", "follow"),
	}
}

func tokenSchema() node {
	anything := node{"type": "object"}
	return schemaOf("How devices come to access tokens that expire; ${access_token} stands for it in username, password, headers and paths.", accessKeys, nil, node{
		"jwt": schemaOf("A JSON Web Token, signed for each device.", jwtKeys, []string{"algorithm"}, node{
			"algorithm": words("How it is signed.", credential.Algorithms...), "key": plain("The private key, a file in PEM; such as keys/${device}.pem."),
			"secret": plain("The shared secret of HS256 and the like; from the environment: ${env.NAME}."), "header": anything, "claims": anything,
		}),
		"text": plain("A token composed of formulas; issued and expiry are Unix seconds: hmac, base64, url_escape."),
		"oauth": schemaOf("Tokens of an authorization server, by client credentials (RFC 6749, section 4.4).", oauthKeys, []string{"url", "client_id", "client_secret"}, node{
			"url": plain("The token endpoint."), "client_id": text("The client."), "client_secret": text("Its secret; from the environment: ${env.NAME}."),
			"scope": orList(node{"type": "string"}), "params": node{"type": "object", "additionalProperties": scalar, "description": "What the server wants beside, such as an audience."},
			"credentials_in": words("Where the credentials go. Default header.", "header", "body"),
		}),
		"valid": span("How long a token lasts. Default 1h.", "1h"),
		"renew": span("How long before its end it is changed for a new one. Default a tenth of its time.", "5m"),
	})
}

func commandSchema() node {
	body := func(doc string) node { return either(doc, plain(""), node{"type": "object"}) }
	return schemaOf("A command: how a device hears of it, what it does, and what it answers.", commandKeys, nil, node{
		"topic": plain("The topic it comes at (MQTT)."), "qos": whole("Quality of service of the subscription. Default 1.", 0),
		"path": plain("The path that is asked for commands (HTTP)."), "every": span("How often it is asked. Default 5s.", "5s"), "rows": plain("The commands in what is answered there. A jq expression."),
		"match": node{"type": "object", "additionalProperties": scalar, "description": "Values that a message carries which is this command."},
		"do": schemaOf("What the device does.", doKeys, nil, node{
			"every": either("The new interval of all readings, or of each named one; such as ${ask.seconds}s.", text(""), node{"type": "object", "additionalProperties": text("")}),
			"set":   node{"type": "object", "additionalProperties": scalar, "description": "Properties that get a new value."},
			"send":  orList(node{"type": "string", "description": "Readings that are sent at once."}),
		}),
		"answer": schemaOf("What it says. It knows ask, done (whether it was obeyed) and why (not).", answerKeys, nil, node{
			"topic": plain("Where (MQTT); with version 5, where the command wants it, if not given."), "qos": whole("Quality of service. Default 1.", 0),
			"path": plain("Where (HTTP)."), "method": pattern("The method. Default POST.", `^[A-Z]+$`, "POST"), "headers": headers("Headers."),
			"body":  body("The answer: a text, or what is sent as JSON. Default {ok: ${done}}."),
			"after": pattern("How long it takes: a time, or a range.", `^.+$`, "200ms, or 100ms to 2s"),
			"wrong": schemaOf("At times it says something else.", wrongKeys, []string{"chance", "body"}, node{"chance": share("How often.", "5%"), "body": body("What it says.")}),
			"never": share("How often it says nothing.", "2%"),
		}),
		"request": requestSchema("The request by which the platform is asked to give the command; for runcrowd ask."),
		"answer_from": schemaOf("Where the platform tells what a device answered; for runcrowd ask.", answerFromKeys, []string{"get"}, node{
			"get": plain("The whole address."), "headers": headers("Headers."), "rows": plain("The answers. A jq expression."),
		}),
	})
}

func requestSchema(doc string) node {
	return schemaOf(doc, requestKeys, []string{"url"}, requestProps())
}

func requestProps() node {
	return node{
		"method": pattern("The method.", `^[A-Z]+$`, "POST"), "url": plain("The whole address, such as http://HOST/devices/${device}."), "headers": headers("Headers."),
		"body": either("The body: a text, or what is sent as JSON.", plain(""), node{"type": "object"}), "ok_status": orList(node{"type": "integer", "minimum": 100, "maximum": 599}),
	}
}

func linkSchema() node {
	o := schemaOf("A link: protocol, address, credentials.", linkKeys, nil, linkProps())
	o["oneOf"] = []node{{"required": []string{"mqtt"}}, {"required": []string{"http"}}}
	return o
}

func markSchema(doc string) node {
	o := schemaOf(doc, crowd.MarkPlaces, nil, node{
		"field":         plain("A text in a field of the payload. The default, with the field mark."),
		"sequence":      plain("A whole number in a field, beside the device's name: for platforms that keep only numbers."),
		"user_property": plain("A user property of MQTT 5."),
		"header":        plain("A header of an HTTP request."),
	})
	o["minProperties"], o["maxProperties"] = 1, 1
	return o
}

func kindSchema() node {
	return schemaOf("A kind: a sort of device.", kindKeys, []string{"readings"}, node{
		"link":       plain("The link its devices use; needed where there are several."),
		"tags":       orList(node{"type": "string"}),
		"properties": node{"type": []string{"object", "null"}, "description": "Values that belong to a device, fixed through a run.", "additionalProperties": ref("property")},
		"readings":   node{"type": "object", "description": "What it sends: bundles of fields, each at an interval of its own.", "additionalProperties": ref("reading"), "minProperties": 1},
		"mark":       markSchema("Where the mark rides in messages of this kind."),
		"will": schemaOf("What the broker publishes when it loses a device (MQTT).", willKeys, []string{"topic", "body"}, node{
			"topic": plain("Where."), "body": either("What: a text, or what is sent as JSON.", plain(""), node{"type": "object"}), "qos": whole("Quality of service. Default 1.", 0),
			"retain": yes("Kept for later subscribers. Default false."), "delay": span("How long the broker waits with it (version 5).", "10s"), "content_type": plain("Media type (version 5)."),
		}),
		"commands": node{"type": []string{"object", "null"}, "description": "What the platform may ask of it.", "additionalProperties": commandSchema()},
	})
}

func propertySchema() node {
	drawn := schemaOf("A property that differs from device to device.", propertyKeys, nil, node{
		"pick":     orList(scalar),
		"weights":  listOf(node{"type": "number", "minimum": 0}),
		"uniform":  pattern("Anywhere in a range; whole numbers where both ends are.", `^.+ to .+$`, "3 to 8"),
		"normal":   node{"type": "object", "properties": node{"mean": number("The middle."), "spread": number("The standard deviation.")}, "required": []string{"mean", "spread"}, "additionalProperties": false, "description": "Spread around a mean; min and max bound it."},
		"sequence": either("From device to device in order: a list that is gone through, or from and step.", listOf(scalar), node{"type": "object", "properties": node{"from": number("The first device's."), "step": number("From one to the next.")}, "additionalProperties": false}),
		"position": plain("A place: 58.02,-6.41; within 58.02,-6.41 and 58.06,-6.35 (a box); within 500m of 58.04,-6.38 (a circle); along A to B (on a line); evenly along A to B."),
		"mac":      plain("A hardware address: its first bytes, such as 02:5e:10, or local; the rest counts up."),
		"eui64":    plain("A hardware address of eight bytes: its first bytes; the rest counts up."),
		"ipv4":     plain("An address of a network, such as 10.20.0.0/16, counted up."),
		"ipv6":     plain("An address of a network, such as 2001:db8::/64, counted up."),
		"uuid":     node{"enum": []any{4, 8, "4", "8", "random"}, "description": "A UUID (RFC 9562) drawn from the seed."},
		"pattern":  plain("A random text of the shape of a regular expression, such as [A-Z]{2}[0-9]{4}."),
		"round":    whole("So many decimals.", 0),
		"min":      number("The lowest value (normal)."),
		"max":      number("The highest value (normal)."),
	})
	var one []node
	for _, s := range sources {
		one = append(one, node{"required": []string{s}})
	}
	drawn["oneOf"] = one
	return either("A property: a value, a text with ${…}, or a way of drawing one; null goes back to what the kind says.", node{"type": []string{"string", "number", "boolean", "null"}}, drawn)
}

func devicesSchema() node {
	layer := func() node {
		return node{
			"properties": node{"type": []string{"object", "null"}, "additionalProperties": ref("property"), "description": "Properties of their own; what is nearer wins."},
			"tags":       orList(node{"type": "string"}),
			"link":       node{"type": []string{"string", "null"}, "description": "Another link than the kind's."},
			"settings":   node{"type": []string{"object", "null"}, "properties": nullable(linkProps()), "additionalProperties": false, "description": "Settings of the link of their own: an address, a secret."},
			"readings":   node{"type": []string{"object", "null"}, "additionalProperties": node{"type": []string{"object", "null"}, "properties": nullable(readingProps()), "additionalProperties": false}, "description": "Changes of readings: a topic, an interval, a field; null takes one away."},
		}
	}
	group, change := layer(), layer()
	for k, v := range (node{
		"kind":    plain("The kind of these devices."),
		"count":   whole("How many there are. Default 1.", 1),
		"first":   whole("The number n of the first one. Default 1.", 0),
		"name":    plain("Their names, such as buoy-${pad(n, 3)}."),
		"roster":  plain("A CSV file with a row a device and a column a property."),
		"secrets": orList(node{"type": "string", "description": "Columns of the roster that are never printed."}),
	}) {
		group[k] = v
	}
	change["who"] = ref("who")
	return node{"type": "array", "minItems": 1, "description": "Who: groups of devices, and changes for some of them.", "items": node{
		"if":   node{"required": []string{"who"}},
		"then": schemaOf("A change for some of the devices above.", changeKeys, []string{"who"}, change),
		"else": schemaOf("A group of devices.", groupKeys, []string{"kind"}, group),
	}}
}

// nullable lets null stand for each value.
func nullable(props node) node {
	out := node{}
	for k, v := range props {
		out[k] = either("", v.(node), node{"type": "null"})
	}
	return out
}

func readingProps() node {
	return node{
		"every":           span("How often a device sends it.", "5s"),
		"jitter":          share("By how much of the interval a message may be early or late; at most 50%.", "10%"),
		"turns":           pattern("Which devices speak at each tick. Default staggered.", `^(staggered|together|in order|[0-9]+ at random|[0-9.]+% at random)$`, "staggered, together, in order, 3 at random"),
		"batch":           whole("Samples that are sent together, as a list. Default 1.", 1),
		"topic":           plain("The topic (MQTT), such as harbour/${site}/${device}/state."),
		"qos":             node{"enum": []int{0, 1, 2}, "description": "Quality of service (MQTT). Default 1."},
		"retain":          yes("Whether the broker keeps the message for later subscribers. Default false."),
		"path":            plain("The path (HTTP), such as /in/${device}/level."),
		"method":          pattern("The method (HTTP). Default POST.", `^[A-Z]+$`, "PUT"),
		"ok_status":       orList(node{"type": "integer", "minimum": 100, "maximum": 599}),
		"headers":         headers("Headers beside those of the link (HTTP)."),
		"expires":         span("How long a message lasts that nobody fetches (MQTT 5). Default for ever.", "60s"),
		"user_properties": headers("User properties (MQTT 5), such as unit: m."),
		"payload":         payloadSchema(),
		"gzip":            yes("Compress the body (HTTP)."),
		"fields":          node{"type": "object", "minProperties": 1, "additionalProperties": ref("field"), "description": "What it tells: a name and a value each."},
	}
}

func readingSchema() node {
	return schemaOf("A reading: fields that are sent together.", readingKeys, []string{"every", "fields"}, readingProps())
}

func payloadSchema() node {
	slot := schemaOf("One place in a raw body.", slotKeys, nil, node{
		"field": plain("The field that stands here."), "part": words("Of a position or vector.", "lat", "lon", "x", "y", "z"),
		"value": node{"type": []string{"integer", "string"}, "description": "A value that is always the same, such as 0xA5."},
		"as":    words("How it is written.", "u8", "u16", "u24", "u32", "u48", "u64", "i8", "i16", "i24", "i32", "i48", "i64", "f32", "f64", "text"),
		"width": whole("Bytes of a text.", 1), "scale": number("What one step is worth: 0.01 writes 1.23 as 123."), "offset": number("The value that is written as zero."),
		"order": words("Byte order of this slot.", "big", "little"),
		"bits":  listOf(node{"type": "object"}),
	})
	all := node{
		"form": words("The form of the body.", crowd.PayloadForms...), "content_type": plain("Another media type than the form's; none sends none."),
		"nested": yes("A dot in a field's name makes an object or, with numbers, a list (json)."), "template": plain("JSON with placeholders (template)."),
		"template_file": plain("A file that holds the template."), "base_name": plain("Base name, such as ${device}/ (senml)."),
		"separator": plain("Between columns: , ; | or tab (csv)."), "head": yes("A line of names in front (csv)."),
		"series": plain("Name of the series; the reading's if not given (lines)."), "tags": node{"type": "object", "additionalProperties": scalar, "description": "Tags of the series; device if not given (lines)."},
		"precision": words("Of the time (lines).", "s", "ms", "us", "ns"), "descriptors": plain("A file written by protoc --descriptor_set_out (protobuf)."),
		"message": plain("Full name of the message (protobuf)."), "layout": listOf(slot), "order": words("Byte order (raw).", "big", "little"),
	}
	return either("What the body is made like. Default json.", words("", crowd.PayloadForms...), node{"type": "object", "properties": all, "additionalProperties": false})
}

// paramSchema is that of a signal's parameter.
func paramSchema(p signal.Param) node {
	doc := p.Doc
	formula := node{"type": "string", "pattern": `\$\{`}
	switch p.Type {
	case signal.Number:
		return node{"type": []string{"number", "string"}, "description": doc + "; a number, or a formula over properties"}
	case signal.Duration:
		return either(doc, span(doc, "9s"), formula)
	case signal.Length:
		return either(doc, pattern(doc, `^\s*[0-9.]+\s*(mm|cm|m|km)\s*$`, "15m"), formula)
	case signal.Speed:
		return either(doc, pattern(doc, `^\s*[0-9.]+\s*(m/s|km/h|kn|mph)\s*$`, "5kn"), formula)
	case signal.Clock:
		return pattern(doc, `^\d{1,2}:\d{2}(:\d{2})?$`, `"15:00"`)
	case signal.Day:
		return pattern(doc, `^\d{2}-\d{2}$`, `"07-15"`)
	case signal.Share:
		return share(doc, "10%")
	case signal.Flag:
		return yes(doc)
	case signal.Word:
		return words(doc, p.Words...)
	case signal.Values:
		return either(doc, scalar, listOf(scalar))
	case signal.Numbers:
		return node{"type": "array", "items": node{"type": "number"}, "minItems": 1, "description": doc}
	case signal.Route:
		return node{"type": "array", "items": plain("latitude,longitude"), "minItems": 2, "description": doc}
	case signal.States:
		return node{"type": "object", "description": doc, "minProperties": 1,
			"additionalProperties": node{"type": []string{"object", "null"}, "additionalProperties": share("The chance of going there.", "10%")}}
	}
	return plain(doc)
}

func fieldSchema() node {
	finish := node{
		"noise": number("Standard deviation of a normal error that is added."), "round": whole("So many decimals at the most.", 0),
		"digits": whole("So many decimals always: 12.50.", 0), "min": number("The lowest value."), "max": number("The highest value."),
		"resolution": node{"type": "number", "exclusiveMinimum": 0, "description": "The value is a whole multiple of it."},
		"unit":       node{"type": "string", "description": "What it is measured in.", "examples": unit.Names("")},
		"convert":    pattern("To another unit.", `^.+ to .+$`, "m/s to kn"), "tolerance": number("How far a found number may be off."),
		"stuck": schemaOf("At times the value stays as it is.", stuckKeys, []string{"chance", "for"}, node{"chance": share("The share of messages.", "1%"), "for": span("How long.", "1m")}),
		"spike": schemaOf("Now and then far off.", spikeKeys, []string{"chance", "by"}, node{"chance": share("The share of messages.", "0.5%"), "for": span("How long.", "5s"), "by": number("How far, up or down.")}),
		"drop":  schemaOf("At times left out or replaced.", dropKeys, []string{"chance"}, node{"chance": share("The share of messages.", "2%"), "for": span("How long.", "1m"), "as": node{"type": []string{"string", "number", "boolean", "null"}, "description": "What is sent in its place; left out if not given."}}),
	}
	props := node{"signal": node{"enum": signal.Names(), "description": "A generator of values over time."}, "formula": text("From fields before it, properties, previous, seq, elapsed and time.")}
	known := append([]string{"signal", "formula"}, finishKeys...)
	for _, k := range finishKeys {
		props[k] = finish[k]
	}
	var rules []node
	for _, s := range signal.All() {
		own, names := node{}, slices.Clone(known)
		var required []string
		for _, p := range s.Params {
			own[p.Name] = paramSchema(p)
			names = append(names, p.Name)
			if p.Default == nil && !p.Optional {
				required = append(required, p.Name)
			}
		}
		then := node{"properties": own, "propertyNames": node{"enum": names}, "description": s.Doc}
		if required != nil {
			then["required"] = required
		}
		rules = append(rules, node{"if": node{"properties": node{"signal": node{"const": s.Name}}, "required": []string{"signal"}}, "then": then})
	}
	rules = append(rules, node{"if": node{"required": []string{"formula"}}, "then": node{"propertyNames": node{"enum": known}}})
	made := node{"type": "object", "properties": props, "allOf": rules, "oneOf": []node{{"required": []string{"signal"}}, {"required": []string{"formula"}}}}
	return node{"description": "A field: a value, a text with ${…}, a signal or a formula.", "if": node{"type": "object"}, "then": made,
		"else": node{"type": []string{"string", "number", "boolean"}}}
}

func enrollSchema() node {
	keep := func(doc string) node {
		return node{"type": "object", "description": doc, "additionalProperties": node{"type": "string"}}
	}
	request := func(doc string) node {
		props := requestProps()
		props["keep"] = keep("Values of its answer that become properties of the device, for the requests behind it, too: jq expressions.")
		return schemaOf(doc, enrollRequestKeys, []string{"url"}, props)
	}
	return schemaOf("How devices are made known to the platform, and what is kept of its answers.", enrollKeys, nil, node{
		"request":  request("The request that makes a device known."),
		"requests": listOf(request("One of several requests, in order.")),
		"keep":     keep("Values of the last answer that become properties of the device: jq expressions."),
		"pace":     pattern("At most so many devices a second. Default 20/s.", `^[0-9.]+ ?/.+$`, "20/s"),
		"link":     plain("An HTTP link whose TLS, user or access token the requests use."),
		"withdraw": requestSchema("The request that removes a device."),
		"list": schemaOf("How the platform tells whom it knows.", listKeys, []string{"get", "names"}, node{
			"get": plain("The whole address."), "headers": headers("Headers."), "names": plain("The names in an answer. A jq expression."), "next": plain("The next page. A jq expression."),
		}),
	})
}

func planSchema() node {
	return schemaOf("When: what happens in a run.", planKeys, []string{"for"}, node{
		"join":   pattern("How devices come. Default at once.", `^(at once|spread over .+|[0-9.]+ ?/.+)$`, "spread over 10s, or 20/s"),
		"for":    span("How long they send.", "10m"),
		"rounds": schemaOf("Play it again at set intervals.", roundsKeys, []string{"count"}, node{"count": whole("How often it is played.", 1), "every": span("From one beginning to the next.", "15m")}),
		"settle": span("How long the end of a round waits for acknowledgements. Default 5s.", "5s"),
	})
}

func witnessSchema() node {
	jq := func(doc string) node { return plain(doc + " A jq expression.") }
	o := schemaOf("A witness: a place where we look for messages.", witnessKeys, []string{"proves"}, node{
		"proves":    words("What it proves.", "received", "stored"),
		"who":       ref("who"),
		"subscribe": plain("A topic filter, such as harbour/#."), "link": plain("The MQTT link it listens on."), "qos": node{"enum": []int{0, 1, 2}, "description": "Of the subscription. Default 2."},
		"topic": plain("Where messages come out, if not at their own topic."),
		"get":   plain("An address to ask, with ${device}, ${from} and ${to}."), "headers": headers("Headers of the question."), "timeout": span("How long an answer may take. Default 10s.", "10s"),
		"rows": jq("The rows of an answer."), "next": jq("The next page of an answer."), "time": jq("When a row was stored."), "mark": jq("The mark."),
		"device": jq("The device it is filed under."), "reading": jq("The reading it is filed under."), "values": jq("The values, by field."),
		"body": jq("The message's own bytes, as base64 or text."), "wait": span("How long it looks for what is missing. Default 10s.", "10s"), "linger": span("How long it looks on for repeats. Default 1s.", "1s"),
	})
	o["oneOf"] = []node{{"required": []string{"subscribe"}}, {"required": []string{"get", "rows"}}}
	return o
}

func requireSchema() node {
	props := node{}
	for _, k := range requireKeys {
		switch {
		case k == "unmatched" || k == "out_of_order":
			props[k] = whole("The most allowed.", 0)
		case strings.Contains(k, "_"):
			props[k] = span("The longest allowed.", "250ms")
		default:
			props[k] = pattern("The least share.", `^\s*[0-9.]+\s*%(\s+within\s+.+)?\s*$`, "100% within 30s")
		}
	}
	return node{"type": []string{"object", "null"}, "properties": props, "additionalProperties": false, "description": "What must hold; the exit code says whether it did. Left out: proven: 100%."}
}
