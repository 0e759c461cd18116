package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Rule is by what the stand-in says something by itself: once when a value passes a limit,
// and again when it has been back behind the release.
type Rule struct {
	Name    string
	Field   string
	Below   bool    // it is about values below the limit; else about those above
	Limit   float64 // a value equal to it does not pass it
	Release float64 // the same, on the way back
	Latched bool    // it is never released
}

var ruleText = regexp.MustCompile(
	`^([\w.-]+):\s*([\w.]+)\s*([<>])\s*(-?[\d.]+)\s*(?:(until)\s*([<>])\s*(-?[\d.]+)|(latched))?$`)

// ParseRule reads "NAME: FIELD < LIMIT", with or without "until > RELEASE", or "latched".
func ParseRule(s string) (Rule, error) {
	m := ruleText.FindStringSubmatch(strings.TrimSpace(s))
	wrong := fmt.Errorf(`%q is not a rule; write one such as "low-battery: battery_v < 11 until > 11.5"`, s)
	if m == nil {
		return Rule{}, wrong
	}
	r := Rule{Name: m[1], Field: m[2], Below: m[3] == "<", Latched: m[8] != ""}
	var err error
	if r.Limit, err = strconv.ParseFloat(m[4], 64); err != nil {
		return r, wrong
	}
	r.Release = r.Limit
	if m[5] != "" {
		if r.Release, err = strconv.ParseFloat(m[7], 64); err != nil || (m[6] == ">") != r.Below {
			return r, wrong
		}
		if r.Below && r.Release < r.Limit || !r.Below && r.Release > r.Limit {
			return r, fmt.Errorf("%q: the release lies beyond the limit", s)
		}
	}
	return r, nil
}

// passes tells whether a value is beyond the limit, and whether it is back.
func (r *Rule) passes(v float64) (beyond, back bool) {
	if r.Below {
		return v < r.Limit, v > r.Release || r.Release == r.Limit && v >= r.Limit
	}
	return v > r.Limit, v < r.Release || r.Release == r.Limit && v <= r.Limit
}

// Alert is what the stand-in says by itself: it publishes it at TOPIC/DEVICE, and posts it
// to the hook.
type Alert struct {
	Rule   string    `json:"rule"`
	Device string    `json:"device"`
	Value  float64   `json:"value"`
	At     time.Time `json:"at"`
	ID     int       `json:"id"`
}

// AlertHit is an alert that a flaw fell on.
type AlertHit struct {
	Flaw string
	Alert
}

// watch holds what was said, and of whom.
type watch struct {
	mu      sync.Mutex
	beyond  map[string]bool // by rule and device
	devices []string        // that were seen
	n       int             // alerts that were due
	hits    []AlertHit
	list    []Alert
	posts   chan Alert
}

// watch looks at a message that was taken, and says what its values call for.
func (s *StandIn) watch(topic string, payload []byte) {
	if len(s.cfg.Rules) == 0 {
		return
	}
	device, _ := file(topic)
	var body map[string]any
	if json.Unmarshal(payload, &body) != nil {
		return
	}
	w := &s.watched
	w.mu.Lock()
	defer w.mu.Unlock()
	if !slices.Contains(w.devices, device) {
		w.devices = append(w.devices, device)
		slices.Sort(w.devices)
	}
	for i := range s.cfg.Rules {
		r := &s.cfg.Rules[i]
		v, is := body[r.Field].(float64)
		if !is {
			continue
		}
		key := r.Name + "\x00" + device
		beyond, back := r.passes(v)
		said := w.beyond[key]
		switch {
		case beyond && !said:
			w.beyond[key] = true
		case back && said && !r.Latched:
			delete(w.beyond, key)
		}
		if beyond && (!said || s.chance.has("alert-flood")) {
			s.say(Alert{Rule: r.Name, Device: device, Value: v}, said)
		}
	}
}

