package payload

import (
	"encoding/json"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protodesc"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/reflect/protoregistry"
	"google.golang.org/protobuf/types/descriptorpb"
	"google.golang.org/protobuf/types/dynamicpb"

	"runcrowd/internal/signal"
)

// Proto is a message of Protocol Buffers, described by a descriptor set. A field
// goes into the member of its name; a dot leads into a message inside, and a
// position fills the members lat and lon of one, a vector x, y and z.
type Proto struct {
	fields  []Field
	columns []scalar
	paths   [][]protoreflect.FieldDescriptor
	mark    string
	message protoreflect.MessageDescriptor
	list    protoreflect.FieldDescriptor // the member that holds a message for each sample; or nil
}

// Descriptors is a descriptor set: what `protoc --descriptor_set_out=… --include_imports` writes.
type Descriptors struct{ files *protoregistry.Files }

// ReadDescriptors reads a descriptor set.
func ReadDescriptors(set []byte) (*Descriptors, error) {
	var fds descriptorpb.FileDescriptorSet
	if err := proto.Unmarshal(set, &fds); err != nil || len(fds.File) == 0 {
		return nil, fmt.Errorf("is not a descriptor set; make one with: protoc --include_imports --descriptor_set_out=FILE " +
			"x.proto")
	}
	files, err := protodesc.NewFiles(&fds)
	if err != nil {
		return nil, fmt.Errorf("is an incomplete descriptor set (%s); make it with --include_imports", clean(err))
	}
	return &Descriptors{files}, nil
}

func clean(err error) string {
	return strings.TrimPrefix(strings.TrimPrefix(err.Error(), "proto: "), "proto: ")
}

// Messages lists the messages that the set describes.
func (d *Descriptors) Messages() []string {
	var names []string
	d.files.RangeFiles(func(f protoreflect.FileDescriptor) bool {
		for i := range f.Messages().Len() {
			names = append(names, string(f.Messages().Get(i).FullName()))
		}
		return true
	})
	sort.Strings(names)
	return names
}

// NewProto makes the form for a message of the set; the error names the field
// that has no member, or one of another type. Samples names the repeated member that holds
// a message for each sample; empty: the message is that of one sample.
func NewProto(fields []Field, mark string, d *Descriptors, message, samples string) (*Proto, error) {
	found, err := d.files.FindDescriptorByName(protoreflect.FullName(message))
	m, is := found.(protoreflect.MessageDescriptor)
	if err != nil || !is {
		return nil, fmt.Errorf("there is no message %q; the set has %s", message, strings.Join(d.Messages(), ", "))
	}
	p := &Proto{fields: fields, columns: scalars(fields, "."), mark: mark, message: m}
	if samples != "" {
		path, err := member(m, samples)
		if err != nil {
			return nil, fmt.Errorf("samples: %w", err)
		}
		if p.list = path[len(path)-1]; len(path) > 1 || !p.list.IsList() || p.list.Kind() != protoreflect.MessageKind {
			return nil, fmt.Errorf("samples: the member %s of %s is no list of messages", samples, m.FullName())
		}
		m = p.list.Message()
	}
	for i := range p.columns {
		path, err := member(m, p.columns[i].name)
		if err != nil {
			return nil, err
		}
		last := path[len(path)-1]
		if last.IsList() || last.IsMap() || last.Kind() == protoreflect.MessageKind || last.Kind() == protoreflect.GroupKind {
			return nil, fmt.Errorf("the member %s of %s is not a single number, text or truth value", last.Name(),
				last.ContainingMessage().FullName())
		}
		text := last.Kind() == protoreflect.StringKind || last.Kind() == protoreflect.BytesKind ||
			last.Kind() == protoreflect.EnumKind
		if t := p.columns[i].typ; t == signal.Text && !text || (t == signal.Int || t == signal.Float) &&
			last.Kind() == protoreflect.BytesKind {
			return nil, fmt.Errorf("the field %q is a %s, the member %s a %s", p.columns[i].name, t, last.FullName(),
				last.Kind())
		}
		p.paths = append(p.paths, path)
	}
	return p, nil
}

