// Package unit knows the units that fields may state, and converts between
// those that measure the same.
//
// The names are those of the SenML registry (RFC 8428, section 12.1) and its
// secondary units (RFC 8798) where they have the unit, and else what people
// write. A field may state any other text as its unit; only what is known here
// can be converted.
package unit

import (
	"fmt"
	"sort"
	"strings"
)

// Unit is one unit of measure. A value v in it is v*Factor+Offset in the base
// unit of its dimension.
type Unit struct {
	Name      string
	Dimension string
	Factor    float64
	Offset    float64
	SenML     bool // stands in a registry of RFC 8428 or RFC 8798
}

const (
	kelvin = 273.15
	foot   = 0.3048
	mile   = 1609.344
	naut   = 1852.0
	pound  = 0.45359237
	psi    = 6894.757293168361
)

var units = []Unit{
	{"Cel", "temperature", 1, kelvin, true}, {"K", "temperature", 1, 0, true},
	{"degF", "temperature", 5.0 / 9, kelvin - 32*5.0/9, false},
	{"m", "length", 1, 0, true}, {"mm", "length", 1e-3, 0, true}, {"cm", "length", 1e-2, 0, true},
	{"km", "length", 1e3, 0, true},
	{"in", "length", foot / 12, 0, false}, {"ft", "length", foot, 0, false}, {"mi", "length", mile, 0, false},
	{"nmi", "length", naut, 0, false},
	{"m/s", "speed", 1, 0, true}, {"km/h", "speed", 1 / 3.6, 0, true}, {"kn", "speed", naut / 3600, 0, false},
	{"mph", "speed", mile / 3600, 0, false},
	{"ft/s", "speed", foot, 0, false}, {"mm/h", "speed", 1e-3 / 3600, 0, true}, {"m/h", "speed", 1.0 / 3600, 0, true},
	{"m/s2", "acceleration", 1, 0, true}, {"g0", "acceleration", 9.80665, 0, false},
	{"Pa", "pressure", 1, 0, true}, {"hPa", "pressure", 100, 0, true}, {"kPa", "pressure", 1e3, 0, false},
	{"mbar", "pressure", 100, 0, false},
	{"bar", "pressure", 1e5, 0, false}, {"psi", "pressure", psi, 0, false}, {"mmHg", "pressure", 133.322387415, 0, false},
	{"atm", "pressure", 101325, 0, false},
	{"rad", "angle", 1, 0, true}, {"deg", "angle", 0.017453292519943295, 0, true},
	{"rad/s", "angular speed", 1, 0, false}, {"deg/s", "angular speed", 0.017453292519943295, 0, false},
	{"1/min", "frequency", 1.0 / 60, 0, true},
	{"Hz", "frequency", 1, 0, true}, {"1/s", "frequency", 1, 0, true}, {"kHz", "frequency", 1e3, 0, false},
	{"MHz", "frequency", 1e6, 0, true},
	{"kg", "mass", 1, 0, true}, {"g", "mass", 1e-3, 0, true}, {"t", "mass", 1e3, 0, false},
	{"lb", "mass", pound, 0, false}, {"oz", "mass", pound / 16, 0, false},
	{"s", "time", 1, 0, true}, {"ms", "time", 1e-3, 0, true}, {"min", "time", 60, 0, true}, {"h", "time", 3600, 0, true},
	{"d", "time", 86400, 0, false},
	{"J", "energy", 1, 0, true}, {"kJ", "energy", 1e3, 0, false}, {"MJ", "energy", 1e6, 0, false},
	{"Wh", "energy", 3600, 0, true}, {"kWh", "energy", 3.6e6, 0, true},
	{"W", "power", 1, 0, true}, {"mW", "power", 1e-3, 0, false}, {"kW", "power", 1e3, 0, true},
	{"MW", "power", 1e6, 0, false},
	{"V", "voltage", 1, 0, true}, {"mV", "voltage", 1e-3, 0, true}, {"kV", "voltage", 1e3, 0, false},
	{"A", "current", 1, 0, true}, {"mA", "current", 1e-3, 0, true}, {"Ah", "charge", 3600, 0, true},
	{"mAh", "charge", 3.6, 0, false}, {"C", "charge", 1, 0, true},
	{"m3", "volume", 1, 0, true}, {"l", "volume", 1e-3, 0, true}, {"ml", "volume", 1e-6, 0, false},
	{"gal", "volume", 3.785411784e-3, 0, false},
	{"m3/s", "flow", 1, 0, true}, {"l/s", "flow", 1e-3, 0, true}, {"l/min", "flow", 1e-3 / 60, 0, false},
	{"m3/h", "flow", 1.0 / 3600, 0, false},
	{"B", "data", 1, 0, true}, {"KiB", "data", 1024, 0, true}, {"MiB", "data", 1 << 20, 0, false},
	{"GB", "data", 1e9, 0, true},
	{"B/s", "data rate", 1, 0, true}, {"bit/s", "data rate", 1.0 / 8, 0, true}, {"Mbit/s", "data rate", 1e6 / 8, 0, true},
	{"MB/s", "data rate", 1e6, 0, true},
	{"/", "share", 1, 0, true}, {"%", "share", 0.01, 0, true}, {"/100", "share", 0.01, 0, true},
	{"/1000", "share", 1e-3, 0, true}, {"ppm", "share", 1e-6, 0, true},
	{"%RH", "humidity", 1, 0, true}, {"%EL", "battery level", 1, 0, true}, {"EL", "battery lifetime", 1, 0, true},
	{"lx", "illuminance", 1, 0, true}, {"lm", "luminous flux", 1, 0, true}, {"cd", "luminous intensity", 1, 0, true},
	{"mol", "substance", 1, 0, true},
	{"N", "force", 1, 0, true}, {"Ohm", "resistance", 1, 0, true}, {"S", "conductance", 1, 0, true},
	{"S/m", "conductivity", 1, 0, true}, {"F", "capacitance", 1, 0, true},
	{"T", "flux density", 1, 0, true}, {"m2", "area", 1, 0, true}, {"W/m2", "irradiance", 1, 0, true},
	{"kg/m3", "density", 1, 0, true},
	{"ug/m3", "density", 1e-9, 0, true}, {"pH", "acidity", 1, 0, true}, {"dB", "level", 1, 0, true},
	{"dBW", "power level", 1, 0, true}, {"dBm", "power level", 1, -30, true},
	{"Bspl", "sound level", 1, 0, true}, {"count", "count", 1, 0, true}, {"VA", "apparent power", 1, 0, true},
	{"kVA", "apparent power", 1e3, 0, true},
	{"var", "reactive power", 1, 0, true}, {"kvar", "reactive power", 1e3, 0, true}, {"lat", "latitude", 1, 0, true},
	{"lon", "longitude", 1, 0, true},
}

