package file

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/payload"
)

// payload reads what a reading's bodies are made like, and tries it.
func (r *reader) payload(rd *crowd.Reading, o *object, c *crowd.Cast, env, streamEnv formula.Env, what string) {
	p := &rd.Payload
	p.Form, p.Pos = "json", rd.Pos
	n := o.get("payload")
	before := len(r.List)
	if n != nil {
		p.Pos = pos(n)
		what += ": payload"
		if n.Kind == yaml.ScalarNode {
			p.Form = r.word(n, what, "json", crowd.PayloadForms...)
			n = &yaml.Node{Kind: yaml.MappingNode, Line: n.Line, Column: n.Column}
		} else {
			if !r.payloadForm(p, n, what) {
				return
			}
		}
		po := r.object(n, what+" (form "+p.Form+")", payloadMaps[p.Form])
		if ct := po.get("content_type"); ct != nil {
			p.ContentType, _ = r.scalar(ct, what+": content_type")
			p.Unlabelled = p.ContentType == "" || p.ContentType == "none"
			if strings.ContainsAny(p.ContentType, "\r\n\x00") {
				r.Add(pos(ct), "%s: content_type holds a line break", what)
			}
		}
		r.payloadOptions(p, po, env, streamEnv, what)
		if slices.Contains(payloadMaps[p.Form].names(), "in") {
			r.bodyPlace(rd, po.get("in"), c, what)
		}
	}
	if rd.Batch > 1 {
		switch {
		case p.Form == "urlencoded":
			r.Add(p.Pos, "%s: names and values in an address or a web form are one message; leave out batch", what)
		case p.Form == "protobuf" && p.Samples == "":
			r.Add(p.Pos, "%s: several messages of Protocol Buffers in one body have no end of their own; name the repeated "+
				"member that holds them with samples, or leave out batch", what)
		case c.Kind.Mark.Place == crowd.MarkUserProperty || c.Kind.Mark.Place == crowd.MarkHeader:
			r.Add(rd.Pos, "%s: a batch holds several messages, and a %s has room for one mark; use mark: {field: mark} or "+
				"{sequence: NAME}", what,
				strings.ReplaceAll(crowd.MarkPlaces[c.Kind.Mark.Place], "_", " "))
		}
	}
	if len(r.List) > before || len(rd.Fields) == 0 && p.Form != "template" {
		return
	}
	r.tryForm(rd, c, what)
}

// payloadForm finds the form of a mapping: it is named, or a key tells it.
func (r *reader) payloadForm(p *crowd.Payload, n *yaml.Node, what string) bool {
	for _, e := range r.entries(n, what) {
		if e.key.Value == "form" {
			before := len(r.List)
			p.Form = r.word(e.value, what+": form", "json", crowd.PayloadForms...)
			return len(r.List) == before
		}
	}
	for _, form := range crowd.PayloadForms {
		for _, key := range payloadMaps[form].names() {
			if r.has(n, key) && !slices.Contains([]string{"form", "content_type", "base_name", "tags"}, key) {
				p.Form = form
				return true
			}
		}
	}
	if r.has(n, "content_type") && len(n.Content) == 2 {
		return true
	}
	r.Add(pos(n), "%s does not say its form; write, for example, form: cbor; forms are %s", what,
		strings.Join(crowd.PayloadForms, ", "))
	return false
}

// bodyPlace reads where the values ride in a request.
func (r *reader) bodyPlace(rd *crowd.Reading, n *yaml.Node, c *crowd.Cast, what string) {
	in := r.word(n, what+": in", "body", "body", "query", "path")
	switch {
	case n == nil || in == "body":
		return
	case c.Link != nil && c.Link.Protocol != crowd.HTTP:
		r.Add(pos(n), "%s: in: %s does not go with MQTT links, whose messages have a body alone", what, in)
	case rd.Gzip:
		r.Add(pos(n), "%s: in: %s leaves no body that could be compressed; leave out gzip", what, in)
	case rd.Batch > 1:
		r.Add(pos(n), "%s: an address holds the values of one message; leave out batch, or in: %s", what, in)
	}
	rd.Payload.In = in
}