func member(m protoreflect.MessageDescriptor, name string) ([]protoreflect.FieldDescriptor, error) {
	var path []protoreflect.FieldDescriptor
	for _, part := range strings.Split(name, ".") {
		if m == nil {
			return nil, fmt.Errorf("the field %q leads into %s, which is no message", name, path[len(path)-1].FullName())
		}
		fd := m.Fields().ByName(protoreflect.Name(part))
		if fd == nil {
			fd = m.Fields().ByJSONName(part)
		}
		if fd == nil {
			var known []string
			for i := range m.Fields().Len() {
				known = append(known, string(m.Fields().Get(i).Name()))
			}
			return nil, fmt.Errorf("the message %s has no member %q for the field %q; it has %s", m.FullName(), part, name,
				strings.Join(known, ", "))
		}
		path = append(path, fd)
		m = nil
		if fd.Kind() == protoreflect.MessageKind && !fd.IsList() && !fd.IsMap() {
			m = fd.Message()
		}
	}
	return path, nil
}

// ContentType implements Form.
func (p *Proto) ContentType() string { return "application/x-protobuf" }

// Append implements Form. What is null or left out is not set.
func (p *Proto) Append(dst []byte, samples []Sample) ([]byte, error) {
	m := dynamicpb.NewMessage(p.message)
	var wrong error
	if p.list == nil {
		wrong = p.fill(m, &samples[0])
	} else {
		list := m.Mutable(p.list).List()
		for s := range samples {
			if err := p.fill(list.AppendMutable().Message(), &samples[s]); wrong == nil {
				wrong = err
			}
		}
	}
	out, err := proto.MarshalOptions{Deterministic: true}.MarshalAppend(dst, m)
	if wrong == nil {
		wrong = err
	}
	return out, wrong
}

// fill sets the members of a sample's message.
func (p *Proto) fill(m protoreflect.Message, sample *Sample) (wrong error) {
	for i := range p.columns {
		v := p.columns[i].of(sample)
		if !plain(v) {
			continue
		}
		in := m
		path := p.paths[i]
		for _, fd := range path[:len(path)-1] {
			in = in.Mutable(fd).Message()
		}
		x, err := protoValue(path[len(path)-1], v)
		if err != nil {
			if wrong == nil {
				wrong = fmt.Errorf("the field %q: %w", p.columns[i].name, err)
			}
			continue
		}
		in.Set(path[len(path)-1], x)
	}
	return wrong
}

func protoValue(fd protoreflect.FieldDescriptor, v signal.Value) (protoreflect.Value, error) {
	none := protoreflect.Value{}
	switch fd.Kind() {
	case protoreflect.StringKind:
		return protoreflect.ValueOfString(string(text(nil, v))), nil
	case protoreflect.BytesKind:
		return protoreflect.ValueOfBytes([]byte(v.Text())), nil
	case protoreflect.BoolKind:
		return protoreflect.ValueOfBool(numeric(v) != 0), nil
	case protoreflect.EnumKind:
		if v.Type() == signal.Text {
			e := fd.Enum().Values().ByName(protoreflect.Name(v.Text()))
			if e == nil {
				return none, fmt.Errorf("%q is no value of the enum %s", v.Text(), fd.Enum().FullName())
			}
			return protoreflect.ValueOfEnum(e.Number()), nil
		}
	}
	x := numeric(v)
	if v.Type() == signal.Text {
		return none, fmt.Errorf("a text cannot stand in a member of the type %s", fd.Kind())
	}
	misfit := fmt.Errorf("%s does not fit into a member of the type %s", Value(nil, v), fd.Kind())
	switch fd.Kind() {
	case protoreflect.DoubleKind:
		return protoreflect.ValueOfFloat64(x), nil
	case protoreflect.FloatKind:
		if math.Abs(x) > math.MaxFloat32 {
			return none, misfit
		}
		return protoreflect.ValueOfFloat32(float32(x)), nil
	}
	if x != math.Round(x) {
		return none, fmt.Errorf("%w, which holds whole numbers; add round: 0", misfit)
	}
	i := int64(x)
	if v.Type() == signal.Int {
		i = v.Int()
	}
	switch fd.Kind() {
	case protoreflect.Int32Kind, protoreflect.Sint32Kind, protoreflect.Sfixed32Kind, protoreflect.EnumKind:
		if x < math.MinInt32 || x > math.MaxInt32 {
			return none, misfit
		}
		if fd.Kind() == protoreflect.EnumKind {
			return protoreflect.ValueOfEnum(protoreflect.EnumNumber(i)), nil
		}
		return protoreflect.ValueOfInt32(int32(i)), nil
	case protoreflect.Uint32Kind, protoreflect.Fixed32Kind:
		if x < 0 || x > math.MaxUint32 {
			return none, misfit
		}
		return protoreflect.ValueOfUint32(uint32(i)), nil
	case protoreflect.Uint64Kind, protoreflect.Fixed64Kind:
		if x < 0 || x >= math.MaxUint64 {
			return none, misfit
		}
		if v.Type() != signal.Int {
			return protoreflect.ValueOfUint64(uint64(x)), nil
		}
		return protoreflect.ValueOfUint64(uint64(i)), nil
	}
	if v.Type() != signal.Int && (x < math.MinInt64 || x >= math.MaxInt64) {
		return none, misfit
	}
	return protoreflect.ValueOfInt64(i), nil
}