// say says something, rightly or as a flaw wants it. The caller holds watched.mu.
func (s *StandIn) say(n Alert, again bool) {
	w := &s.watched
	if again { // only the flaw alert-flood does
		w.hits = append(w.hits, AlertHit{"alert-flood", n})
		s.tell(n)
		return
	}
	w.n++
	for _, f := range s.cfg.Flaws {
		if _, of := alertFlaws[f.Name]; !of || f.Name == "alert-flood" || !f.falls(w.n) {
			continue
		}
		w.hits = append(w.hits, AlertHit{f.Name, n})
		switch f.Name {
		case "alert-none":
		case "alert-twice":
			s.tell(n)
			s.tell(n)
		case "alert-late":
			s.later(f.Delay, func() {
				w.mu.Lock()
				defer w.mu.Unlock()
				s.tell(n)
			})
		case "alert-wrong-device":
			for _, d := range w.devices {
				if d != n.Device {
					n.Device = d
					break
				}
			}
			s.tell(n)
		}
		return
	}
	s.tell(n)
}

// falls tells whether a flaw falls on the n-th alert.
func (f *Flaw) falls(n int) bool {
	if f.Count > 0 {
		return n <= f.Count
	}
	return int(float64(n)*f.Share+1e-9) > int(float64(n-1)*f.Share+1e-9)
}

// tell lets an alert out. The caller holds watched.mu.
func (s *StandIn) tell(n Alert) {
	w := &s.watched
	n.At, n.ID = time.Now().UTC(), len(w.list)+1
	w.list = append(w.list, n)
	body, _ := json.Marshal(n)
	go s.announce(s.cfg.AlertTopic+"/"+n.Device, body)
	if w.posts != nil {
		select {
		case w.posts <- n:
		default: // the queue is bounded, and the one who is called is too slow
		}
	}
}

// post calls the hook until the stand-in closes, and again where it is refused.
func (s *StandIn) post() {
	way := &http.Transport{}
	if s.cfg.Network != nil {
		way.DialContext = s.cfg.Network.Dial
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: way}
	defer client.CloseIdleConnections()
	for {
		var n Alert
		select {
		case <-s.quit:
			return
		case n = <-s.watched.posts:
		}
		body, _ := json.Marshal(n)
		for try := 0; try < hookTries; try++ {
			if s.call(client, body) {
				break
			}
			select {
			case <-s.quit:
				return
			case <-time.After(200 * time.Millisecond << try):
			}
		}
	}
}

// hookTries is how often the stand-in calls a hook that refuses.
const hookTries = 5

func (s *StandIn) call(client *http.Client, body []byte) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.cfg.Hook, bytes.NewReader(body))
	if err != nil {
		return true // it will never do
	}
	req.Header.Set("Content-Type", "application/json")
	if s.cfg.HookSecret != "" {
		sum := hmac.New(sha256.New, []byte(s.cfg.HookSecret))
		sum.Write(body)
		req.Header.Set("X-Signature", hex.EncodeToString(sum.Sum(nil)))
	}
	resp, err := client.Do(req)
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode < 300
}

// AlertHits are the alerts that flaws fell on so far.
func (s *StandIn) AlertHits() []AlertHit {
	s.watched.mu.Lock()
	defer s.watched.mu.Unlock()
	return slices.Clone(s.watched.hits)
}

// alerts serves GET /alerts?after=ID: what was said.
func (s *StandIn) alerts(w http.ResponseWriter, r *http.Request) {
	after, err := intParam(r.URL.Query(), "after", 0, 1<<40)
	if err != nil {
		answer(w, http.StatusBadRequest, map[string]any{"error": err.Error()})
		return
	}
	s.watched.mu.Lock()
	list := append([]Alert{}, s.watched.list[min(after, len(s.watched.list)):]...)
	s.watched.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"alerts": list})
}

// AlertsDue is how many alerts the rules called for so far.
func (s *StandIn) AlertsDue() int {
	s.watched.mu.Lock()
	defer s.watched.mu.Unlock()
	return s.watched.n
}

// String is the rule as ParseRule reads it.
func (r Rule) String() string {
	sign, back := ">", "<"
	if r.Below {
		sign, back = back, sign
	}
	s := fmt.Sprintf("%s: %s %s %v", r.Name, r.Field, sign, r.Limit)
	switch {
	case r.Latched:
		s += " latched"
	case r.Release != r.Limit:
		s += fmt.Sprintf(" until %s %v", back, r.Release)
	}
	return s
}

// OfAlerts tells whether the flaw falls on what the stand-in says by itself.
func (f Flaw) OfAlerts() bool {
	_, is := alertFlaws[f.Name]
	return is
}
