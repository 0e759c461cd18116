package standin

import (
	"testing"

	"go.uber.org/goleak"
)

// No goroutine is left behind, nor the connection or timer that it would hold.
func TestMain(m *testing.M) {
	// It ends by itself, half a second after its connection.
	goleak.VerifyTestMain(m, goleak.IgnoreAnyFunction("net/http.(*conn).closeWriteAndWait"))
}
