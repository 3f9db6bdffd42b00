// Package outputs sets fans, lights and what else Setup names, and follows what they were
// last set to, by whomever.
//
// What a printer does with an output is not reported by firmwares: what is shown is what
// was last said, and nothing after a reset.
package outputs

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// Errors that callers tell apart.
var (
	ErrOutput = errors.New("there is no such output")
	ErrLevel  = errors.New("an output is set to 0 to 100 %")
)

// A Setting is what an output was last set to.
type Setting struct {
	machine.Output
	Known bool // it was set since the printer has begun
	Level float64
	By    string
	At    time.Time
}

// Now is every output.
type Now []Setting

// A Run is the run that goes on.
type Run interface {
	Brief() (file string, state run.State) // empty: none goes on
}

// Outputs is the part.
type Outputs struct {
	part.Plain
	loop    *part.Loop
	line    part.Line
	named   []machine.Output // in Setup
	list    Now
	by      map[string]string // of a line that was said and is not taken yet
	run     Run
	changed bool
	read    gcode.Line
}

// New returns the part.
func New(named []machine.Output, loop *part.Loop, line part.Line, r Run) *Outputs {
	o := &Outputs{loop: loop, line: line, named: named, by: map[string]string{}, run: r}
	o.forget()
	return o
}

// What a firmware reports that has a light, and one that can be dimmed.
const (
	lightCapability = "TOGGLE_LIGHTS"
	levelCapability = "CASE_LIGHT_BRIGHTNESS"
)

// forget lists what there is, all of it not set.
func (o *Outputs) forget() {
	all := slices.Clone(o.named)
	named := func(kind machine.OutputKind) bool {
		return slices.ContainsFunc(all, func(n machine.Output) bool { return n.Kind == kind && n.Number == 0 })
	}
	if !named(machine.Fan) {
		all = append([]machine.Output{machine.PartFan}, all...)
	}
	if o.line.Reports(lightCapability) && !named(machine.Light) {
		all = append(all, machine.Output{Name: "light", Kind: machine.Light, Levels: o.line.Reports(levelCapability)})
	}
	o.list = nil
	for _, out := range all {
		o.list = append(o.list, Setting{Output: out})
	}
	clear(o.by)
	o.changed = true
}

// Hear follows what is said.
func (o *Outputs) Hear(event any) bool {
	switch e := event.(type) {
	case *wire.Event:
		switch e.Kind {
		case wire.Acked:
			by := "a line that was typed"
			if e.Request.Lane == wire.File {
				by, _ = o.run.Brief()
			}
			o.take(e.Request.Command, by)
		case wire.Greeted:
			o.forget()
		}
	case part.Forgotten:
		o.forget()
	}
	return false
}

// take follows a line that the printer has taken.
func (o *Outputs) take(command, by string) {
	if name, ours := o.by[command]; ours {
		by = name
		delete(o.by, command)
	}
	if o.read.Parse([]byte(command)) != nil {
		return
	}
	for i := range o.list {
		if level, sets := o.list[i].Sets(&o.read); sets {
			s := &o.list[i]
			level = math.Round(level)
			o.changed = o.changed || !s.Known || s.Level != level || s.By != by
			s.Known, s.Level, s.By, s.At = true, level, by, o.loop.Wall()
		}
	}
}

// Tick shows everyone what has changed.
func (o *Outputs) Tick() {
	if o.changed {
		o.changed = false
		o.loop.Publish(o.Now())
	}
}

// Now is every output.
func (o *Outputs) Now() Now { return slices.Clone(o.list) }

// Names are those of the outputs.
func (o *Outputs) Names() []string {
	var out []string
	for _, s := range o.list {
		out = append(out, s.Name)
	}
	return out
}

// Give says what sets an output to a level, 0 to 100 %, and calls done when the printer
// has taken it. It belongs to the loop.
func (o *Outputs) Give(name string, level float64, by string, done func(error)) error {
	i := slices.IndexFunc(o.list, func(s Setting) bool { return s.Name == name })
	switch {
	case i < 0:
		return fmt.Errorf("%w: %q", ErrOutput, name)
	case !(level >= 0 && level <= 100):
		return fmt.Errorf("%w, and not to %g", ErrLevel, level)
	case !o.line.Live():
		return fmt.Errorf("%w: %s", part.ErrLost, o.line.Reason())
	}
	command := o.list[i].Command(level)
	o.by[command] = by
	o.line.Say(command, func(_ []string, err error) {
		if err != nil { // nobody has set it
			delete(o.by, command)
		}
		done(err)
	})
	return nil
}

// setWait is how long Set waits for the printer to take it.
const setWait = 5 * time.Second

// Set sets an output to a level, 0 to 100 %, and returns how all of them stand then. It
// may be called from anywhere.
func (o *Outputs) Set(ctx context.Context, name string, level float64, by string) (now Now, err error) {
	ctx, cancel := context.WithTimeout(ctx, setWait)
	defer cancel()
	done := make(chan error, 1)
	asked := o.loop.Ask(ctx, func() { err = o.Give(name, level, by, func(err error) { done <- err }) })
	if err = errors.Join(asked, err); err != nil {
		return nil, err
	}
	select {
	case err = <-done:
	case <-ctx.Done(): // it is taken later
	}
	asked = o.loop.Ask(context.WithoutCancel(ctx), func() { now = o.Now() })
	return now, errors.Join(err, asked)
}
