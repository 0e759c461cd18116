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

// A table that is too wide loses the columns that can be spared, as many as needed; then it stands
// on its side. What it was stays.
func TestTablesFit(t *testing.T) {
	g := grid.New("device", ">due", "when", "why")
	g.Row("buoy-1", 12, "08:00", "lost")
	g.Row("buoy-2", 3, "", "")
	g.Sum("all", 15)
	whole := g.Plain("")
	for width, c := range map[int]struct {
		head string
		left []string
	}{
		0: {"device  due  when   why\n", nil}, 24: {"device  due  when   why\n", nil}, 23: {"device  due  why\n", []string{"when"}},
		17: {"device  due  why\n", []string{"when"}}, 12: {"device  why\n", []string{"when", "due"}},
		11: {"buoy-1\n  due   12\n  when  08:00\n  why   lost\n\nbuoy-2\n  due   3\n\nall\n  due   15\n", nil},
	} {
		text, left := g.Fit("", false, width, "when", "due", "none")
		assert.True(t, strings.HasPrefix(text, c.head), "%d:\n%s", width, text)
		assert.Equal(t, c.left, left, width)
		assert.Equal(t, whole, g.Plain(""))
	}
}
