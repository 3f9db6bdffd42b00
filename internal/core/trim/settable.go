package trim

import "diathermon/internal/core/settable"

// Numbers are what of a Trim is one number. 0 is as in the file.
type Numbers struct {
	Speed        float64 `json:",omitempty"` // % of the file's, of what lays plastic
	Flow         float64 `json:",omitempty"` // % of the filament that the file lays
	FanLeast     float64 `json:"FanLow,omitempty"`
	FanMost      float64 `json:"FanHigh,omitempty"`
	Height       float64 `json:",omitempty"`
	Acceleration float64 `json:"Most,omitempty"`
}

// Wanted is what is to be different about Numbers; nil: it stays.
type Wanted struct{ Speed, Flow, FanLeast, FanMost, Height, Acceleration *float64 }

// A Field is one of the Numbers.
type Field struct {
	settable.Field
	Flag string // on the command line
	Of   func(*Numbers) *float64
	In   func(*Wanted) **float64
}

// Heat is by how much the setpoints of a heater may differ, and First by how much besides
// until the second layer begins.
var (
	Heat = settable.Field{
		Name: "heaters", Word: "A setpoint's difference", Unit: "K", About: "what is added to setpoints, by heater",
		Least: -50, Most: 50, Steps: [2]float64{5, 1},
	}
	First = settable.Field{
		Name: "first_layer", Word: Heat.Word, Unit: "K", About: "what is added besides until the second layer begins",
		Least: Heat.Least, Most: Heat.Most, Steps: Heat.Steps,
	}
)

// Settable are what there is to say of all that can be set, in the order in which it is
// shown.
func Settable() (all []settable.Field) {
	for _, f := range Fields {
		if all = append(all, f.Field); f.Name == "height_mm" {
			all = append(all, Heat, First)
		}
	}
	return all
}

// value is a number with what is as in the file in its own words: 100 % and not 0.
func (f Field) value(n Numbers) float64 {
	if v := *f.Of(&n); v != 0 {
		return v
	}
	return f.Usual
}

// none reports whether the numbers change nothing.
func (n Numbers) none() bool { return n.equal(Numbers{}) }

// equal reports whether numbers change the same.
func (n Numbers) equal(o Numbers) bool {
	for _, f := range Fields {
		if f.value(n) != f.value(o) {
			return false
		}
	}
	return true
}

// asSliced is what 0 of any of them means.
const asSliced = "as sliced"

// Fields are all that can be set of a trim in one number, in the order in which they are
// shown.
var Fields = []Field{
	{
		Field: settable.Field{
			Name: "speed_percent", Word: "Speed", Unit: "%", About: "of what lays plastic, in % of the file's",
			Least: 10, Most: 300, Steps: [2]float64{10, 1}, Usual: 100, Zero: asSliced,
		},
		Flag: "speed",
		Of:   func(n *Numbers) *float64 { return &n.Speed },
		In:   func(w *Wanted) **float64 { return &w.Speed },
	},
	{
		Field: settable.Field{
			Name: "flow_percent", Word: "Flow", Unit: "%", About: "of the filament that is laid, in % of the file's",
			Least: 50, Most: 150, Steps: [2]float64{5, 1}, Usual: 100, Zero: asSliced,
		},
		Flag: "flow",
		Of:   func(n *Numbers) *float64 { return &n.Flow },
		In:   func(w *Wanted) **float64 { return &w.Flow },
	},
	{
		Field: settable.Field{
			Name: "height_mm", Word: "Nozzle higher", Unit: "mm", About: "by which the nozzle is higher than in the file",
			Least: -1, Most: 1, Steps: [2]float64{0.05, 0.01},
		},
		Flag: "height",
		Of:   func(n *Numbers) *float64 { return &n.Height },
		In:   func(w *Wanted) **float64 { return &w.Height },
	},
	{
		Field: settable.Field{
			Name: "fan_least_percent", Word: "Fan at least", Unit: "%",
			About: "of the part fan at least, where the file has it on",
			Most:  100, Steps: [2]float64{10, 1},
		},
		Flag: "fan-least",
		Of:   func(n *Numbers) *float64 { return &n.FanLeast },
		In:   func(w *Wanted) **float64 { return &w.FanLeast },
	},
	{
		Field: settable.Field{
			Name: "fan_most_percent", Word: "Fan at most", Unit: "%", About: "of the part fan at most",
			Least: 1, Most: 100, Steps: [2]float64{10, 1}, Usual: 100, Zero: asSliced,
		},
		Flag: "fan-most",
		Of:   func(n *Numbers) *float64 { return &n.FanMost },
		In:   func(w *Wanted) **float64 { return &w.FanMost },
	},
	{
		Field: settable.Field{
			Name: "acceleration", Word: "Acceleration", Unit: "mm/s²",
			About: "at most, of what the file sets and of what the printer has",
			Least: 50, Most: 100_000, Steps: [2]float64{500, 100}, Zero: asSliced,
		},
		Flag: "acceleration",
		Of:   func(n *Numbers) *float64 { return &n.Acceleration },
		In:   func(w *Wanted) **float64 { return &w.Acceleration },
	},
}

// Of is what becomes of numbers.
func (w Wanted) Of(n Numbers) Numbers {
	for _, f := range Fields {
		if v := *f.In(&w); v != nil {
			*f.Of(&n) = *v
		}
	}
	return n
}
