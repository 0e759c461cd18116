package engine

import (
	"fmt"
	"math"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// setAction gives a property or a field another value.
var setAction = handling{
	prepare: func(l *loop, x *action, w work) (err error) {
		if !x.Field {
			if x.value, err = l.property(x.Action, w.env); err != nil {
				return fmt.Errorf("set: %s: %w", x.Name, err)
			}
			return nil
		}
		x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterSet, Text: x.Value}
		if x.Value.Fixed() {
			x.alter.Text, x.alter.Value = nil, fixedValue(x.Value.Source(), x.Sample)
		}
		return nil
	},
	do: func(l *loop, a *act, x *action, _ moment) string {
		if x.Field {
			return x.Value.Source()
		}
		l.setProperty(a.device, x.Name)
		return formula.String(x.value)
	},
	undo: func(l *loop, a *act, x *action, _ moment) {
		if !x.Field {
			l.setProperty(a.device, x.Name)
		}
	},
}

// setProperty gives a property the value that it has after all that is done to the device.
func (l *loop) setProperty(d *device, name string) {
	if d.original == nil {
		d.original = map[string]any{}
	}
	if _, known := d.original[name]; !known {
		d.original[name] = d.Env[name]
	}
	value := d.original[name]
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionSet && !x.Field && x.Name == name }); x != nil {
		value = x.value
	}
	l.engine.fleet.SetProperty(d.Device, name, value)
	l.bodies.composer.Forget()
}

// property works out the new value of a property, of the property's type.
func (l *loop) property(x *crowd.Action, env formula.Env) (any, error) {
	var v any
	var err error
	if f := x.Value.Single(); f != nil {
		v, err = f.Any(&l.machine, env)
	} else {
		v, err = x.Value.Expand(&l.machine, env)
	}
	if err != nil {
		return nil, err
	}
	if v == nil {
		return nil, fmt.Errorf("the command does not give it")
	}
	text := formula.String(v)
	number, isNumber := crowd.Number(text)
	switch x.Sample.(type) {
	case string:
		return text, nil
	case bool:
		if text == "true" || text == "false" {
			return text == "true", nil
		}
		return nil, fmt.Errorf("it is true or false, not %q", text)
	case float64:
		if isNumber {
			return number.Float(), nil
		}
	case int:
		if isNumber && number.Float() == math.Trunc(number.Float()) && math.Abs(number.Float()) < 1<<53 {
			return int(number.Float()), nil
		}
		if isNumber {
			return nil, fmt.Errorf("it is a whole number, not %s", text)
		}
	case quantity.Position:
		return quantity.ParsePosition(text)
	default:
		return v, nil
	}
	return nil, fmt.Errorf("it is a number, not %q", text)
}

// fixedValue is a value that stands in the file, of the type of a sample.
func fixedValue(s string, sample any) signal.Value {
	number, is := crowd.Number(s)
	switch sample.(type) {
	case bool:
		return signal.OfBool(s == "true")
	case int, int64, uint64:
		if is && number.Float() == math.Trunc(number.Float()) && math.Abs(number.Float()) < 1<<53 {
			return signal.OfInt(int64(number.Float()))
		}
	}
	if _, text := sample.(string); is && !text {
		return signal.OfFloat(number.Float())
	}
	return signal.OfText(s)
}
