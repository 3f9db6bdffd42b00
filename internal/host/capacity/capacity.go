// Package capacity knows what the printer can hold: how many bytes and lines may be
// under way. Where nobody tells, it is measured once, while everything is cold and
// nothing is to be done.
package capacity

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
	"diathermon/internal/host/talk"
)

// Memory keeps what printers can hold, by what their firmware says of itself.
type Memory = part.Memory[map[string]wire.Holds]

// Now is what the printer can hold, and how that is known.
type Now struct {
	wire.Holds
	How How
}

// How is how it is known what a printer can hold.
type How string

// The ways of knowing.
const (
	Assumed    How = "assumed"    // what every board holds
	Told       How = "told"       // the firmware says so
	Configured How = "configured" // the owner says so
	Measured   How = "measured"
	Measuring  How = "measuring" // now
)

// ErrMeasure means that it cannot be measured now what the printer can hold.
var ErrMeasure = errors.New("it cannot be measured now what the printer can hold")

const (
	measureAfter = 3 * time.Second // without a word of anybody
	measureTries = 3               // for each conversation
	cold         = 45.0            // °C below which a heater that is off counts as cold
)

// Config is what a Capacity needs.
type Config struct {
	Wire       wire.Config
	Memory     Memory // nil: nobody keeps it
	Unmeasured bool   // it is not measured by itself
}

// Heaters tells whether they are cold.
type Heaters interface {
	Above(actual float64) heat.Heater // one that is on or hotter; empty: there is none
	Known() bool                      // the printer has reported some
	Taken() bool                      // a warm-up or a tuning has them
}

// A Run is the run that goes on.
type Run interface {
	Brief() (file string, state run.State) // empty: none goes on
}

// Capacity is the part.
type Capacity struct {
	part.Plain
	cfg     Config
	loop    *part.Loop
	talk    *talk.Talk
	heaters Heaters
	run     Run

	holds      wire.Holds    // that were measured; without bytes: they were not
	measures   int           // begun in this conversation
	remeasure  bool          // as soon as nothing is under way
	quietSince time.Duration // nothing has been said since then
}

// New returns the part.
func New(c Config, loop *part.Loop, t *talk.Talk, h Heaters) *Capacity {
	return &Capacity{cfg: c, loop: loop, talk: t, heaters: h}
}

// Attend says whose run it is that is not to be disturbed.
func (c *Capacity) Attend(r Run) { c.run = r }

// Hear takes what the conversation has found out.
func (c *Capacity) Hear(event any) bool {
	e, ok := event.(*wire.Event)
	switch {
	case !ok:
	case e.Kind == wire.Greeted:
		c.recall()
	case e.Kind == wire.Measured:
		c.measured(e.Holds)
	}
	return false
}

// Now tells what the printer can hold.
func (c *Capacity) Now() Now {
	w, f := c.cfg.Wire, c.talk.Now().Firmware
	switch {
	case c.remeasure || c.talk.Open() && c.talk.Conversation().Measuring():
		return Now{How: Measuring}
	case w.Buffer > 0:
		return Now{wire.Holds{Bytes: w.Buffer, Lines: max(w.Slots, f.Slots)}, Configured}
	case f.Buffer > 0:
		return Now{wire.Holds{Bytes: f.Buffer, Lines: max(w.Slots, f.Slots)}, Told}
	case c.holds.Bytes > 0:
		return Now{c.holds, Measured}
	}
	return Now{wire.Holds{Bytes: wire.AssumedBuffer, Lines: max(w.Slots, f.Slots)}, Assumed}
}

// identity is what the firmware says of itself.
func identity(f wire.Firmware) string { return f.Name + " / " + f.Machine }

// recall takes what is known of a printer that has just been greeted.
func (c *Capacity) recall() {
	c.holds, c.measures, c.remeasure, c.quietSince = wire.Holds{}, 0, false, c.loop.Now()
	if c.cfg.Memory == nil || c.cfg.Wire.Buffer > 0 || c.talk.Now().Firmware.Buffer > 0 {
		return
	}
	if known := c.cfg.Memory.Get()[identity(c.talk.Now().Firmware)]; known.Bytes > 0 {
		c.holds = known
		c.talk.Conversation().Learn(known)
	}
}

// unmeasurable says why it cannot be measured now what the printer can hold, or
// nothing.
func (c *Capacity) unmeasurable() string {
	file, _ := c.run.Brief()
	switch {
	case !c.talk.Live():
		return c.talk.Reason()
	case file != "":
		return fmt.Sprintf("%s is not done yet", file)
	case c.heaters.Taken():
		return "a heater is being used"
	case c.cfg.Wire.Buffer > 0 || c.talk.Now().Firmware.Buffer > 0:
		return "it is known: " + string(c.Now().How)
	case !c.talk.Conversation().Measurable():
		return "this firmware gets one line at a time, or tells too early that it has taken one"
	}
	if name := c.heaters.Above(cold); name != "" {
		return fmt.Sprintf("the %s is warm: it is done while everything is cold", name)
	}
	return ""
}

// Tick finds out what the printer can hold where nothing else is to be done, once.
func (c *Capacity) Tick() {
	if c.remeasure && (c.unmeasurable() != "" || c.talk.Conversation().Measure(c.loop.Now())) {
		c.remeasure = false
	}
	if c.cfg.Unmeasured || c.holds.Bytes > 0 || c.measures >= measureTries || !c.talk.Quiet() || !c.heaters.Known() {
		c.quietSince = c.loop.Now()
		return
	}
	if c.loop.Now()-c.quietSince < measureAfter || c.unmeasurable() != "" {
		return
	}
	if c.talk.Conversation().Measure(c.loop.Now()) {
		c.measures++
		c.loop.Decide("measuring what the printer can hold")
	}
}

// Measure finds out anew what the printer can hold. It takes some ten seconds; the
// bench tells the outcome. It may be called from anywhere.
func (c *Capacity) Measure(ctx context.Context) error {
	var refused error
	err := c.loop.Ask(ctx, func() {
		if why := c.unmeasurable(); why != "" {
			refused = fmt.Errorf("%w: %s", ErrMeasure, why)
		}
		c.remeasure = refused == nil && !c.talk.Conversation().Measuring()
	})
	return errors.Join(err, refused)
}

// measured takes what was found out.
func (c *Capacity) measured(found wire.Holds) {
	c.quietSince = c.loop.Now()
	if found.Bytes == 0 {
		c.loop.Decide("what the printer can hold could not be measured")
		return
	}
	c.holds = found
	c.loop.Decide("the printer holds %d bytes and %d lines besides", found.Bytes, found.Lines)
	c.loop.Log.Info("measured what the printer can hold", "bytes", found.Bytes, "lines_besides", found.Lines)
	if c.cfg.Memory != nil {
		all := map[string]wire.Holds{identity(c.talk.Now().Firmware): found}
		for printer, known := range c.cfg.Memory.Get() {
			if _, now := all[printer]; !now {
				all[printer] = known
			}
		}
		c.cfg.Memory.Set(all)
	}
	c.loop.Publish(c.talk.Now().Link)
}
