package count_test

import (
	"testing"

	"go.uber.org/goleak"
)

// No goroutine is left behind, nor the connection or timer that it would hold.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }
