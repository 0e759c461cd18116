package engine

import (
	"bytes"
	"sync"
)

// mostRecent is how many messages of a stream are kept for whoever looks.
const mostRecent = 64

// Recent are the last messages of a stream.
type Recent struct {
	mu   sync.Mutex
	list [][]byte
}

// add keeps a message; nobody looks at a nil one.
func (r *Recent) add(carried []byte) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.list) == mostRecent {
		oldest := r.list[0]
		copy(r.list, r.list[1:])
		r.list[mostRecent-1] = append(oldest[:0], carried...)
		return
	}
	r.list = append(r.list, bytes.Clone(carried))
}

// Messages are what the last messages carried, the newest last.
func (r *Recent) Messages() (list [][]byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.list {
		list = append(list, bytes.Clone(c))
	}
	return list
}

// Watch keeps the last messages of some streams from now on, in place of those before.
func (e *Engine) Watch(streams []int) map[int]*Recent {
	m := make(map[int]*Recent, len(streams))
	for _, s := range streams {
		m[s] = &Recent{}
	}
	e.watched.Store(&m)
	return m
}