func (r *reader) payloadOptions(p *crowd.Payload, o *object, env, streamEnv formula.Env, what string) {
	switch p.Form {
	case "json":
		p.Nested = o.truth("nested")
	case "template":
		r.template(p, o, env, what)
	case "senml", "senml-cbor":
		p.BaseName = r.text(o.get("base_name"), what+": base_name", streamEnv)
	case "csv":
		p.Separator = parse(r, o.get("separator"), what+": separator", ',', func(s string) (byte, error) {
			if s == "tab" {
				return '\t', nil
			}
			if len(s) != 1 || strings.Contains("\"\r\n", s) || s[0] >= 0x7f || s[0] <= ' ' {
				return ',', fmt.Errorf("%q cannot separate columns; write , ; | or tab", s)
			}
			return s[0], nil
		})
		p.Head = o.truth("head")
	case "line-protocol":
		p.Series = r.text(o.get("series"), what+": series", streamEnv)
		if o.get("series") == nil {
			p.Series, _ = formula.ParseText("${reading}", streamEnv)
		}
		if tn := o.get("tags"); tn != nil {
			for _, e := range r.entries(tn, what+": tags") {
				if t := r.text(e.value, what+": tags: "+e.key.Value, streamEnv); t != nil {
					p.Tags = append(p.Tags, crowd.Header{Name: e.key.Value, Value: t})
				}
			}
		} else {
			t, _ := formula.ParseText("${device}", streamEnv)
			p.Tags = []crowd.Header{{Name: "device", Value: t}}
		}
		p.Precision = o.word("precision")
	case "protobuf":
		if n := o.need("descriptors", "telemetry.binpb"); n != nil {
			if name, ok := r.scalar(n, what+": descriptors"); ok {
				if p.File = r.file(n, what+": descriptors", name); p.File != nil && p.File.Descriptors == nil {
					d, err := payload.ReadDescriptors(p.File.Data)
					if err != nil {
						r.Add(pos(n), "%s: descriptors: %s %s", what, name, err)
					}
					p.File.Descriptors = d
				}
			}
		}
		if n := o.need("message", "harbour.SeaState"); n != nil {
			p.Message, _ = r.scalar(n, what+": message")
		}
		if n := o.get("samples"); n != nil {
			p.Samples, _ = r.scalar(n, what+": samples")
		}
	case "bytes":
		p.Order = o.word("order")
		if n := o.need("layout", "[{field: wave_m, as: i16, scale: 0.01}]"); n != nil {
			for i, item := range r.list(n, what+": layout") {
				r.slots(p, item, fmt.Sprintf("%s: slot %d", what, i+1))
			}
		}
	}
}

func (r *reader) template(p *crowd.Payload, o *object, env formula.Env, what string) {
	n := o.get("template")
	if fn := o.get("template_file"); fn != nil {
		if n != nil {
			r.Add(pos(fn), "%s has both template and template_file; keep one", what)
			return
		}
		name, ok := r.scalar(fn, what+": template_file")
		f := (*crowd.File)(nil)
		if ok {
			f = r.file(fn, what+": template_file", name)
		}
		if f == nil {
			return
		}
		n = &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Style: yaml.LiteralStyle, Value: string(f.Data), Line: fn.Line,
			Column: fn.Column}
	}
	if n == nil {
		o.need("template", `'{"v": ${wave_m}, "mark": "${mark}"}'`)
		return
	}
	full := formula.Env{"mark": ""}
	for k, v := range env {
		full[k] = v
	}
	p.Template = r.text(n, what+": template", full)
}

// slots reads one slot of a raw layout, or several of bits.
func (r *reader) slots(p *crowd.Payload, n *yaml.Node, what string) {
	o := r.object(n, what, slotMap)
	if bits := o.get("bits"); bits != nil {
		if len(o.vals) > 1 {
			r.Add(pos(n), "%s: bits stands alone; give each of its slots a field and a width", what)
		}
		for i, item := range r.list(bits, what+": bits") {
			bo := r.object(item, fmt.Sprintf("%s: bits %d", what, i+1), bitsMap)
			s := payload.Slot{Width: int(bo.whole("width"))}
			if bo.truth("signed") {
				s.Kind = payload.Signed
			}
			r.slotSource(&s, bo, what)
			p.Layout = append(p.Layout, s)
		}
		return
	}
	s := payload.Slot{Scale: r.number(o.get("scale"), what+": scale", 1),
		Offset: r.number(o.get("offset"), what+": offset", 0)}
	if s.Scale == 0 {
		r.Add(pos(o.get("scale")), "%s: scale must not be zero", what)
	}
	as := r.word(o.need("as", "i16"), what+": as", "u8", "u8", "u16", "u24", "u32", "u48", "u64", "i8", "i16", "i24",
		"i32", "i48", "i64", "f32", "f64", "text")
	switch as[0] {
	case 'i':
		s.Kind = payload.Signed
	case 'f':
		s.Kind = payload.Floating
	case 't':
		s.Kind = payload.Letters
		s.Width = 8 * int(r.whole(o.need("width", "12"), what+": width", 1, 1, 65535))
	}
	if s.Kind != payload.Letters {
		s.Width, _ = strconv.Atoi(as[1:])
		if wn := o.get("width"); wn != nil {
			r.Add(pos(wn), "%s: %s has a width of its own; width goes with as: text, in bytes", what, as)
		}
	}
	s.Little = r.word(o.get("order"), what+": order", p.Order, "big", "little") == "little" && s.Kind != payload.Letters
	r.slotSource(&s, o, what)
	p.Layout = append(p.Layout, s)
}

