// Package quantity reads and prints the measures of a crowd file as people
// write them: "12h25m", "10%", "20/s", "15m" of length, "58.02,-6.41".
//
// Every type parses once, keeps its unit in its type, and prints as a text
// that parses back to the same value.
package quantity

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/decimal"
)

// Day is the longest unit a duration may be written in.
const Day = 24 * time.Hour

var durationUnits = map[string]time.Duration{
	"ns": time.Nanosecond, "us": time.Microsecond, "µs": time.Microsecond, "μs": time.Microsecond,
	"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "min": time.Minute, "h": time.Hour, "d": Day,
}

// ParseDuration reads a duration such as "5s", "250ms", "12h25m", "2d".
// A number without a unit is an error: 5 of what?
func ParseDuration(text string) (time.Duration, error) {
	rest := strings.TrimSpace(text)
	if rest == "" {
		return 0, errors.New("a duration is empty; write one such as 5s")
	}
	negative := strings.HasPrefix(rest, "-")
	rest = strings.TrimPrefix(rest, "-")
	var total float64
	for rest != "" {
		number, unit, tail := splitUnit(rest)
		if number == "" {
			return 0, fmt.Errorf("%q is not a duration; write one such as 5s, 250ms or 12h25m", text)
		}
		value, err := strconv.ParseFloat(number, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a duration; write one such as 5s, 250ms or 12h25m", text)
		}
		if unit == "" {
			return 0, fmt.Errorf("%q has no unit; write %ss, %sms or %sm", text, number, number, number)
		}
		size, known := durationUnits[unit]
		if !known {
			return 0, fmt.Errorf("%q has the unknown unit %q; the units are ns, us, ms, s, m, h and d", text, unit)
		}
		total += value * float64(size)
		rest = tail
	}
	if total > math.MaxInt64/2 {
		return 0, fmt.Errorf("%q is longer than 146 years", text)
	}
	if negative {
		total = -total
	}
	return time.Duration(math.Round(total)), nil
}

// splitUnit takes one number and the letters behind it off the front.
func splitUnit(text string) (number, unit, rest string) {
	i := 0
	for i < len(text) && (text[i] >= '0' && text[i] <= '9' || text[i] == '.') {
		i++
	}
	j := i
	for j < len(text) && !(text[j] >= '0' && text[j] <= '9' || text[j] == '.' || text[j] == '-' || text[j] == '+') {
		j++
	}
	return text[:i], strings.TrimSpace(text[i:j]), text[j:]
}

// FormatDuration prints d in the largest units that fit: "1d2h", "250ms".
// What it prints parses back to d.
func FormatDuration(d time.Duration) string {
	if d == 0 {
		return "0s"
	}
	var b strings.Builder
	if d < 0 {
		b.WriteByte('-')
		d = -d
	}
	for _, u := range []struct {
		name string
		size time.Duration
	}{{"d", Day}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond},
		{"us", time.Microsecond}, {"ns", 1}} {
		if n := d / u.size; n > 0 {
			b.WriteString(strconv.FormatInt(int64(n), 10))
			b.WriteString(u.name)
			d -= n * u.size
		}
	}
	return b.String()
}

// Percent is a share: Percent(100) is the whole.
type Percent float64

// ParsePercent reads "10%" or "99.9%"; the sign is required.
func ParsePercent(text string) (Percent, error) {
	t := strings.TrimSpace(text)
	if !strings.HasSuffix(t, "%") {
		return 0, fmt.Errorf("%q is not a percentage; write one such as 10%%", text)
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(t, "%")), 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, fmt.Errorf("%q is not a percentage; write one such as 10%%", text)
	}
	if v < 0 || v > 100 {
		return 0, fmt.Errorf("%q is outside 0%% to 100%%", text)
	}
	return Percent(v), nil
}

// Share is the percentage as a fraction of one.
func (p Percent) Share() float64 { return float64(p) / 100 }

func (p Percent) String() string { return strconv.FormatFloat(float64(p), 'f', -1, 64) + "%" }

// Rate is a number of happenings a second.
type Rate float64

