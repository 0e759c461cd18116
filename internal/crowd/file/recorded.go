package file

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/recording"
)

// maxRecorded is the most devices of one recording.
const maxRecorded = 1_000_000

// recorded reads what a group plays again, and looks through it once: who is in it.
func (r *reader) recorded(n *yaml.Node, kind *crowd.Kind) *crowd.Recording {
	const what = "recording"
	x := &crowd.Recording{Pos: pos(n), Speed: 1, Raw: map[string]bool{}}
	before := len(r.List)
	if v := r.resolve(n); v.Kind == yaml.ScalarNode {
		x.File, _ = r.scalar(n, what)
		x.Topic, _ = recording.Pattern("")
	} else {
		o := r.object(n, what, recordingMap)
		if o.node.Kind != yaml.MappingNode {
			return nil
		}
		if fn := o.value("file"); fn != nil {
			x.File, _ = r.scalar(fn, what+": file")
		}
		x.Topic = parse(r, o.get("topic"), what+": topic", nil, recording.Pattern)
		if x.Topic == nil {
			x.Topic, _ = recording.Pattern("")
		}
		for key, into := range map[string]*string{"time": &x.Time, "device": &x.Device, "reading": &x.Reading} {
			if kn := o.get(key); kn != nil {
				*into, _ = r.scalar(kn, what+": "+key)
			}
		}
		x.Speed = parse(r, o.get("speed"), what+": speed", 1, parseSpeedup)
		x.Every = o.span("every")
		x.From = parse(r, o.get("from"), what+": from", time.Time{}, parseRecordedTime)
		x.To = parse(r, o.get("to"), what+": to", time.Time{}, parseRecordedTime)
		x.Loop = o.truth("loop")
		if sn := o.get("shift"); sn != nil {
			if v := r.resolve(sn); v.Kind == yaml.ScalarNode && (v.Value == "true" || v.Value == "false") {
				x.AllTimes = v.Value == "true"
			} else {
				for _, item := range r.list(sn, what+": shift") {
					if s, ok := r.scalar(item, what+": shift"); ok {
						x.Times = append(x.Times, s)
					}
				}
			}
		}
		if on := o.get("override"); on != nil {
			for _, e := range r.entries(on, what+": override") {
				if t := r.text(e.value, what+": override: "+e.key.Value, overrideEnv()); t != nil {
					x.Override = append(x.Override, crowd.Override{Name: e.key.Value, Value: t})
				}
			}
		}
	}
	if len(r.List) > before || kind == nil || !r.recordedFiles(x, n) {
		return nil
	}
	return r.lookThrough(x, n, kind)
}

// overrideEnv is what the values of overridden fields know: of the device, and of the message.
func overrideEnv() formula.Env {
	env := crowd.MessageEnv(crowd.DeviceEnv())
	delete(env, "previous")
	env[crowd.RecordedName] = ""
	return env
}

func parseSpeedup(s string) (float64, error) {
	f, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(s), "x"), 64)
	if err != nil || !strings.Contains(s, "x") || !(f > 0 && f <= 1e6) {
		return 1, fmt.Errorf("%q is no speed; write 1x, 10x or 0.5x", s)
	}
	return f, nil
}

