package crowd

import (
	"fmt"
	"strings"
	"time"

	"runcrowd/internal/formula"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// NewForm makes the form of a reading's bodies. Expand fills in a text that is the
// same for all messages of a stream; run runs a formula of a template for one
// sample.
func NewForm(rd *Reading, mark Mark, expand func(*formula.Text) (string, error),
	run func(*formula.Formula, *payload.Sample) (any, error)) (payload.Form, error) {
	p := &rd.Payload
	var names []string
	var fields []payload.Field
	markName := ""
	if mark.Place <= MarkSequence {
		markName = mark.Name
		typ := signal.Text
		if mark.Place == MarkSequence {
			typ = signal.Int
		}
		names, fields = append(names, markName), append(fields, payload.Field{Name: markName, Type: typ})
	}
	for i := range rd.Fields {
		f := &rd.Fields[i]
		names = append(names, f.Name)
		fields = append(fields, payload.Field{Name: f.Name, Unit: f.Unit, Type: typeOf(f.Sample)})
	}
	batch := rd.Batch > 1
	switch p.Form {
	case "senml", "senml-cbor":
		base, err := expand(p.BaseName)
		if err == nil && base != "" {
			err = payload.CheckSenMLName(base)
		}
		return payload.NewSenML(fields, markName, base, p.Form == "senml-cbor"), err
	case "cbor":
		return payload.NewCBOR(names, markName, batch), nil
	case "csv":
		return payload.NewCSV(fields, markName, p.Separator, p.Head), nil
	case "urlencoded":
		return payload.NewURLEncoded(fields, markName), nil
	case "line-protocol":
		series, err := expand(p.Series)
		if err != nil {
			return nil, err
		}
		var tags []payload.Tag
		for _, t := range p.Tags {
			v, err := expand(t.Value)
			if err != nil {
				return nil, err
			}
			tags = append(tags, payload.Tag{Name: t.Name, Value: v})
		}
		return payload.NewLineProtocol(fields, markName, series, tags, p.Precision)
	case "protobuf":
		if p.File == nil || p.File.Descriptors == nil {
			return nil, fmt.Errorf("the descriptor set could not be read")
		}
		return payload.NewProto(fields, markName, p.File.Descriptors, p.Message, p.Samples)
	case "bytes":
		return payload.NewBytes(fields, markName, append([]payload.Slot(nil), p.Layout...))
	case "template":
		return newTemplate(p, rd.Only, markName, batch, fields, run)
	}
	return payload.NewJSON(names, markName, p.Nested, batch)
}

func newTemplate(p *Payload, only, mark string, batch bool, fields []payload.Field, run func(*formula.Formula,
	*payload.Sample) (any, error)) (payload.Form, error) {
	if p.Template == nil {
		return nil, fmt.Errorf("the template could not be read")
	}
	var parts []payload.Part
	var formulas []*formula.Formula
	var sources []string
	markAt := -1
	p.Template.Walk(func(literal string, f *formula.Formula) {
		if f == nil {
			parts = append(parts, payload.Part{Literal: literal, Placeholder: -1})
			return
		}
		if strings.TrimSpace(f.Source()) == "mark" && mark != "" {
			markAt = len(formulas)
		}
		parts = append(parts, payload.Part{Placeholder: len(formulas)})
		source := strings.TrimSpace(f.Source())
		if source == "value" && only != "" { // of the field that is sent alone
			source = strings.ReplaceAll(only, ".", "_")
		}
		formulas, sources = append(formulas, f), append(sources, source)
	})
	fill := func(s *payload.Sample, i int) (signal.Value, error) {
		if i == markAt {
			return s.Values[0], nil // the mark is always the first field
		}
		x, err := run(formulas[i], s)
		if err != nil {
			return signal.Value{}, err
		}
		if t, is := x.(time.Time); is {
			x = formula.String(t)
		}
		if v, is := x.(signal.Value); is {
			return v, nil
		}
		v, ok := signal.Of(x)
		if !ok {
			return signal.Value{}, fmt.Errorf("the placeholder ${%s} gives a %T, which no message can carry",
				formulas[i].Source(), x)
		}
		return v, nil
	}
	if !payload.IsPlain(parts) {
		if p.In != "" {
			return nil, fmt.Errorf("JSON cannot stand in an address as it is; write a plain text, such as ${temp}?m=${mark}, or let it " +
				"ride in the body")
		}
		return payload.NewTemplate(parts, sources, markAt, batch, fill)
	}
	if batch {
		return nil, fmt.Errorf("a template that is a plain text holds one message; leave out batch, or make it a JSON object { … }")
	}
	types := map[string]signal.Type{}
	for _, f := range fields {
		types[strings.ReplaceAll(f.Name, ".", "_")] = f.Type
	}
	return payload.NewPlain(parts, sources, types, markAt, p.In != "", fill)
}

// typeOf is the type of what a field gives, as far as its sample tells.
func typeOf(sample any) signal.Type {
	switch sample.(type) {
	case int:
		return signal.Int
	case float64:
		return signal.Float
	case bool:
		return signal.Bool
	case string:
		return signal.Text
	case quantity.Position:
		return signal.Place
	case quantity.Axes:
		return signal.Vector
	}
	return signal.Null
}
