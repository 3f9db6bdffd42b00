package heat

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Order says which heater of a warm-up begins when.
type Order string

// The orders.
const (
	AtOnce   Order = "at-once"   // all now
	BedFirst Order = "bed-first" // the nozzles when the bed is there
	Together Order = "together"  // so that all arrive at the same time
)

// A WarmUp is a named set of setpoints.
type WarmUp struct {
	Name      string
	Spool     string             // it is for, by its name; empty: any
	Setpoints map[Heater]float64 // °C
	Order     Order
	Soak      bool          // hold the bed until the heat has spread
	SoakFor   time.Duration // for so long; 0: until the plate has settled
}

// ErrWarmUp is wrapped by what is wrong with a warm-up.
var ErrWarmUp = errors.New("this is no warm-up")

// ErrNoWarmUp means that there is no warm-up of that name.
var ErrNoWarmUp = errors.New("there is no such warm-up")

// longestSoak bounds a soak.
const longestSoak = 4 * time.Hour

// Check says what is wrong with a warm-up for a printer with these heaters, or
// nil.
func (w WarmUp) Check(heaters []Heater, limits Limits) error {
	name := strings.TrimSpace(w.Name)
	switch {
	case name == "" || len(name) > 60 || name != w.Name || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == '/' || r == 0x7f }):
		return fmt.Errorf("%w: its name is %q; use 1 to 60 characters without slashes", ErrWarmUp, w.Name)
	case len(w.Spool) > 60 || strings.ContainsFunc(w.Spool, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fmt.Errorf("%w: the spool it is for is %q; use up to 60 characters", ErrWarmUp, w.Spool)
	case len(w.Setpoints) == 0:
		return fmt.Errorf("%w: it has no setpoint", ErrWarmUp)
	case w.Order != AtOnce && w.Order != BedFirst && w.Order != Together:
		return fmt.Errorf("%w: its order is %q; use at-once, bed-first or together", ErrWarmUp, w.Order)
	case w.SoakFor < 0 || w.SoakFor > longestSoak:
		return fmt.Errorf("%w: its soak is %s; use up to %s", ErrWarmUp, w.SoakFor, longestSoak)
	case w.Soak && w.Setpoints[Bed] == 0:
		return fmt.Errorf("%w: it soaks and has no setpoint for the bed", ErrWarmUp)
	}
	for _, h := range slices.Sorted(maps.Keys(w.Setpoints)) {
		if !slices.Contains(heaters, h) {
			return fmt.Errorf("%w: this printer has no %s", ErrWarmUp, h)
		}
		if err := limits.Check(h, w.Setpoints[h]); err != nil {
			return fmt.Errorf("%w: %v", ErrWarmUp, err)
		}
	}
	return nil
}

// ReadyMade are warm-ups for the common materials, to begin with. Their setpoints
// are in the middle of what makers of filament recommend.
func ReadyMade() []WarmUp {
	made := func(name string, nozzle, bed float64, soak bool) WarmUp {
		return WarmUp{Name: name, Setpoints: map[Heater]float64{Nozzle: nozzle, Bed: bed}, Order: Together, Soak: soak}
	}
	return []WarmUp{
		made("PLA", 205, 60, false), made("PETG", 235, 75, false), made("ABS", 245, 100, true), made("ASA", 250, 100, true), made("TPU", 225, 45, false), made("PA", 260, 80, true),
	}
}

// Waits says how long each heater should wait before it is switched on, so that
// all arrive together: left is how long each takes, for all of them known.
func Waits(left map[Heater]time.Duration) map[Heater]time.Duration {
	longest := time.Duration(0)
	for _, d := range left {
		longest = max(longest, d)
	}
	out := map[Heater]time.Duration{}
	for h, d := range left {
		out[h] = longest - d
	}
	return out
}

// A Step is a setpoint that a file gives before it lays plastic.
type Step struct {
	Command  int // of the file, from 1
	Heater   Heater
	Setpoint float64 // °C
	Wait     bool    // until it is reached
}

