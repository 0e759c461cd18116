package match

import (
	"encoding/json"
	"hash/fnv"
	"slices"
	"sort"
	"strconv"
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/decimal"
	"runcrowd/internal/fleet"
	"runcrowd/internal/strictjson"
)

// Index knows the messages of a run by what they carry: by the time in a field, and by a
// digest of their values. It is for kinds whose messages have no mark. It takes some 30
// bytes for each message. Its methods may be called from several goroutines.
type Index struct {
	fleet *fleet.Fleet
	Names [][]string // by stream: where the values stand that the digest is of, sorted
	times []string   // by stream: where the time stands that is the mark

	mu      sync.RWMutex
	streams []streamIndex
}

type streamIndex struct {
	stamps  []int64  // by sequence number less one, in Unix nanoseconds; 0: it carried none
	digests []uint64 // the same
	order   []uint32 // places in stamps, by time
}

func newIndex(f *fleet.Fleet) *Index {
	x := &Index{fleet: f, streams: make([]streamIndex, len(f.Streams)), Names: make([][]string, len(f.Streams)),
		times: make([]string, len(f.Streams))}
	ruled := map[string]bool{} // by some witness: what is found differs from what was sent
	for _, w := range f.Crowd.Witnesses {
		for _, r := range w.Fields {
			ruled[r.Field] = true
		}
	}
	for i, s := range f.Streams {
		mark := s.Device.Cast.Kind.Mark
		x.times[i] = mark.Name
		if path := s.Place(mark.Name); path != "" {
			x.times[i] = path
		}
		for k := range s.Reading.Fields {
			n := &s.Reading.Fields[k]
			if !ruled[n.Name] && n.Tolerance == 0 && !(mark.Place == crowd.MarkTime && mark.Name == n.Name) {
				if path := s.Place(n.Name); path != "" { // else it stands in a text with others
					x.Names[i] = append(x.Names[i], path)
				}
			}
		}
		slices.Sort(x.Names[i])
	}
	return x
}

// Tells tells whether the messages of a device are known by what they carry alone.
func (x *Index) Tells(d *fleet.Device) bool {
	return x != nil && d.Cast.Kind.Mark.Place >= crowd.MarkTime
}

// Add takes a message. Those of a stream come in their order.
func (x *Index) Add(stream int, seq uint64, carried []byte) {
	s := x.fleet.Streams[stream]
	if !x.Tells(s.Device) || seq == 0 || seq > MaxSeq {
		return
	}
	v, _ := strictjson.Decode(carried)
	values, _ := strictjson.Object(v)
	stamp := int64(0)
	if mark := s.Device.Cast.Kind.Mark; mark.Place == crowd.MarkTime {
		at, _ := strictjson.At(values, x.times[stream])
		if t, ok := TimeOf(at); ok {
			stamp = t.UnixNano()
		}
	}
	d := DigestOf(values, x.Names[stream])
	x.mu.Lock()
	defer x.mu.Unlock()
	st := &x.streams[stream]
	for uint64(len(st.stamps)) < seq {
		st.stamps, st.digests = append(st.stamps, 0), append(st.digests, 0)
	}
	st.stamps[seq-1], st.digests[seq-1] = stamp, d
	st.order = append(st.order, uint32(seq-1))
	for i := len(st.order) - 1; i > 0 && st.stamps[st.order[i-1]] > stamp; i-- {
		st.order[i-1], st.order[i] = st.order[i], st.order[i-1]
	}
}

// DigestOf is a digest of what stands in some places, that does not depend on how a store writes them:
// numbers have one notation, also in texts, and what is not there is null.
func DigestOf(values map[string]any, names []string) uint64 {
	h := fnv.New64a()
	for _, name := range names {
		v, _ := strictjson.At(values, name)
		h.Write([]byte(plainValue(v)))
		h.Write([]byte{0})
	}
	return max(1, h.Sum64())
}

