package verdict

import "sort"

// order counts the messages that were found behind a later one of their stream.
func (j *judge) order() {
	type key struct{ witness, stream int }
	top := map[key]uint64{}
	behind := map[ref]bool{}
	list := make([]int, 0, len(j.Sightings))
	for i := range j.Sightings {
		list = append(list, i)
	}
	// By the platform's clock where it tells; a query's answers have no other order.
	sort.SliceStable(list, func(a, b int) bool {
		return when(&j.Sightings[list[a]]).Before(when(&j.Sightings[list[b]]))
	})
	for _, i := range list {
		x := &j.Sightings[i]
		stream, known := j.streams[[2]string{x.Mark.Device, x.Mark.Reading}]
		if !known || x.Mark.Run != j.Run || x.Witness < 0 || x.Witness >= len(j.Witnesses) || x.Redelivered {
			continue
		}
		if !timed(x) {
			continue
		}
		k := key{x.Witness, stream}
		r := ref{stream, x.Mark.Seq}
		if x.Mark.Seq < top[k] {
			if again := j.resentOrRepeated(r); !again {
				behind[r] = true
			}
		}
		top[k] = max(top[k], x.Mark.Seq)
	}
	j.res.OutOfOrder = len(behind)
}

// resentOrRepeated: a copy that comes again is behind by nature.
func (j *judge) resentOrRepeated(r ref) bool {
	if r.seq >= 1 && r.seq <= uint64(len(j.Messages[r.stream])) && j.Messages[r.stream][r.seq-1].Attempts > 1 {
		return true
	}
	per := map[int]int{}
	for _, i := range j.seen[r] {
		per[j.Sightings[i].Witness]++
		if per[j.Sightings[i].Witness] > 1 {
			return true
		}
	}
	return false
}