func parseRecordedTime(s string) (time.Time, error) {
	if t, ok := quantity.ParseInstant(s); ok {
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; write one such as 2026-01-15T02:00:00Z", s)
}

// recordedFiles finds the files of a recording.
func (r *reader) recordedFiles(x *crowd.Recording, n *yaml.Node) bool {
	if x.File == "" {
		r.Add(pos(n), "recording: the name of the file is empty")
		return false
	}
	if r.from.Open != nil { // of a run folder: who is in it was written down there
		data, err := r.from.Open(x.File)
		if err != nil {
			r.Add(pos(n), "recording: %s cannot be read: %s", x.File, folder.Why(err))
			return false
		}
		x.Data = data
		return true
	}
	path := x.File
	if !filepath.IsAbs(path) {
		path = filepath.Join(filepath.Dir(r.crowd.Path), path)
	}
	list, err := filepath.Glob(path)
	if err != nil || len(list) == 0 {
		r.Add(pos(n), "recording: there is no %s (it is looked for from the crowd file's folder)", x.File)
		return false
	}
	if len(list) > 1 && x.Time != "" {
		r.Add(pos(n), "recording: %s are several files; CSV is one", x.File)
		return false
	}
	slices.Sort(list)
	x.Paths = list
	return true
}

// lookThrough reads a recording once, a line at a time: who is in it, from when to when.
func (r *reader) lookThrough(x *crowd.Recording, n *yaml.Node, kind *crowd.Kind) *crowd.Recording {
	var readings []string
	for _, e := range r.kinds[kind].readings {
		readings = append(readings, e.key.Value)
	}
	var source recording.Source
	var err error
	if x.Data != nil && x.Time == "" {
		source = recording.OfBytes(x.Data)
	} else {
		source, err = x.Open()
	}
	if err != nil {
		r.Add(pos(n), "recording: %s", err)
		return nil
	}
	defer source.Close()
	known := map[string]bool{}
	x.QoS = map[string][2]byte{}
	inField := kind.Mark.Place == crowd.MarkField || kind.Mark.Place == crowd.MarkSequence
	var copyOf bytes.Buffer
	seen := map[[2]string]bool{}
	sum := sha256.New()
	other := map[string]int{}
	lines, told := 0, time.Now()
	for {
		if lines++; lines%10_000 == 0 && r.from.Tell != nil && time.Since(told) > 2*time.Second {
			told = time.Now()
			r.from.Tell(fmt.Sprintf("reading %s: %d lines, %d devices …", x.File, lines, len(known)))
		}
		l, err := source.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			r.Add(pos(n), "recording: %s", err)
			return nil
		}
		if !x.In(l.At) {
			continue
		}
		device, reading, ok := x.Whose(&l)
		if reading == "" && len(readings) == 1 {
			reading = readings[0]
		}
		if ok && !slices.Contains(readings, reading) {
			if len(other) < 5 {
				other[reading]++
			}
			ok = false
		}
		if !ok {
			x.Others++
			continue
		}
		if !known[device] {
			if len(known) >= maxRecorded {
				r.Add(pos(n), "recording: %s has more than %d devices", x.File, maxRecorded)
				return nil
			}
			known[device] = true
			x.Devices = append(x.Devices, device)
		}
		if _, object := (&recording.Change{}).Apply(l.Body); !object && !x.Raw[reading] && len(x.Data) == 0 {
			if inField {
				r.Add(pos(n), "recording: %s: the message of %s at %s is no JSON object, and the mark rides in a field; write "+
					"mark: {user_property: NAME} or {header: NAME} for the kind %q", x.File, device,
					l.At.UTC().Format(time.RFC3339Nano), kind.Name)
				return nil
			}
			x.Raw[reading] = true
		}
		if l.Topic != "" && x.Time == "" {
			q, any := x.QoS[reading]
			if !any {
				q = [2]byte{l.QoS, l.QoS}
			}
			x.QoS[reading] = [2]byte{min(q[0], l.QoS), max(q[1], l.QoS)}
		}
		x.Bytes += int64(len(l.Body))
		x.Largest = max(x.Largest, len(l.Body))
		if x.Lines++; x.First.IsZero() || l.At.Before(x.First) {
			x.First = l.At
		}
		if l.At.After(x.Last) {
			x.Last = l.At
		}
		if k := [2]string{device, reading}; !seen[k] && x.Time == "" {
			seen[k] = true
			short := recording.Line{At: l.At, Topic: l.Topic, Path: l.Path, QoS: l.QoS, Body: []byte("{}")}
			if b, err := short.Append(nil); err == nil {
				copyOf.Write(b)
			}
		}
		fmt.Fprint(sum, l.At.UnixNano(), l.Topic, l.Path)
		sum.Write(l.Body)
	}
	if x.Lines == 0 {
		why := "no line is of a device"
		for name := range other {
			why = fmt.Sprintf("the kind %q has no reading %q%s", kind.Name, name, formula.Hint(name, readings))
		}
		r.Add(pos(n), "recording: nothing of %s can be played: %s; say with topic: where topics name device and reading, "+
			"such as topic: harbour/+/${device}/${reading}", x.File, why)
		return nil
	}
	slices.Sort(x.Devices)
	if x.Time == "" {
		r.crowd.Files = append(r.crowd.Files, &crowd.File{Name: x.File, Data: copyOf.Bytes(), Copy: copyOf.Bytes(),
			SHA256: hex.EncodeToString(sum.Sum(nil))})
	} else {
		var rows bytes.Buffer
		fmt.Fprintf(&rows, "%s,%s", x.Time, x.Device)
		for _, d := range x.Devices {
			fmt.Fprintf(&rows, "\n%s,%q", x.First.UTC().Format(time.RFC3339Nano), d)
		}
		r.crowd.Files = append(r.crowd.Files, &crowd.File{Name: x.File, Data: rows.Bytes(), Copy: rows.Bytes(),
			SHA256: hex.EncodeToString(sum.Sum(nil))})
	}
	return x
}
