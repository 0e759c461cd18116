package signal

import (
	"fmt"
	"math"
	"sort"
	"time"

	"runcrowd/internal/quantity"
)

// motion are the parameters of signals that tell of the same motion: the device
// rolls and pitches like a hull, and what two sensors say of it agrees.
var motion = []Param{
	{Name: "tilt", Type: Number, Default: 10.0, Doc: "the greatest roll and pitch, in degrees"},
	{Name: "period", Type: Duration, Default: 6 * time.Second, Doc: "about how long a roll takes there and back"},
}

var places = []Spec{
	{
		Name: "wander", Group: "motion", Gives: Place, Doc: "a position that drifts about a place and never leaves the " +
			"radius",
		Params: []Param{
			{Name: "around", Type: Where, Doc: "the middle"},
			{Name: "radius", Type: Length, Default: 10.0, Doc: "how far it may go"},
			{Name: "period", Type: Duration, Default: 10 * time.Minute, Doc: "about how long it takes there and back"},
		},
		Example: "position: {signal: wander, around: \"58.04,-6.38\", radius: 15m}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			around, period := a.place("around"), a.dur("period").Seconds()
			const n = 3
			// Two axes of n sines each: no sum leaves the circle.
			amp := a.num("radius") / n / math.Sqrt2
			return signalFunc(func(m Moment) Value {
				t := seconds(m.Time)
				var axis [2]float64
				for i := uint64(0); i < 2*n; i++ {
					p := period * (0.5 + Uniform(m.Key, 0, 2*i))
					axis[i%2] += amp * math.Sin(turn(t, p, Uniform(m.Key, 0, 2*i+1)))
				}
				return OfPlace(SixDecimals(around.Offset(axis[0], axis[1])))
			}), nil
		},
	},
	{
		Name: "route", Group: "motion", Gives: Place, Doc: "a position that moves along a route at a speed, from the " +
			"beginning of the round",
		Params: []Param{
			{Name: "points", Type: Route, Doc: "the corners of the route, in order; at least two"},
			{Name: "speed", Type: Speed, Default: 1.0, Doc: "how fast it moves: 5kn, 2m/s, 30km/h"},
			{Name: "then", Type: Word, Default: "back", Words: []string{"back", "round", "stay"}, Doc: "at the end: go back " +
				"the same way, on to the first point, or stay"},
			{Name: "ahead", Type: Number, Default: 0.0, Doc: "how many metres along the way it begins; a formula such as n * " +
				"200 sets devices apart"},
		},
		Example: "position: {signal: route, points: [\"58.02,-6.41\", \"58.03,-6.39\", \"58.05,-6.36\"], speed: 5kn, " +
			"ahead: 0}",
		make: func(a Args) (Signal, error) {
			points, _ := a["points"].([]quantity.Position)
			if len(points) < 2 {
				return nil, fmt.Errorf("points must be at least two positions, not %d", len(points))
			}
			if a.num("speed") < 0 {
				return nil, fmt.Errorf("speed must not be negative")
			}
			then := a.word("then")
			if then == "round" {
				points = append(append([]quantity.Position(nil), points...), points[0])
			}
			way := NewWay(points)
			if way.Length() == 0 {
				return nil, fmt.Errorf("all points are the same place: there is no way to go")
			}
			speed, ahead := a.num("speed"), a.num("ahead")
			return signalFunc(func(m Moment) Value {
				d, all := ahead+speed*m.Elapsed.Seconds(), way.Length()
				switch then {
				case "stay":
					d = math.Min(math.Max(d, 0), all)
				case "round":
					d = math.Mod(math.Mod(d, all)+all, all)
				default:
					d = math.Mod(math.Mod(d, 2*all)+2*all, 2*all)
					d = math.Min(d, 2*all-d)
				}
				return OfPlace(SixDecimals(way.At(d)))
			}), nil
		},
	},
	{
		Name: "acceleration", Group: "motion", Gives: Vector, Unit: "m/s2", Doc: "what a three-axis accelerometer on a " +
			"rolling device shows: gravity in its own axes, and vibration",
		Params: append([]Param{
			{Name: "gravity", Type: Number, Default: 9.80665, Doc: "what it shows at rest, in m/s2"},
			{Name: "vibration", Type: Number, Default: 0.05, Doc: "the standard deviation of each axis, in m/s2"}}, motion...),
		Example: "hull: {signal: acceleration, tilt: 12, period: 6s, vibration: 0.1, round: 3}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			g, shake, tilt, period := a.num("gravity"), a.num("vibration"), a.num("tilt"), a.dur("period").Seconds()
			return signalFunc(func(m Moment) Value {
				roll, pitch, _, _ := attitude(&m, tilt, period)
				v := Axes{X: -g * math.Sin(pitch), Y: g * math.Cos(pitch) * math.Sin(roll), Z: g * math.Cos(pitch) * math.Cos(roll)}
				if shake != 0 {
					v.X += shake * Gauss(m.Key, m.Seq, 0)
					v.Y += shake * Gauss(m.Key, m.Seq, 2)
					v.Z += shake * Gauss(m.Key, m.Seq, 4)
				}
				return OfVector(v)
			}), nil
		},
	},
	{
		Name: "rotation", Group: "motion", Gives: Vector, Unit: "deg/s", Doc: "what a three-axis gyroscope on the same " +
			"rolling device shows: how fast it turns about each axis",
		Params: append([]Param{
			{Name: "yaw", Type: Number, Default: 2.0, Doc: "the greatest speed of turning about the upright axis, in degrees " +
				"a second"},
			{Name: "bias", Type: Number, Default: 0.0, Doc: "what every axis shows at rest, in degrees a second"}}, motion...),
		Example: "gyro: {signal: rotation, tilt: 12, period: 6s, yaw: 3, round: 2}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			yaw, bias, tilt, period := a.num("yaw"), a.num("bias"), a.num("tilt"), a.dur("period").Seconds()
			return signalFunc(func(m Moment) Value {
				roll, pitch, dRoll, dPitch := attitude(&m, tilt, period)
				dYaw := yaw * math.Pi / 180 * math.Sin(turn(seconds(m.Time), 5*period, Uniform(m.Body, 0, 60)))
				// The rates of the angles, seen in the axes of the body.
				deg := 180 / math.Pi
				return OfVector(Axes{
					X: bias + deg*(dRoll-dYaw*math.Sin(pitch)),
					Y: bias + deg*(dPitch*math.Cos(roll)+dYaw*math.Cos(pitch)*math.Sin(roll)),
					Z: bias + deg*(-dPitch*math.Sin(roll)+dYaw*math.Cos(pitch)*math.Cos(roll))})
			}), nil
		},
	},
}