// Read implements Form. A member that was not sent reads as its zero value.
func (p *Proto) Read(body []byte) ([]Found, error) {
	m := dynamicpb.NewMessage(p.message)
	if err := proto.Unmarshal(body, m); err != nil {
		return nil, fmt.Errorf("not a message %s: %s", p.message.FullName(), clean(err))
	}
	if err := once(p.message, body); err != nil {
		return nil, err
	}
	if p.list == nil {
		return []Found{p.found(m)}, nil
	}
	var found []Found
	list := m.Get(p.list).List()
	for i := range list.Len() {
		found = append(found, p.found(list.Get(i).Message()))
	}
	return found, nil
}

// found reads the message of a sample.
func (p *Proto) found(m protoreflect.Message) Found {
	values := map[string]any{}
	for i, path := range p.paths {
		in := m
		for _, fd := range path[:len(path)-1] {
			in = in.Get(fd).Message()
		}
		fd := path[len(path)-1]
		p.columns[i].put(p.fields, values, protoJSON(fd, in.Get(fd)))
	}
	return split(values, p.mark)
}

// once checks that no member of a message stands twice in its body: of several the last
// would count, and messages would be merged.
func once(message protoreflect.MessageDescriptor, body []byte) error {
	seen := map[protowire.Number]bool{}
	for len(body) > 0 {
		number, wire, n := protowire.ConsumeTag(body)
		if n < 0 {
			return protowire.ParseError(n)
		}
		body = body[n:]
		if n = protowire.ConsumeFieldValue(number, wire, body); n < 0 {
			return protowire.ParseError(n)
		}
		fd := message.Fields().ByNumber(number)
		if fd != nil && fd.Cardinality() != protoreflect.Repeated {
			if seen[number] {
				return fmt.Errorf("the member %s stands twice in a message %s", fd.Name(), message.FullName())
			}
			seen[number] = true
		}
		if fd != nil && fd.Message() != nil && !fd.IsMap() && wire == protowire.BytesType {
			inner, _ := protowire.ConsumeBytes(body)
			if err := once(fd.Message(), inner); err != nil {
				return err
			}
		}
		body = body[n:]
	}
	return nil
}

func protoJSON(fd protoreflect.FieldDescriptor, v protoreflect.Value) any {
	switch x := v.Interface().(type) {
	case bool, string:
		return x
	case []byte:
		return string(x)
	case protoreflect.EnumNumber:
		if e := fd.Enum().Values().ByNumber(x); e != nil {
			return string(e.Name())
		}
		return whole(int64(x))
	case float32:
		return short(float64(x), 32)
	case float64:
		return short(x, 64)
	case int32:
		return whole(int64(x))
	case int64:
		return whole(x)
	case uint32:
		return unsigned(uint64(x))
	case uint64:
		return unsigned(x)
	}
	return nil
}

func whole(i int64) json.Number     { return json.Number(strconv.FormatInt(i, 10)) }
func unsigned(u uint64) json.Number { return json.Number(strconv.FormatUint(u, 10)) }

// short is the shortest number that gives the same float of a size; null where
// JSON has none.
func short(f float64, bits int) any {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return nil
	}
	return json.Number(strconv.FormatFloat(f, 'g', -1, bits))
}
