// Package jq runs jq expressions over what platforms answer. Numbers keep their
// digits where the value was decoded with json.Number.
//
// What an expression may take is bounded, whatever it says and whatever a platform puts
// into it: MaxTime, MaxMemory, MaxValues. Only expressions that can go on without end are
// watched; the usual ones cost nothing more.
package jq

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"runtime/metrics"
	"strings"
	"time"

	"github.com/itchyny/gojq"
)

// Bounds of one evaluation.
const (
	MaxTime   = 2 * time.Second
	MaxMemory = 128 << 20 // about how many bytes it may take
	MaxValues = 1_000_000 // results
)

// Query is a compiled expression; it may be used by several goroutines.
type Query struct {
	source  string
	code    *gojq.Code
	watched bool // it can go on without end
}

// String is the expression as it was written.
func (q *Query) String() string { return q.source }

// mostExpression is how long an expression may be, in bytes: what reads it goes down for each
// bracket.
const mostExpression = 10_000

// Parse compiles an expression. Variables are names such as $topic, whose values each
// evaluation is given.
func Parse(source string, variables ...string) (*Query, error) {
	if len(source) > mostExpression {
		return nil, fmt.Errorf("a jq expression has at most %d characters", mostExpression)
	}
	q, err := gojq.Parse(source)
	var code *gojq.Code
	p := &Query{source: source}
	if err == nil {
		err = p.bound(reflect.ValueOf(q))
	}
	if err == nil {
		code, err = gojq.Compile(q, gojq.WithFunction(product, 2, 2, multiply), gojq.WithVariables(variables))
	}
	if err != nil {
		return nil, fmt.Errorf("%q is not a jq expression: %s", source, strings.TrimPrefix(err.Error(), "gojq: "))
	}
	p.code = code
	return p, nil
}

// product is the function that stands for the operator *.
const product = "_product"

// endless are the functions by which an expression can go on without end, or that make
// much of little.
var endless = map[string]bool{"range": true, "repeat": true, "recurse": true, "while": true, "until": true,
	"limit": true, "combinations": true,
	"getpath": true, "paths": true, "walk": true, "splits": true, "implode": true, "gsub": true, "sub": true,
	"skip": true, "nth": true}

// bound looks through a parsed expression: it refuses what cannot be bounded, and finds
// out whether it has to be watched.
func (p *Query) bound(v reflect.Value) error {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		switch x := v.Interface().(type) {
		case *gojq.Query:
			p.watched = p.watched || len(x.FuncDefs) > 0
			switch x.Op {
			case gojq.OpMul: // a text times a number from a platform could be of any length
				x.Term = &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: product, Args: []*gojq.Query{x.Left, x.Right}}}
				x.Left, x.Right, x.Op = nil, nil, 0
			case gojq.OpAssign, gojq.OpModify, gojq.OpUpdateAdd, gojq.OpUpdateSub, gojq.OpUpdateMul, gojq.OpUpdateDiv, gojq.OpUpdateMod, gojq.OpUpdateAlt:
				return errors.New("it assigns; to pick, make a new object: {a: .x}, or . + {a: .x}")
			}
		case *gojq.Reduce, *gojq.Foreach:
			p.watched = true
		case *gojq.Func:
			if x.Name == "setpath" {
				return errors.New("setpath assigns; to pick, make a new object: {a: .x}, or . + {a: .x}")
			}
			p.watched = p.watched || endless[x.Name]
		}
		return p.bound(v.Elem())
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Field(i); f.CanInterface() {
				if err := p.bound(f); err != nil {
					return err
				}
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			if err := p.bound(v.Index(i)); err != nil {
				return err
			}
		}
	}
	return nil
}

// times multiplies what is no text.
var times = func() *gojq.Code {
	q, err := gojq.Parse(".[0] * .[1]")
	if err != nil {
		panic(err)
	}
	code, err := gojq.Compile(q)
	if err != nil {
		panic(err)
	}
	return code
}()

func multiply(_ any, args []any) any {
	for _, a := range args {
		if _, is := a.(string); is {
			return errors.New("a text cannot be multiplied")
		}
	}
	v, _ := times.Run(args).Next()
	return v
}

// run hands the results to see, until that says no.
func (q *Query) run(v any, see func(any) bool, variables ...any) error {
	if !q.watched {
		return q.each(q.code.Run(v, variables...), see)
	}
	ctx, cancel := context.WithTimeout(context.Background(), MaxTime)
	defer cancel()
	over := make(chan bool, 1)
	go func() {
		over <- watch(ctx, cancel)
	}()
	err := q.each(q.code.RunWithContext(ctx, v, variables...), see)
	took := errors.Is(ctx.Err(), context.DeadlineExceeded)
	cancel()
	switch {
	case <-over:
		return fmt.Errorf("%s takes more than %d MiB of memory", q.source, MaxMemory>>20)
	case took:
		return fmt.Errorf("%s takes longer than %s", q.source, MaxTime)
	}
	return err
}

// watch cancels when the process takes too much more memory; it tells whether it did.
func watch(ctx context.Context, cancel func()) bool {
	heap := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(heap)
	most := heap[0].Value.Uint64() + MaxMemory
	t := time.NewTicker(2 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return false
		case <-t.C:
			if metrics.Read(heap); heap[0].Value.Uint64() > most {
				cancel()
				return true
			}
		}
	}
}

func (q *Query) each(it gojq.Iter, see func(any) bool) error {
	for {
		x, more := it.Next()
		if !more {
			return nil
		}
		if err, failed := x.(error); failed {
			return fmt.Errorf("%s: %w", q.source, err)
		}
		if !see(x) {
			return nil
		}
	}
}

// All gives every result of the expression. The values are those of the variables that it was
// compiled with.
func (q *Query) All(v any, values ...any) (list []any, err error) {
	err = q.run(v, func(x any) bool {
		list = append(list, x)
		return len(list) <= MaxValues
	}, values...)
	if err == nil && len(list) > MaxValues {
		err = fmt.Errorf("%s gives more than %d values", q.source, MaxValues)
	}
	if err != nil {
		return nil, err
	}
	return list, nil
}

// One gives the first result; nil where there is none or it is null. The values are those
// of the variables that it was compiled with.
func (q *Query) One(v any, values ...any) (first any, err error) {
	err = q.run(v, func(x any) bool { first = x; return false }, values...)
	if err != nil {
		return nil, err
	}
	return first, nil
}
