package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"net/http"
	"net/url"
	"sort"
	"strings"
	"sync"
	"time"
)

// registry is whom the platform knows, where it wants to know its devices: each has
// a token that it was given when it was registered.
type registry struct {
	most int // devices registered in a second; 0: any number

	mu     sync.Mutex
	tokens map[string]string
	second int64
	made   int
}

func newRegistry(most int) *registry { return &registry{most: most, tokens: map[string]string{}} }

// admits tells whether a token is that of a device.
func (r *registry) admits(device, token string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	own, known := r.tokens[device]
	return known && subtle.ConstantTimeCompare([]byte(own), []byte(token)) == 1
}

// register serves POST /registry with {"name": DEVICE}.
func (r *registry) register(w http.ResponseWriter, q *http.Request) {
	var body struct{ Name string }
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, maxBody)).Decode(&body); err != nil || body.Name == "" ||
		strings.ContainsAny(body.Name, "/+#") {
		answer(w, http.StatusBadRequest, map[string]any{"error": "a name is wanted, without / + and #"})
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := time.Now().Unix(); now != r.second {
		r.second, r.made = now, 0
	}
	if r.most > 0 && r.made >= r.most {
		w.Header().Set("Retry-After", "1")
		answer(w, http.StatusTooManyRequests, map[string]any{"error": "too many devices in a second"})
		return
	}
	if _, known := r.tokens[body.Name]; known {
		answer(w, http.StatusConflict, map[string]any{"error": "this device is known already"})
		return
	}
	r.made++
	token := rand.Text()
	r.tokens[body.Name] = token
	answer(w, http.StatusCreated, map[string]any{"name": body.Name, "token": token})
}

// known serves GET /registry?after=…&limit=….
func (r *registry) known(w http.ResponseWriter, q *http.Request) {
	limit, err := intParam(q.URL.Query(), "limit", defaultPage, maxPage)
	if err != nil || limit == 0 {
		answer(w, http.StatusBadRequest, map[string]any{"error": "limit must be a whole number above zero"})
		return
	}
	after := q.URL.Query().Get("after")
	r.mu.Lock()
	names := make([]string, 0, len(r.tokens))
	for n := range r.tokens {
		if n > after {
			names = append(names, n)
		}
	}
	r.mu.Unlock()
	sort.Strings(names)
	body := map[string]any{"next": nil}
	if len(names) > limit {
		names = names[:limit]
		body["next"] = "/registry?after=" + url.QueryEscape(names[limit-1])
	}
	list := make([]map[string]string, len(names))
	for i, n := range names {
		list[i] = map[string]string{"name": n}
	}
	body["devices"] = list
	answer(w, http.StatusOK, body)
}

// remove serves DELETE /registry/DEVICE.
func (r *registry) remove(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	_, known := r.tokens[q.PathValue("device")]
	delete(r.tokens, q.PathValue("device"))
	r.mu.Unlock()
	if !known {
		answer(w, http.StatusNotFound, map[string]any{"error": "this device is not known"})
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
