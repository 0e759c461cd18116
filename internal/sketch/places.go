package sketch

import (
	"fmt"
	"math"
	"strings"

	"runcrowd/internal/quantity"
)

// longitude is what the other part of a position is called.
var longitude = map[string][]string{"lat": {"lon", "lng", "long"}, "latitude": {"longitude"}}

// partner is the path of the longitude that goes with a latitude, or the other way; empty: there is
// none.
func (f *fitter) partner(path string) (lat, lon string) {
	parent, name := path[:len(path)-len(last(path))], last(path)
	for short, others := range longitude {
		for _, other := range others {
			lower := strings.ToLower(name)
			for _, pair := range [][2]string{{short, other}, {other, short}} {
				stem, is := strings.CutSuffix(lower, pair[0])
				if !is || stem != "" && !strings.HasSuffix(stem, "_") {
					continue
				}
				for candidate := range f.values {
					if strings.HasPrefix(candidate, parent) && strings.ToLower(candidate[len(parent):]) == stem+pair[1] {
						if pair[0] == short {
							return path, candidate
						}
						return candidate, path
					}
				}
			}
		}
	}
	return "", ""
}

// place is the placeholder of a part of a position; false: it is none.
func (f *fitter) place(path string) (string, bool) {
	if of, is := f.parts[path]; is {
		return of, true
	}
	latPath, lonPath := f.partner(path)
	if latPath == "" || len(f.values[latPath]) != len(f.values[lonPath]) {
		return "", false
	}
	track := map[int][]quantity.Position{}
	at := map[int][]float64{}
	lon := f.values[lonPath]
	for i, o := range f.values[latPath] {
		x, is := float(o.v)
		y, also := float(lon[i].v)
		if !is || !also || math.Abs(x) > 90 || math.Abs(y) > 180 || lon[i].device != o.device {
			return "", false
		}
		track[o.device] = append(track[o.device], quantity.Position{Lat: x, Lon: y})
		at[o.device] = append(at[o.device], o.at)
	}
	if differ(f.values[latPath]) == 1 && differ(lon) == 1 {
		return "", false
	}
	name := f.placed(track, at)
	if f.parts == nil {
		f.parts = map[string]string{}
	}
	_, _, digits, _ := extent(f.values[latPath])
	for p, part := range map[string]string{latPath: ".lat", lonPath: ".lon"} {
		of := name + part
		if digits < 6 {
			of = fmt.Sprintf("round(%s, %d)", of, digits)
		}
		f.parts[p] = "${" + of + "}"
	}
	return f.parts[path], true
}

// placed adds the property or the field of positions, and gives its name.
func (f *fitter) placed(track map[int][]quantity.Position, at map[int][]float64) string {
	centers := map[int]quantity.Position{}
	low, high := quantity.Position{Lat: 91, Lon: 181}, quantity.Position{Lat: -91, Lon: -181}
	radius, crossings, lasts, n, longest := 0.0, 0, 0.0, 0, -1
	for d := range f.devices {
		list := track[d]
		if len(list) == 0 {
			continue
		}
		var c quantity.Position
		for _, p := range list {
			c.Lat, c.Lon = c.Lat+p.Lat/float64(len(list)), c.Lon+p.Lon/float64(len(list))
		}
		centers[d] = c
		low = quantity.Position{Lat: min(low.Lat, c.Lat), Lon: min(low.Lon, c.Lon)}
		high = quantity.Position{Lat: max(high.Lat, c.Lat), Lon: max(high.Lon, c.Lon)}
		for i, p := range list {
			radius = max(radius, c.Distance(p))
			if i > 0 && (p.Lat > c.Lat) != (list[i-1].Lat > c.Lat) {
				crossings++
			}
		}
		lasts += at[d][len(list)-1] - at[d][0]
		if n += len(list); longest < 0 || len(list) > len(track[longest]) {
			longest = d
		}
	}
	of := fmt.Sprintf("   # %s of %s", plural(n, "position"), plural(len(centers), "device"))
	around := fmt.Sprintf("%.6f,%.6f", low.Lat, low.Lon)
	if len(centers) > 1 && low.Distance(high) > 1 {
		around = f.addProperty("mooring", fmt.Sprintf("{position: \"within %.6f,%.6f and %.6f,%.6f\"}", low.Lat, low.Lon,
			high.Lat+1e-6, high.Lon+1e-6))
		if radius < 1 {
			return around
		}
	} else {
		around = `"` + around + `"`
	}
	name := f.name("position")
	list := track[longest]
	length := 0.0
	for i := 1; i < len(list); i++ {
		length += list[i-1].Distance(list[i])
	}
	if took := at[longest][len(list)-1] - at[longest][0]; len(list) >= leastFitted && took > 0 &&
		list[0].Distance(list[len(list)-1]) > 0.5*length && length > 10 {
		var points []string
		for i := range 9 {
			p := list[i*(len(list)-1)/8]
			if s := fmt.Sprintf("%q", fmt.Sprintf("%.6f,%.6f", p.Lat, p.Lon)); len(points) == 0 || points[len(points)-1] != s {
				points = append(points, s)
			}
		}
		f.fields = append(f.fields, fmt.Sprintf("%s: {signal: route, points: [%s], speed: %sm/s}%s; the way of %s", name, strings.Join(points, ", "),
			figures(length/took, 3), of, f.devices[longest]))
		return name
	}
	period := 600.0
	if crossings > 1 {
		period = max(2*lasts/float64(crossings), 2*f.every)
	}
	f.fields = append(f.fields, fmt.Sprintf("%s: {signal: wander, around: %s, radius: %sm, period: %s}%s", name, around, figures(radius, 2),
		duration(period, 2), of))
	return name
}