// ParseRate reads "20/s", "100/min" or "5/h".
func ParseRate(text string) (Rate, error) {
	number, unit, found := strings.Cut(strings.TrimSpace(text), "/")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !found || err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, fmt.Errorf("%q is not a rate; write one such as 20/s", text)
	}
	size, known := durationUnits[strings.TrimSpace(unit)]
	if !known {
		return 0, fmt.Errorf("%q has the unknown unit %q; write one such as 20/s, 100/min or 5/h", text, unit)
	}
	if v <= 0 {
		return 0, fmt.Errorf("%q is not above zero", text)
	}
	return Rate(v / size.Seconds()), nil
}

func (r Rate) String() string { return strconv.FormatFloat(float64(r), 'f', -1, 64) + "/s" }

// sizeUnits are those of sizes, in bytes.
var sizeUnits = map[string]int64{"B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20,
	"GiB": 1 << 30}

// ParseSize reads "512 MiB", "64KiB" or "10 MB" and gives bytes.
func ParseSize(text string) (int64, error) {
	number, unit, rest := splitUnit(strings.TrimSpace(text))
	size, known := sizeUnits[unit]
	v, err := strconv.ParseFloat(number, 64)
	switch {
	case err != nil || !known || strings.TrimSpace(rest) != "":
		return 0, fmt.Errorf("%q is not a size; write one such as 512 MiB, 64 KiB or 10 MB", text)
	case v*float64(size) < 1 || v*float64(size) > 1<<50:
		return 0, fmt.Errorf("%q is not between 1 B and 2^50 bytes", text)
	}
	return int64(v * float64(size)), nil
}

// FormatSize writes a number of bytes so that ParseSize reads it back.
func FormatSize(n int64) string {
	for _, unit := range []string{"GiB", "MiB", "KiB"} {
		if size := sizeUnits[unit]; n >= size && n%size == 0 {
			return fmt.Sprintf("%d %s", n/size, unit)
		}
	}
	return fmt.Sprintf("%d B", n)
}

// ParseLength reads "15m", "1.5km", "80cm" and gives metres.
func ParseLength(text string) (metres float64, err error) {
	number, unit, rest := splitUnit(strings.TrimSpace(text))
	v, perr := strconv.ParseFloat(number, 64)
	if perr != nil || rest != "" {
		return 0, fmt.Errorf("%q is not a length; write one such as 15m or 2km", text)
	}
	switch unit {
	case "mm":
		return v / 1000, nil
	case "cm":
		return v / 100, nil
	case "m":
		return v, nil
	case "km":
		return v * 1000, nil
	case "":
		return 0, fmt.Errorf("%q has no unit; write %sm for metres", text, number)
	}
	return 0, fmt.Errorf("%q has the unknown unit %q; the units are mm, cm, m and km", text, unit)
}

// Position is a place on the earth in degrees (WGS 84), north and east positive.
type Position struct {
	Lat float64 `json:"lat" expr:"lat"`
	Lon float64 `json:"lon" expr:"lon"`
}

// Axes are the three parts of a vector.
type Axes struct {
	X float64 `json:"x" expr:"x"`
	Y float64 `json:"y" expr:"y"`
	Z float64 `json:"z" expr:"z"`
}

// ParsePosition reads "58.02,-6.41": latitude, then longitude.
func ParsePosition(text string) (Position, error) {
	a, b, found := strings.Cut(text, ",")
	lat, err1 := strconv.ParseFloat(strings.TrimSpace(a), 64)
	lon, err2 := strconv.ParseFloat(strings.TrimSpace(b), 64)
	if !found || err1 != nil || err2 != nil {
		return Position{}, fmt.Errorf("%q is not a position; write latitude and longitude in degrees, such as 58.02,-6.41",
			text)
	}
	if !(lat >= -90 && lat <= 90) {
		return Position{}, fmt.Errorf("the latitude %g is outside -90 to 90", lat)
	}
	if !(lon >= -180 && lon <= 180) {
		return Position{}, fmt.Errorf("the longitude %g is outside -180 to 180", lon)
	}
	return Position{lat, lon}, nil
}

func (p Position) String() string {
	return strconv.FormatFloat(p.Lat, 'f', -1, 64) + "," + strconv.FormatFloat(p.Lon, 'f', -1, 64)
}

// metresPerDegree is a degree of a great circle on a sphere of the mean earth
// radius 6371008.8 m (IUGG).
const metresPerDegree = 6371008.8 * math.Pi / 180

