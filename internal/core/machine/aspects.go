package machine

import (
	"fmt"
	"strings"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/legible"
	"diathermon/internal/core/settable"
	"diathermon/internal/core/stock"
)

// An Aspect is one thing that is said of a printer.
type Aspect struct {
	settable.Field
	Key  string                 // in the configuration file
	Said func(*Description) any // where it stands: **string, **float64 or **int
	Is   func(*Printer) any     // *string, *float64 or *int; nil: it is no part of a Printer
}

// number is an aspect below [printer], under its own name.
func number(f settable.Field, said func(*Description) any, is func(*Printer) any) Aspect {
	return Aspect{Field: f, Key: "printer." + f.Name, Said: said, Is: is}
}

// limit is the highest setpoint of a kind of heater.
func limit(heater string, f settable.Field, said func(*Description) any, is func(*Printer) any) Aspect {
	f.Name, f.Unit = "limit_"+heater, "°C"
	return Aspect{Field: f, Key: "printer.limits." + heater, Said: said, Is: is}
}

// axis is how far one goes.
func axis(name, word, about string, said func(*Description) any, is func(*Printer) any) Aspect {
	return number(settable.Field{Name: name, Word: word, Unit: "mm", About: about, Least: 10, Most: 10_000}, said, is)
}

// Aspects are everything that is said of a printer, in the order in which it is shown.
var Aspects = []Aspect{
	{
		Field: settable.Field{
			Name: "device", Word: "Port", About: "path of its port; empty is the only one there", Longest: 200,
		},
		Key: "device", Said: func(d *Description) any { return &d.Device },
	},
	number(settable.Field{Name: "name", Word: "Name", About: "of the printer", Longest: 40},
		func(d *Description) any { return &d.Name }, func(p *Printer) any { return &p.Name }),
	number(settable.Field{
		Name: "colour", Word: "Colour",
		About: "as #rrggbb, by which it is told from its neighbours; empty is none", Longest: stock.Colour.Longest,
	}, func(d *Description) any { return &d.Colour }, func(p *Printer) any { return &p.Colour }),
	axis("width", "Width (X)", "how far X goes",
		func(d *Description) any { return &d.Width }, func(p *Printer) any { return &p.Width }),
	axis("depth", "Depth (Y)", "how far Y goes",
		func(d *Description) any { return &d.Depth }, func(p *Printer) any { return &p.Depth }),
	axis("height", "Height (Z)", "how far Z goes",
		func(d *Description) any { return &d.Height }, func(p *Printer) any { return &p.Height }),
	limit("nozzle", settable.Field{
		Word: "Nozzle at most", About: "highest setpoint of a nozzle", Least: 1, Most: heat.MostNozzle,
	}, func(d *Description) any { return &d.HottestNozzle }, func(p *Printer) any { return &p.Limits.Nozzle }),
	limit("bed", settable.Field{
		Word: "Bed at most", About: "highest setpoint of the bed", Least: 1, Most: heat.MostPlate, Zero: "not heated",
	}, func(d *Description) any { return &d.HottestBed }, func(p *Printer) any { return &p.Limits.Bed }),
	limit("chamber", settable.Field{
		Word: "Chamber at most", About: "highest setpoint of the chamber", Least: 1, Most: heat.MostPlate, Zero: "not heated",
	}, func(d *Description) any { return &d.HottestChamber }, func(p *Printer) any { return &p.Limits.Chamber }),
	number(settable.Field{
		Name: "nozzle_diameter", Word: "Nozzle", Unit: "mm", About: "diameter of the nozzle", Least: 0.05, Most: 20,
	}, func(d *Description) any { return &d.Nozzle }, func(p *Printer) any { return &p.Nozzle }),
	number(settable.Field{Name: "tools", Word: "Tools", About: "how many it has", Least: 1, Most: 16, Whole: true},
		func(d *Description) any { return &d.Tools }, func(p *Printer) any { return &p.Tools }),
	number(settable.Field{
		Name: "slots", Word: "Slots for filament", About: "in how many places filament is loaded",
		Least: 1, Most: 16, Whole: true, Zero: "as many as tools",
	}, func(d *Description) any { return &d.Slots }, func(p *Printer) any { return &p.Slots }),
	number(settable.Field{
		Name: "filament_diameter", Word: "Filament", Unit: "mm", About: "diameter of the filament",
		Least: stock.Diameter.Least, Most: stock.Diameter.Most,
	}, func(d *Description) any { return &d.Filament }, func(p *Printer) any { return &p.Filament }),
	number(settable.Field{
		Name: "filament_density", Word: "Its density", Unit: "g/cm³", About: "density of the filament", Least: 0.1, Most: 50,
	}, func(d *Description) any { return &d.Density }, func(p *Printer) any { return &p.Density }),
	number(settable.Field{
		Name: "filament_price", Word: "A kilogram of it", About: "price of a kilogram of filament",
		Least: 0.01, Most: 1_000_000, Zero: "not said",
	}, func(d *Description) any { return &d.Price }, func(p *Printer) any { return &p.Price }),
	number(settable.Field{Name: "currency", Word: "Currency", About: "of prices", Longest: 8},
		func(d *Description) any { return &d.Currency }, func(p *Printer) any { return &p.Currency }),
}