// A course is how one heater goes on, step by step: by the shape of its warm-ups, or,
// until that is known, by its model.
type course struct {
	m                   Model
	shape               Shape
	at, behind, to      float64 // °C
	climbed, last, dead float64 // K and s of the climb that goes on, of its last degrees; s until its heat comes
	due                 float64 // s from now until the climb that goes on is over; 0: none does
}

// courseOf is a heater's as it is now; nil while it is not known well enough.
func courseOf(l *Learner) *course {
	c := &course{m: l.Model(), shape: l.Shape, at: l.climb.last.actual, to: l.climb.Setpoint}
	if len(l.past) > 1 && l.past[len(l.past)-1].at == l.climb.last.at {
		c.at = l.level()
	}
	if l.climb.last.at == 0 || !c.shape.Known && !c.m.Known() {
		return nil
	}
	if c.behind = c.at; c.shape.Known && l.climb.Took+l.climb.last.at > 0 {
		c.behind = min(c.shape.behind(&l.climb.Climb, c.at), c.at)
	}
	if l.climb.on {
		c.due = l.foretell(c.at, &l.climb, l.climb.last.conditions)[kinds-1]
	}
	return c
}

// step lets some seconds pass.
func (c *course) step(dt float64) {
	next := c.at
	switch {
	case c.shape.Known && c.at < c.to:
		if c.dead -= dt; c.dead > 0 {
			return
		}
		next, c.behind = c.shape.move(c.at, c.behind, dt)
		next = min(max(next, c.at), c.to)
	case c.at < c.to:
		next = min(c.at+max(c.m.Rise-c.m.Loss*(c.at-c.m.Ambient), 0)*dt, c.to)
	case c.at > c.to && c.shape.Known:
		next, c.behind = c.at-c.shape.B*(c.at-reference)*dt, c.behind+(c.at-c.behind)*dt/c.shape.Tau
	case c.at > c.to:
		next = c.at - c.m.Loss*(c.at-c.m.Ambient)*dt
	case c.shape.Known:
		c.behind += (c.at - c.behind) * dt / c.shape.Tau
	}
	if c.climbed += max(next-c.at, 0); c.at > c.to-climbTail && next > c.at {
		c.last += dt
	}
	c.at = next
}

// there reports whether the heater has come to its setpoint, so many seconds from now.
func (c *course) there(s float64) bool {
	if c.due > 0 {
		return s >= c.due
	}
	return c.at >= c.to-Ready
}

// longer is by how much the last degrees take longer than at full duty, s.
func (c *course) longer(l *Learner) float64 {
	switch {
	case c.due > 0: // they are in it
	case c.shape.Known:
		return (c.shape.Tail - 1) * c.last
	case c.climbed > tailFrom:
		return l.Tail + c.m.Dead.Seconds()
	}
	return 0
}

// Remaining is how long the steps of a file will take from now on: the climb that goes on as
// Forecast has it, and those to come at full duty until they are there. Learned has every
// heater that the steps name; false if one is not known well enough.
func Remaining(steps []Step, learned map[Heater]*Learner) (time.Duration, bool) {
	courses := map[Heater]*course{}
	for h, l := range learned {
		if c := courseOf(l); c != nil {
			courses[h] = c
		}
	}
	const dt = 0.5
	total := 0.0
	for _, step := range steps {
		c := courses[step.Heater]
		if c == nil {
			return 0, false
		}
		if step.Setpoint != c.to {
			c.climbed, c.last, c.dead, c.due = 0, 0, c.shape.Dead, 0
		}
		if c.to = step.Setpoint; !step.Wait || c.to <= 0 {
			continue
		}
		for ; !c.there(total); total += dt {
			for _, o := range courses {
				o.step(dt)
			}
			if total > forecastMost.Seconds() {
				return 0, false
			}
		}
		total = max(total+c.longer(learned[step.Heater]), 0)
		c.at, c.due = max(c.at, c.to-Ready), 0
	}
	return inSeconds(total), true
}
