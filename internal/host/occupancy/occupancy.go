// Package occupancy keeps what is known of the bed between prints: occupied by a run that
// lays plastic on it, clear when a person or a routine says so.
//
// It promises that a bed on which something was laid is not taken for clear before
// somebody says so, over restarts and power cuts: what is kept on disk is occupied from
// the first plastic on. It leaves to preflight what that keeps from starting.
package occupancy

import (
	"context"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/host/part"
)

// Memory keeps it.
type Memory = part.Memory[bed.Kept]

// Now is what is known of the bed.
type Now bed.Bed

// A Run is the run that goes on.
type Run interface {
	Lying() string // the file whose plastic lies on the bed; empty: no run goes on that has laid any
}

// Occupancy is the part.
type Occupancy struct {
	part.Plain
	loop   *part.Loop
	memory Memory
	run    Run
	now    bed.Bed
}

// New returns the part of a bed as it was found; nothing is kept without a memory.
func New(found bed.Bed, m Memory, loop *part.Loop) *Occupancy {
	if found.State == "" {
		found = bed.New(loop.Wall())
	}
	return &Occupancy{loop: loop, memory: m, now: found}
}

// Attend tells the part of the run.
func (o *Occupancy) Attend(r Run) { o.run = r }

// Now is what is known of it. It belongs to the loop.
func (o *Occupancy) Now() Now { return Now(o.now) }

// Lay notes that a run has laid its first plastic. It belongs to the loop.
func (o *Occupancy) Lay(run, file string) { o.become(o.now.Lay(run, file, o.loop.Wall())) }

// Give notes what somebody says of it, who has seen it as it is since seen; zero: or not.
// It belongs to the loop.
func (o *Occupancy) Give(s bed.State, by string, seen time.Time) error {
	b, err := o.now.Say(s, by, seen, o.run.Lying(), o.loop.Wall())
	if err == nil {
		o.become(b)
	}
	return err
}

// Say notes what somebody says of it and returns what is known then. It may be called from
// anywhere.
func (o *Occupancy) Say(ctx context.Context, s bed.State, by string, seen time.Time) (now Now, err error) {
	if asked := o.loop.Ask(ctx, func() { err = o.Give(s, by, seen); now = o.Now() }); asked != nil {
		return now, asked
	}
	return now, err
}

// State is what is known of it. It may be called from anywhere.
func (o *Occupancy) State(ctx context.Context) (now Now, err error) {
	err = o.loop.Ask(ctx, func() { now = o.Now() })
	return now, err
}

// become is the one place where it changes.
func (o *Occupancy) become(b bed.Bed) {
	if b == o.now {
		return
	}
	o.now = b
	o.loop.Decide("the bed is %s: %s", b.State, b.Why)
	o.loop.Publish(o.Now())
	if o.memory != nil {
		o.memory.Set(bed.Kept{Bed: b})
	}
}