// Settable are what there is to say of all of them.
func Settable() (all []settable.Field) {
	for _, a := range Aspects {
		all = append(all, a.Field)
	}
	return all
}

// over puts what one description says in the place of what another says.
func (a Aspect) over(now, before *Description) {
	switch v := a.Said(now).(type) {
	case **string:
		over(v, *a.Said(before).(**string))
	case **float64:
		over(v, *a.Said(before).(**float64))
	case **int:
		over(v, *a.Said(before).(**int))
	}
}

func over[T any](now **T, before *T) {
	if *now == nil {
		*now = before
	}
}

// Lay puts what a description says of the aspect into where it is, and reports whether it
// says anything.
func (a Aspect) Lay(d *Description, is any) bool {
	switch to := is.(type) {
	case *string:
		return lay(to, *a.Said(d).(**string))
	case *float64:
		return lay(to, *a.Said(d).(**float64))
	case *int:
		return lay(to, *a.Said(d).(**int))
	}
	return false
}

func lay[T any](to, said *T) bool {
	if said != nil {
		*to = *said
	}
	return said != nil
}

// Tell puts the aspect as it is into a description.
func (a Aspect) Tell(is any, d *Description) {
	switch v := is.(type) {
	case *string:
		*a.Said(d).(**string) = new(*v)
	case *float64:
		*a.Said(d).(**float64) = new(*v)
	case *int:
		*a.Said(d).(**int) = new(*v)
	}
}

// In is what a description says of the aspect, in words; empty: nothing.
func (a Aspect) In(d *Description) string {
	switch v := a.Said(d).(type) {
	case **string:
		if *v != nil {
			return **v
		}
	case **float64:
		if *v != nil {
			return a.Field.In(**v)
		}
	case **int:
		if *v != nil {
			return a.Field.In(float64(**v))
		}
	}
	return ""
}

// Check says what of the printer cannot be.
func (p Printer) Check() error {
	for _, a := range Aspects {
		if a.Is == nil {
			continue
		}
		var err error
		switch v := a.Is(&p).(type) {
		case *string:
			if a.Name != "name" { // the configuration file's was always as long as its keeper liked
				err = a.CheckText(*v)
			}
			if err == nil && legible.Line(*v) != *v {
				err = fmt.Errorf("there are characters in %q that nobody can see", *v)
			}
		case *float64:
			err = a.Check(*v)
		case *int:
			err = a.Check(float64(*v))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", a.Key, err)
		}
	}
	switch {
	case strings.TrimSpace(p.Name) == "":
		return fmt.Errorf("printer.name is empty: a name keeps several printers apart")
	case p.Colour != "" && !stock.Coloured(p.Colour):
		return fmt.Errorf("printer.colour is %q: it looks like #2f6f62, in small letters", p.Colour)
	case p.Slots > 0 && p.Slots < p.Tools:
		return fmt.Errorf("printer.slots is %d: there are no fewer than tools, which are %d; 0 is as many", p.Slots, p.Tools)
	}
	return p.checkOutputs()
}