// aliases are other spellings of known units.
var aliases = map[string]string{"°C": "Cel", "degC": "Cel", "celsius": "Cel", "°F": "degF", "fahrenheit": "degF",
	"°": "deg", "kmh": "km/h", "knots": "kn", "knot": "kn", "L": "l", "ohm": "Ohm", "Ω": "Ohm", "m/s^2": "m/s2",
	"m/s²": "m/s2", "m³": "m3", "m²": "m2", "rpm": "1/min"}

// Find looks a unit up by name or by another spelling of it.
func Find(name string) (Unit, bool) {
	if a, is := aliases[name]; is {
		name = a
	}
	for _, u := range units {
		if u.Name == name {
			return u, true
		}
	}
	return Unit{}, false
}

// Names lists the units of a dimension, or all for "".
func Names(dimension string) []string {
	var list []string
	for _, u := range units {
		if dimension == "" || u.Dimension == dimension {
			list = append(list, u.Name)
		}
	}
	sort.Strings(list)
	return list
}

// Conversion turns a value of one unit into one of another: v*Factor+Offset.
type Conversion struct {
	From, To       string
	Factor, Offset float64
}

// Apply converts v.
func (c *Conversion) Apply(v float64) float64 { return v*c.Factor + c.Offset }

// ParseConversion reads "m/s to kn".
func ParseConversion(text string) (Conversion, error) {
	a, b, ok := strings.Cut(text, " to ")
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	if !ok || a == "" || b == "" {
		return Conversion{}, fmt.Errorf("%q is not a conversion; write one such as m/s to kn", text)
	}
	from, known := Find(a)
	if !known {
		return Conversion{}, fmt.Errorf("the unit %q is not known; units are written as in SenML: Cel, m, m/s, hPa, deg, "+
			"%%, V, Wh and the like", a)
	}
	to, known := Find(b)
	if !known {
		return Conversion{}, fmt.Errorf("the unit %q is not known; units of %s are %s", b, from.Dimension,
			strings.Join(Names(from.Dimension), ", "))
	}
	if from.Dimension != to.Dimension {
		return Conversion{}, fmt.Errorf("%s is a unit of %s and %s one of %s: there is no way from one to the other", a,
			from.Dimension, b, to.Dimension)
	}
	return Conversion{from.Name, to.Name, from.Factor / to.Factor, (from.Offset - to.Offset) / to.Factor}, nil
}
