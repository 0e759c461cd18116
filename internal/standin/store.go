package standin

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"
)

// row is one stored message, as the read-back API tells it.
type row struct {
	ID         int               `json:"id"` // no two rows have one
	At         time.Time         `json:"stored_at"`
	Device     string            `json:"device"`
	Reading    string            `json:"reading"`
	Content    json.RawMessage   `json:"content"`
	Bytes      []byte            `json:"bytes,omitempty"` // in base64, of what is no JSON object
	Type       string            `json:"content_type,omitempty"`
	Properties map[string]string `json:"properties,omitempty"` // user properties, or headers that begin with X-
}

// store keeps messages by device, in the order in which they came.
type store struct {
	mu      sync.Mutex
	most    int
	rows    map[string][]row
	total   int
	dropped int
	last    time.Time
}

func newStore(most int) *store { return &store{most: most, rows: map[string][]row{}} }

// file splits a topic: its last two levels are the device and the reading.
func file(topic string) (device, reading string) {
	levels := strings.Split(strings.Trim(topic, "/"), "/")
	if len(levels) < 2 {
		return levels[0], ""
	}
	return levels[len(levels)-2], levels[len(levels)-1]
}

// keep stores a message: a JSON object as it is, a list of objects as a row each,
// and anything else as the bytes it is made of.
func (s *store) keep(topic string, payload []byte, kind string, props map[string]string) {
	device, reading := file(topic)
	base := row{Device: device, Reading: reading, Type: kind, Properties: props}
	var list []json.RawMessage
	trimmed := bytes.TrimSpace(payload)
	objects := strings.HasPrefix(kind, "application/json") || kind == ""
	switch {
	case !objects || len(trimmed) == 0 || !json.Valid(trimmed) || trimmed[0] != '{' && trimmed[0] != '[':
		base.Bytes, base.Content = payload, json.RawMessage("null")
		s.append(base)
		return
	case trimmed[0] == '[' && json.Unmarshal(trimmed, &list) == nil:
	default:
		list = []json.RawMessage{trimmed}
	}
	for _, v := range list {
		r := base
		r.Content = v
		s.append(r)
	}
}

func (s *store) append(r row) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.total >= s.most {
		s.dropped++
		return
	}
	// No two rows have one time: the order can be read from it.
	now := time.Now()
	if !now.After(s.last) {
		now = s.last.Add(time.Microsecond)
	}
	s.last, r.At = now, now
	s.total++
	r.ID = s.total
	s.rows[r.Device] = append(s.rows[r.Device], r)
}

// devices lists the names of all devices that sent anything.
func (s *store) devices() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := make([]string, 0, len(s.rows))
	for n := range s.rows {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// defaultPage and maxPage are how many rows a page has.
const (
	defaultPage = 100
	maxPage     = 10_000
)

// read serves GET /stored/{device}?from=…&to=…&limit=…&after=…&form=…: a page of rows, as JSON or, with
// form csv or lines, as rows alone. The header Link names the next page (RFC 8288), X-Total-Count says how many
// there are in all.
func (s *store) read(w http.ResponseWriter, r *http.Request) {
	s.page(w, r.PathValue("device"), r.URL.Query())
}

// search serves POST /stored/search, whose body is a JSON object: device, from, to, limit, after, form.
func (s *store) search(w http.ResponseWriter, r *http.Request) {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
	d.UseNumber()
	var body map[string]any
	if err := d.Decode(&body); err != nil {
		answer(w, http.StatusBadRequest, map[string]any{"error": "the body is no JSON object: " + err.Error()})
		return
	}
	q := url.Values{}
	for name, v := range body {
		if v != nil {
			q.Set(name, fmt.Sprint(v))
		}
	}
	device := q.Get("device")
	q.Del("device")
	s.page(w, device, q)
}

func (s *store) page(w http.ResponseWriter, device string, q url.Values) {
	from, err1 := timeParam(q, "from", time.Time{})
	to, err2 := timeParam(q, "to", time.Now().Add(time.Hour))
	limit, err3 := intParam(q, "limit", defaultPage, maxPage)
	after, err4 := intParam(q, "after", 0, 1<<40)
	for _, err := range []error{err1, err2, err3, err4} {
		if err != nil {
			answer(w, http.StatusBadRequest, map[string]any{"error": err.Error()})
			return
		}
	}
	s.mu.Lock()
	all := s.rows[device]
	page := make([]row, 0, min(limit, len(all)))
	i, total := 0, 0
	next := 0 // the first row behind the page
	for ; i < len(all); i++ {
		if all[i].At.Before(from) || all[i].At.After(to) {
			continue
		}
		total++
		switch {
		case i < after:
		case len(page) < limit:
			page = append(page, all[i])
		case next == 0:
			next = i
		}
	}
	s.mu.Unlock()
	body := map[string]any{"rows": page, "next": nil, "cursor": nil, "total": total}
	if next > 0 {
		q.Set("after", strconv.Itoa(next))
		address := "/stored/" + url.PathEscape(device) + "?" + q.Encode()
		body["next"], body["cursor"] = address, next
		w.Header().Set("Link", "<"+address+">; rel=\"next\"")
	}
	w.Header().Set("X-Total-Count", strconv.Itoa(total))
	switch form := q.Get("form"); form {
	case "", "json":
		answer(w, http.StatusOK, body)
	case "lines":
		w.Header().Set("Content-Type", "application/x-ndjson")
		e := json.NewEncoder(w)
		for _, x := range page {
			e.Encode(x)
		}
	case "csv":
		w.Header().Set("Content-Type", "text/csv")
		c := csv.NewWriter(w)
		c.Write([]string{"id", "stored_at", "device", "reading", "content"})
		for _, x := range page {
			c.Write([]string{strconv.Itoa(x.ID), x.At.Format(time.RFC3339Nano), x.Device, x.Reading, string(x.Content)})
		}
		c.Flush()
	default:
		answer(w, http.StatusBadRequest, map[string]any{"error": fmt.Sprintf("form is json, lines or csv, not %q", form)})
	}
}

func timeParam(q url.Values, name string, def time.Time) (time.Time, error) {
	v := q.Get(name)
	if v == "" {
		return def, nil
	}
	t, err := time.Parse(time.RFC3339Nano, v)
	if err != nil {
		return def, fmt.Errorf("%s must be a time as in RFC 3339, not %q", name, v)
	}
	return t, nil
}

func intParam(q url.Values, name string, def, most int) (int, error) {
	v := q.Get(name)
	if v == "" {
		return def, nil
	}
	n, err := strconv.Atoi(v)
	if err != nil || n < 0 || n > most {
		return def, fmt.Errorf("%s must be a whole number from 0 to %d, not %q", name, most, v)
	}
	return n, nil
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}