// attitude is roll and pitch of a device in radians, and how fast they change.
// They depend on the device alone, so that all its sensors tell the same.
func attitude(m *Moment, tilt, period float64) (roll, pitch, dRoll, dPitch float64) {
	t := seconds(m.Time)
	const n = 3
	amp := tilt * math.Pi / 180 / n
	var angle, rate [2]float64
	for i := uint64(0); i < 2*n; i++ {
		p := period * (0.7 + 0.6*Uniform(m.Body, 0, 40+2*i))
		x := turn(t, p, Uniform(m.Body, 0, 41+2*i))
		angle[i%2] += amp * math.Sin(x)
		rate[i%2] += amp * 2 * math.Pi / p * math.Cos(x)
	}
	return angle[0], angle[1], rate[0], rate[1]
}

// SixDecimals rounds a position to a tenth of a metre.
func SixDecimals(p quantity.Position) quantity.Position {
	return quantity.Position{Lat: round(p.Lat, 6), Lon: round(p.Lon, 6)}
}

// Way is a line through several places.
type Way struct {
	points []quantity.Position
	at     []float64 // metres from the beginning, for each point
}

// NewWay makes the way through at least one point.
func NewWay(points []quantity.Position) *Way {
	w := &Way{points: points, at: make([]float64, len(points))}
	for i := 1; i < len(points); i++ {
		w.at[i] = w.at[i-1] + points[i-1].Distance(points[i])
	}
	return w
}

// Length is that of the whole way in metres.
func (w *Way) Length() float64 { return w.at[len(w.at)-1] }

// At is the place so many metres along the way.
func (w *Way) At(metres float64) quantity.Position {
	i := sort.SearchFloat64s(w.at, metres)
	switch {
	case i == 0:
		return w.points[0]
	case i == len(w.at):
		return w.points[len(w.points)-1]
	}
	a, b := w.points[i-1], w.points[i]
	s := (metres - w.at[i-1]) / (w.at[i] - w.at[i-1])
	return quantity.Position{Lat: a.Lat + s*(b.Lat-a.Lat), Lon: a.Lon + s*(b.Lon-a.Lon)}
}
