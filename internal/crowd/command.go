package crowd

import (
	"encoding/json"
	"maps"
	"strconv"
	"time"

	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
	"runcrowd/internal/strictjson"
)

// Command is something that the platform may ask of a device: how the device hears
// of it, what it does, and what it answers.
type Command struct {
	Name string
	Pos  Pos

	Topic *formula.Text // MQTT: a topic filter
	QoS   byte
	Path  *formula.Text // HTTP: asked at an interval
	Every time.Duration
	Rows  string // jq: the commands in what is answered there; empty: the answer is one

	Match     []Match       // what a message says that is this command
	Do        []Action      // in this order: all of them, or with an error none
	For       time.Duration // how long; 0: to the end of the round
	Answer    *Answer       // nil: none
	Request   *Request      // how the platform is asked to ask; nil: not known
	ReadReply *ReadReply    // where the platform tells what a device answered; nil: not known
}

// ReadReply says where the platform tells what devices answered.
type ReadReply struct {
	*Request
	Rows string // jq: the answers
}

// Match is a value that a command must carry.
type Match struct {
	Name  string
	Value signal.Value
}

// Answer is what a device says to a command.
type Answer struct {
	Topic       *formula.Text // nil: where the command wants it (MQTT 5, section 4.10)
	QoS         byte
	Path        *formula.Text // HTTP
	Method      string
	OKStatus    []int
	Headers     []Header
	Signed      []Header // those that are computed for each request, beside the link's
	Body        *formula.Text
	ContentType string
	After       [2]time.Duration // at the soonest and at the latest
	Wrong       float64          // the chance that WrongBody is said
	WrongBody   *formula.Text
	Never       float64 // the chance that nothing is
}

// AskEnv is what the texts of a command know beside the device's properties: the
// command as it came, whether it was obeyed, and why not.
func AskEnv(env formula.Env) formula.Env {
	full := maps.Clone(env)
	full["ask"], full["done"], full["why"] = map[string]any{}, true, ""
	return full
}

// Is tells whether a message is this command.
func (k *Command) Is(ask map[string]any) bool {
	for _, m := range k.Match {
		v, has := ask[m.Name]
		if !has || formula.String(v) != formula.String(m.Value.Any()) {
			return false
		}
	}
	return true
}

// ParseAsk reads a command as it came: a JSON object, or anything else as the text
// "body" of one.
func ParseAsk(body []byte) map[string]any {
	if v, err := strictjson.Decode(body); err == nil {
		if m, is := plainJSON(v).(map[string]any); is {
			return m
		}
	}
	return map[string]any{"body": string(body)}
}

// plainJSON makes the numbers of a JSON value such as formulas have.
func plainJSON(v any) any {
	switch x := v.(type) {
	case json.Number:
		if i, err := strconv.Atoi(x.String()); err == nil {
			return i
		}
		f, err := x.Float64()
		if err != nil {
			return x.String()
		}
		return f
	case map[string]any:
		for k := range x {
			x[k] = plainJSON(x[k])
		}
	case []any:
		for i := range x {
			x[i] = plainJSON(x[i])
		}
	}
	return v
}
