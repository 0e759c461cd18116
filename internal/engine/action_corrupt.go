package engine

import (
	"bytes"
	"fmt"

	"runcrowd/internal/crowd"
)

// corruptAction makes bodies what they should not be, or sends them where they should not go.
var corruptAction = handling{
	prepare: func(l *loop, x *action, w work) (err error) {
		if x.Corrupt != crowd.CorruptTopic {
			return nil
		}
		x.topic, err = x.Value.Expand(&l.machine, w.env)
		switch {
		case err != nil:
		case w.device.Cast.Link.Protocol == crowd.MQTT:
			err = crowd.CheckTopic(x.topic)
		default:
			err = crowd.CheckPath(x.topic)
		}
		if err != nil {
			return fmt.Errorf("corrupt: topic: %w", err)
		}
		return nil
	},
	do: func(_ *loop, _ *act, x *action, _ moment) string {
		if x.topic != "" {
			return "to " + x.topic
		}
		return x.Corrupt.String()
	},
	next: func(o *orders, x *action) bool { o.corrupt = x; return true },
}

// largeBody is how much is added to a body that is too large, in bytes.
const largeBody = 1 << 20

// apply corrupts a body, or where it goes. The mark stays readable where it is a text of the
// body: what the platform keeps of it all the same is found.
func (x *action) apply(body []byte, target string) ([]byte, string) {
	switch x.Corrupt {
	case crowd.CorruptCut:
		return body[:len(body)-max(1, len(body)/3)], target
	case crowd.CorruptLarge:
		return append(body, bytes.Repeat([]byte{' '}, largeBody)...), target
	case crowd.CorruptForm:
		return append(append([]byte("<"), body...), '>'), target
	case crowd.CorruptEmpty:
		return body[:0], target
	case crowd.CorruptTopic:
		return body, x.topic
	}
	return body, target
}