func plainValue(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case bool:
		if x {
			return "1"
		}
		return "0"
	case json.Number:
		return plainNumber(x.String())
	case string:
		switch x {
		case "true":
			return "1"
		case "false":
			return "0"
		}
		return plainNumber(x)
	case map[string]any:
		s := "{"
		for _, k := range slices.Sorted(keysOf(x)) {
			s += k + ":" + plainValue(x[k]) + ","
		}
		return s
	case []any:
		s := "["
		for _, y := range x {
			s += plainValue(y) + ","
		}
		return s
	}
	return Text(v)
}

func keysOf(m map[string]any) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// floats is the number up to which 64-bit floating point numbers tell whole numbers apart.
var floats = decimal.Int(1 << 53)

func plainNumber(s string) string {
	n, ok := decimal.Parse(s)
	if !ok {
		return s
	}
	// Stores keep most numbers as 64-bit floating point numbers: they have one notation here.
	// Beyond 2^53 these would make one of several numbers.
	if n.Abs().Cmp(floats) < 0 {
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			n = decimal.Float(f)
		}
	}
	return n.String()
}

// Entry is a message of the run.
type Entry struct {
	Stream int
	Seq    uint64
	Digest uint64
}

// At lists the messages of streams that carried a time, as a platform keeps it that moves and
// cuts times.
func (x *Index) At(streams []*fleet.Stream, t time.Time, shift, cut time.Duration) (list []Entry) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	from, to := t.UnixNano(), t.UnixNano()
	if cut > 0 {
		from -= from % int64(cut)
		to = from + int64(cut) - 1
	}
	from, to = from-int64(shift), to-int64(shift)
	for _, s := range streams {
		st := &x.streams[s.Index]
		for i := sort.Search(len(st.order), func(i int) bool { return st.stamps[st.order[i]] >= from }); i < len(st.order) &&
			st.stamps[st.order[i]] <= to; i++ {
			k := st.order[i]
			list = append(list, Entry{s.Index, uint64(k) + 1, st.digests[k]})
		}
	}
	return list
}

// Stamp is the time by which a message is known: what the witness picked as its mark, or what
// stands where the first of some streams has it.
func (x *Index) Stamp(streams []*fleet.Stream, p *Part, values map[string]any, picked bool) any {
	v := p.Mark
	for i := 0; !picked && v == nil && i < len(streams); i++ {
		v, _ = strictjson.At(values, x.times[streams[i].Index])
	}
	return v
}

// Digest is that of a message; 0: it carried nothing that tells it.
func (x *Index) Digest(stream int, seq uint64) uint64 {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if list := x.streams[stream].digests; seq > 0 && seq <= uint64(len(list)) {
		return list[seq-1]
	}
	return 0
}

// Having are those of some streams all of whose fields a message has.
func (x *Index) Having(streams []*fleet.Stream, values map[string]any) []*fleet.Stream {
	return slices.DeleteFunc(slices.Clone(streams), func(s *fleet.Stream) bool {
		return slices.ContainsFunc(x.Names[s.Index], func(name string) bool {
			_, has := strictjson.At(values, name)
			return !has
		})
	})
}

// Upto is the last message of a stream that there is.
func (x *Index) Upto(stream int) uint64 {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return uint64(len(x.streams[stream].digests))
}

// Valued lists the messages of a stream with a digest.
func (x *Index) Valued(stream int, digest uint64) (list []Entry) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for i, d := range x.streams[stream].digests {
		if d == digest {
			list = append(list, Entry{stream, uint64(i) + 1, d})
		}
	}
	return list
}

// Occasion is what rows have in common that no mark tells apart.
type Occasion struct {
	Device int
	Stamp  int64
	Digest uint64
}

// StreamsOf are those of a device that a row may be of, by the reading that it names.
func StreamsOf(d *fleet.Device, reading string) []*fleet.Stream {
	for _, s := range d.Streams {
		if s.Reading.Name == reading {
			return []*fleet.Stream{s}
		}
	}
	return d.Streams
}

// Alike are those of the messages that a row may be that have its values; the only one in any case.
func Alike(list []Entry, digests func(stream int) uint64) []Entry {
	if len(list) == 1 {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(e Entry) bool { return e.Digest != digests(e.Stream) })
}
