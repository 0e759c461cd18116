package chart_test

import (
	"bytes"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/chart"
)

func ramp() *chart.Chart {
	c := &chart.Chart{Title: "a ramp", Time: true, Series: []chart.Series{{Name: "buoy-1"}}}
	for i := range 101 {
		y := float64(i) / 10
		if i == 50 {
			y = math.NaN()
		}
		c.Series[0].X, c.Series[0].Y = append(c.Series[0].X, float64(i)*6), append(c.Series[0].Y, y)
	}
	return c
}

func TestText(t *testing.T) {
	text := ramp().Text(60, 8)
	lines := strings.Split(text, "\n")
	require.Len(t, lines, 1+8+2+1)
	assert.Equal(t, "a ramp", lines[0])
	assert.Regexp(t, `^10 ┤ +[⠀-⣿]+$`, lines[1])
	assert.Regexp(t, `^ 0 ┤[⠀-⣿]+$`, lines[8])
	assert.Regexp(t, `^   0s +5m +10m$`, lines[10])
	for _, l := range lines {
		assert.LessOrEqual(t, len([]rune(l)), 60)
	}
	c := &chart.Chart{Series: []chart.Series{{X: []float64{0}, Y: []float64{math.NaN()}}}}
	assert.Contains(t, c.Text(60, 8), "nothing to draw")
	c.Series = []chart.Series{{Name: "a", X: []float64{0, 1}, Y: []float64{0, 1}},
		{Name: "b", X: []float64{0, 1}, Y: []float64{1, 0}}}
	c.Names = []string{"free", "taken"}
	assert.Equal(t, 2, strings.Count(c.Text(60, 4), "taken ┤"), "one below the other")
}

func TestFiles(t *testing.T) {
	dir := t.TempDir()
	for ending, head := range map[string]string{".png": "\x89PNG", ".svg": "<?xml"} {
		path := filepath.Join(dir, "x"+ending)
		require.NoError(t, ramp().File(path))
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.True(t, bytes.HasPrefix(b, []byte(head)), ending)
	}
	assert.ErrorContains(t, ramp().File(filepath.Join(dir, "x.gif")), `a picture is a .png or an .svg, not ".gif"`)
	assert.ErrorContains(t, ramp().File(filepath.Join(dir, "no", "x.png")), "cannot be written")
}