func (r *reader) slotSource(s *payload.Slot, o *object, what string) {
	field, value := o.get("field"), o.get("value")
	switch {
	case (field != nil) == (value != nil):
		if o.node.Kind == yaml.MappingNode {
			r.Add(pos(o.node), "%s needs a field, or a value that is always the same", what)
		}
	case field != nil:
		s.Field, _ = r.scalar(field, what+": field")
		if pn := o.get("part"); pn != nil {
			s.Part = r.word(pn, what+": part", "", "lat", "lon", "x", "y", "z")
		}
	default:
		s.Fixed = parse(r, value, what+": value", 0, func(t string) (int64, error) {
			v, err := strconv.ParseInt(t, 0, 64)
			if err != nil {
				return 0, fmt.Errorf("%q is not a whole number", t)
			}
			return v, nil
		})
	}
}

// tryForm makes the form with samples in place of values, so that what cannot be
// made is told now.
func (r *reader) tryForm(rd *crowd.Reading, c *crowd.Cast, what string) {
	p := &rd.Payload
	for i := range rd.Fields {
		if strings.Contains(p.Form, "senml") {
			if err := payload.CheckSenMLName(rd.Fields[i].Name); err != nil {
				r.Add(rd.Fields[i].Pos, "%s: %s", what, err)
			}
		}
	}
	if p.Template != nil && c.Kind.Mark.Place <= crowd.MarkSequence && !contains(p.Template.Names(), "mark") {
		put := `"mark": "${mark}"`
		if t := strings.TrimSpace(p.Template.Source()); t == "" || t[0] != '{' && t[0] != '[' {
			put = "${mark}"
		}
		r.Add(p.Pos, "%s: the template has no ${mark}, and without it no message can be told from another; put %s in, or "+
			"choose another place for the mark, such as mark: {user_property: mark} or none", what, put)
		return
	}
	if p.Form == "bytes" && c.Kind.Mark.Place <= crowd.MarkSequence {
		r.markSlot(p, c, what)
	}
	_, err := crowd.NewForm(rd, c.Kind.Mark, func(t *formula.Text) (string, error) {
		if t == nil {
			return "", nil
		}
		return "x", nil
	}, func(*formula.Formula, *payload.Sample) (any, error) { return 1, nil })
	if err != nil {
		r.Add(p.Pos, "%s: %s", what, err)
	}
}

// markSlot notes a raw layout whose mark has no room.
func (r *reader) markSlot(p *crowd.Payload, c *crowd.Cast, what string) {
	name := c.Kind.Mark.Name
	for _, s := range p.Layout {
		if s.Field != name {
			continue
		}
		if c.Kind.Mark.Place == crowd.MarkSequence && (s.Kind > payload.Signed || s.Width < 56 || s.Scale > 1) {
			r.Add(p.Pos, "%s: the sequence number in the slot of %q needs u64 or i64: it tells runs apart, too", what, name)
		}
		if c.Kind.Mark.Place == crowd.MarkField && s.Kind != payload.Letters {
			r.Add(p.Pos, "%s: the mark in the slot of %q is a text: write as: text, width: 60; or let it be a number: mark: "+
				"{sequence: %s} with as: u64", what, name, name)
		}
		return
	}
	r.Add(p.Pos, "%s: the layout has no slot for the mark, and without it no message can be told from another; add "+
		"{field: %s, as: text, width: 60}, or for a number mark: {sequence: seq} and {field: seq, as: u64}", what, name)
}
