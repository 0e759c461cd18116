package formula

import (
	"errors"
	"fmt"
	"math"
	"math/bits"
	"reflect"
	"strings"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"
)

// The library lets whole numbers wrap round and divides by zero without a word. The
// operators that could are replaced by functions of these names, which no formula can
// write.
const (
	quotient     = "checked /"
	checkedWhole = "whole "
	checkedAny   = "checked "
)

var strict = map[string]func(a, b any) (any, error){
	"+": func(a, b any) (any, error) {
		if x, y, whole := wholes(a, b); whole {
			if sum := x + y; (sum > x) == (y > 0) {
				return sum, nil
			}
			return nil, errRange
		}
		return mixed(runtime.Add, a, b)
	},
	"-": func(a, b any) (any, error) {
		if x, y, whole := wholes(a, b); whole {
			if diff := x - y; (diff < x) == (y > 0) {
				return diff, nil
			}
			return nil, errRange
		}
		return mixed(runtime.Subtract, a, b)
	},
	"*": func(a, b any) (any, error) {
		if x, y, whole := wholes(a, b); whole {
			high, low := bits.Mul64(uint64(max(x, -x)), uint64(max(y, -y)))
			if negative := (x < 0) != (y < 0); high != 0 || low > 1<<63 || low == 1<<63 && !negative {
				return nil, errRange
			}
			return x * y, nil
		}
		return mixed(runtime.Multiply, a, b)
	},
}

var errRange = errors.New("the result is outside the whole numbers of 64 bits")

func wholes(a, b any) (x, y int, is bool) {
	x, is = a.(int)
	y, both := b.(int)
	return x, y, is && both
}

// mixed does what the library does, whose panics tell of types that do not fit.
func mixed(f func(a, b any) any, a, b any) (v any, err error) {
	defer func() {
		if recover() != nil {
			err = fmt.Errorf("%s and %s do not go together", typeName(a), typeName(b))
		}
	}()
	return f(a, b), nil
}

func divide(a, b any) (any, error) {
	x, ok := float(a)
	y, ok2 := float(b)
	switch {
	case !ok || !ok2:
		return nil, fmt.Errorf("/ wants two numbers, not %s and %s", typeName(a), typeName(b))
	case y == 0:
		return nil, errors.New("division by zero")
	}
	if q := x / y; !math.IsInf(q, 0) {
		return q, nil
	}
	return nil, errors.New("the quotient is too large for a number")
}

// arithmetic puts the checked functions in place of operators, but for those of which
// it is plain that nothing can go wrong: with decimals, or divided by a fixed number.
type arithmetic struct{}

func (arithmetic) Visit(node *ast.Node) {
	b, is := (*node).(*ast.BinaryNode)
	if !is {
		return
	}
	name := checkedAny + b.Operator
	switch b.Operator {
	case "+", "-", "*":
		if !perhapsWhole(b.Left) || !perhapsWhole(b.Right) {
			return
		}
		if kindOf(b.Left) == reflect.Int && kindOf(b.Right) == reflect.Int {
			name = checkedWhole + b.Operator
		}
	case "/":
		if fixedDivisor(b.Right) {
			return
		}
	default:
		return
	}
	call := &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: []ast.Node{b.Left, b.Right}}
	ast.Patch(node, call)
	switch { // what encloses it is looked at next, and goes by the type
	case name == quotient:
		call.SetType(reflect.TypeFor[float64]())
	case strings.HasPrefix(name, checkedWhole):
		call.SetType(reflect.TypeFor[int]())
	}
}

func kindOf(n ast.Node) reflect.Kind {
	if t := n.Type(); t != nil {
		return t.Kind()
	}
	return reflect.Invalid
}

// perhapsWhole tells whether a value is a whole number, or only known when it is there.
func perhapsWhole(n ast.Node) bool {
	k := kindOf(n)
	return k == reflect.Int || k == reflect.Invalid || k == reflect.Interface
}

func fixedDivisor(n ast.Node) bool {
	switch x := n.(type) {
	case *ast.IntegerNode:
		return x.Value != 0
	case *ast.FloatNode:
		return math.Abs(x.Value) >= 1e-9
	}
	return false
}