// Offset is the place north and east metres away from p. It is good to some
// centimetres for the few kilometres that a device moves.
func (p Position) Offset(north, east float64) Position {
	lat := p.Lat + north/metresPerDegree
	lon := p.Lon
	if c := math.Cos(p.Lat * math.Pi / 180); c > 1e-9 {
		lon += east / (metresPerDegree * c)
	}
	return Position{lat, lon}
}

// Distance is that along the great circle in metres (haversine formula).
func (p Position) Distance(q Position) float64 {
	rad := math.Pi / 180
	h := math.Pow(math.Sin((q.Lat-p.Lat)*rad/2), 2) + math.Cos(p.Lat*rad)*math.Cos(q.Lat*rad)*math.Pow(
		math.Sin((q.Lon-p.Lon)*rad/2), 2)
	return 2 * metresPerDegree / rad * math.Asin(math.Min(1, math.Sqrt(h)))
}

// speeds are units of speed in metres a second.
var speeds = map[string]float64{"m/s": 1, "km/h": 1 / 3.6, "kn": 1852.0 / 3600, "mph": 1609.344 / 3600}

// ParseSpeed reads "5kn", "2m/s", "30km/h" or "10mph" and gives metres a second.
func ParseSpeed(text string) (float64, error) {
	t := strings.TrimSpace(text)
	i := 0
	for i < len(t) && (t[i] >= '0' && t[i] <= '9' || t[i] == '.') {
		i++
	}
	v, err := strconv.ParseFloat(t[:i], 64)
	if err != nil {
		return 0, fmt.Errorf("%q is not a speed; write one such as 5kn, 2m/s or 30km/h", text)
	}
	unit := strings.TrimSpace(t[i:])
	size, known := speeds[unit]
	if unit == "" {
		return 0, fmt.Errorf("%q has no unit; write %sm/s, %skn or %skm/h", text, t[:i], t[:i], t[:i])
	}
	if !known {
		return 0, fmt.Errorf("%q has the unknown unit %q; the units are m/s, km/h, kn and mph", text, unit)
	}
	return v * size, nil
}

// ParseDay reads a day of the year, "07-15" for 15 July, as its number in a year
// of 365 days, from 0.
func ParseDay(text string) (int, error) {
	t, err := time.Parse("2006-01-02", "2001-"+strings.TrimSpace(text))
	if err != nil {
		return 0, fmt.Errorf("%q is not a day of the year; write month and day, such as \"07-15\", in quotes", text)
	}
	return t.YearDay() - 1, nil
}

// ParseClock reads a time of day, "15:00" or "06:30:15", as the time since midnight.
func ParseClock(text string) (time.Duration, error) {
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, strings.TrimSpace(text)); err == nil {
			return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute +
				time.Duration(t.Second())*time.Second, nil
		}
	}
	return 0, fmt.Errorf("%q is not a time of day; write one such as \"15:00\", in quotes", text)
}

// ParseInstant reads a time as platforms write it: RFC 3339, or with a blank in place of
// the T.
func ParseInstant(text string) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// ParseUnix reads a number since 1970, in seconds, milliseconds, microseconds or nanoseconds,
// told apart by its size, with or without a fraction. It is exact to the nanosecond.
func ParseUnix(text string) (time.Time, bool) {
	n, ok := decimal.Parse(text)
	if !ok {
		return time.Time{}, false
	}
	return n.Instant()
}

// bitRates are units of rates in bits a second.
var bitRates = map[string]float64{"bit/s": 1, "kbit/s": 1e3, "Mbit/s": 1e6, "Gbit/s": 1e9, "B/s": 8, "kB/s": 8e3,
	"MB/s": 8e6}

// ParseBitRate reads "9600 bit/s", "64 kbit/s" or "10 kB/s" and gives bits a second.
func ParseBitRate(text string) (float64, error) {
	t := strings.TrimSpace(text)
	i := strings.IndexFunc(t, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
	if i < 0 {
		return 0, fmt.Errorf("%q has no unit; write one such as 9600 bit/s or 64 kbit/s", text)
	}
	v, err := strconv.ParseFloat(t[:i], 64)
	size, known := bitRates[strings.TrimSpace(t[i:])]
	switch {
	case err != nil || !known:
		return 0, fmt.Errorf("%q is not a rate of bits; write one such as 9600 bit/s, 64 kbit/s or 10 kB/s", text)
	case v*size < 8:
		return 0, fmt.Errorf("%q is too slow; the least is 8 bit/s", text)
	}
	return v * size, nil
}
