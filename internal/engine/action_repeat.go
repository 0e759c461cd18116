package engine

import (
	"fmt"
)

// repeatAction has messages go out more than once.
var repeatAction = handling{
	do:   func(_ *loop, _ *act, x *action, _ moment) string { return moreTimes(x.Times) },
	next: func(o *orders, x *action) bool { o.repeat = max(o.repeat, x.Times); return true },
}

func moreTimes(n int) string {
	if n == 1 {
		return "once more"
	}
	return fmt.Sprintf("%d times more", n)
}
