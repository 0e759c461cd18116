package ask

import (
	"encoding/json"
	"strings"

	"runcrowd/internal/formula"
)

// doneMark stands in a body where the device says whether it obeyed.
const doneMark = "\x00done"

// denies tells whether an answer says that the command was not done: where the crowd
// file has ${done} in the answer's body, this one has false. An answer of another shape
// denies nothing.
func denies(body *formula.Text, told []byte) bool {
	if body == nil {
		return false
	}
	mark, _ := json.Marshal(doneMark)
	var b strings.Builder
	body.Walk(func(literal string, placeholder *formula.Formula) {
		switch {
		case placeholder == nil:
			b.WriteString(literal)
		case strings.Trim(strings.TrimPrefix(placeholder.Source(), "json"), "()") == "done":
			b.Write(mark)
		default:
			b.WriteString("null")
		}
	})
	var form, said any
	if json.Unmarshal([]byte(b.String()), &form) != nil || json.Unmarshal(told, &said) != nil {
		return false
	}
	return deniesAt(form, said)
}

func deniesAt(form, said any) bool {
	switch f := form.(type) {
	case string:
		return f == doneMark && said == false
	case map[string]any:
		members, _ := said.(map[string]any)
		for name, v := range f {
			if deniesAt(v, members[name]) {
				return true
			}
		}
	case []any:
		if list, ok := said.([]any); ok && len(list) == len(f) {
			for i := range f {
				if deniesAt(f[i], list[i]) {
					return true
				}
			}
		}
	}
	return false
}
