package grid_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/grid"
)

func TestForms(t *testing.T) {
	g := grid.New("device", ">due", "")
	g.Row("buoy-1", 12, "ä, \"x\"")
	g.Row("b", 3)
	assert.Equal(t, "  device  due\n  buoy-1   12  ä, \"x\"\n  b         3\n", g.Plain("  "))
	g.Sum("all", 15)
	assert.Equal(t, "device  due\n---------------------\nbuoy-1   12  ä, \"x\"\nb         3\n---------------------\nall      15\n", g.Ruled(""))
	var b strings.Builder
	assert.NoError(t, g.CSV(&b))
	assert.Equal(t, "device,due,\nbuoy-1,12,\"ä, \"\"x\"\"\"\nb,3\n", b.String())
	g.Foot = nil
	assert.Equal(t, "| device | due |  |\n|---|---:|---|\n| buoy-1 | 12 | ä, 'x' |\n| b | 3 |  |\n",
		g.Markdown(func(s string) string { return strings.ReplaceAll(s, `"`, "'") }))
}
