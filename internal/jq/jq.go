// Package jq runs jq expressions over what platforms answer. Numbers keep their
// digits where the value was decoded with json.Number.
package jq

import (
	"fmt"
	"strings"

	"github.com/itchyny/gojq"
)

// Query is a compiled expression; it may be used by several goroutines.
type Query struct {
	source string
	code   *gojq.Code
}

// Parse compiles an expression.
func Parse(source string) (*Query, error) {
	q, err := gojq.Parse(source)
	var code *gojq.Code
	if err == nil {
		code, err = gojq.Compile(q)
	}
	if err != nil {
		return nil, fmt.Errorf("%q is not a jq expression: %s", source, strings.TrimPrefix(err.Error(), "gojq: "))
	}
	return &Query{source, code}, nil
}

// maxValues bounds what one value may unfold to.
const maxValues = 1_000_000

// All gives every result of the expression.
func (q *Query) All(v any) ([]any, error) {
	var list []any
	for it := q.code.Run(v); ; {
		x, more := it.Next()
		if !more {
			return list, nil
		}
		if err, failed := x.(error); failed {
			return nil, fmt.Errorf("%s: %w", q.source, err)
		}
		if list = append(list, x); len(list) > maxValues {
			return nil, fmt.Errorf("%s gives more than %d values", q.source, maxValues)
		}
	}
}

// One gives the first result; nil where there is none or it is null.
func (q *Query) One(v any) (any, error) {
	x, more := q.code.Run(v).Next()
	if !more {
		return nil, nil
	}
	if err, failed := x.(error); failed {
		return nil, fmt.Errorf("%s: %w", q.source, err)
	}
	return x, nil
}
