package performing

import (
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/jog"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/wire"
)

// do carries out what a performance wants.
func (p *Performing) do(effects []routine.Effect) {
	for _, e := range effects {
		p.carryOut(e)
	}
}

func (p *Performing) carryOut(e routine.Effect) {
	perf := p.perf
	over := func(lines []string, err error) {
		switch {
		case p.perf != perf:
		case err != nil:
			p.do(perf.Failed(p.world(), e.Number, err.Error()))
		default:
			p.do(perf.Done(p.world(), e.Number, lines))
		}
		p.look()
	}
	done := func(err error) { over(nil, err) }
	var refused error
	switch e.Kind {
	case routine.Shown:
		p.loop.Message(wire.Told, e.Text)
	case routine.Say:
		p.say(e.Lines, e.Moves, over)
	case routine.Heat:
		refused = p.heat.Give(e.Heater, e.To, "the routine "+p.record.Routine+" gave a setpoint", done)
	case routine.HeatersOff:
		p.heat.EndWarmUp("the routine " + p.record.Routine + " turned its heaters off")
		p.heat.TurnOff(func() { done(nil) })
	case routine.Output:
		refused = p.outputs.Give(e.Output, e.To, "the routine "+p.record.Routine, done)
	case routine.Park:
		p.park(e, over)
	case routine.Tune:
		refused = p.heat.BeginTuning(e.Heater, e.To, e.Cycles, done)
	case routine.SayBed:
		if refused = p.bed.Give(bed.State(e.Text), "the routine "+p.record.Routine, time.Time{}); refused == nil {
			done(nil)
		}
	case routine.KeepTuning:
		refused = p.heat.KeepTuning(e.Good, done)
	}
	if refused != nil {
		done(refused)
	}
}

func (p *Performing) park(e routine.Effect, over func([]string, error)) {
	at := p.where.Point()
	if !at.Knows() {
		over(nil, fmt.Errorf("%w: it cannot park; home it first", jog.ErrUnknown))
		return
	}
	p.say(append(p.cfg.Parking.Park(*at), e.Lines...), true, over)
}

// say says lines, each once the one before it is taken, and waits until nothing moves any
// more if they move something.
func (p *Performing) say(lines []string, moves bool, over func([]string, error)) {
	if moves {
		lines = append(slices.Clone(lines), "M400")
	}
	p.talk.SayEach(lines, p.allowed, over)
}

// allowed says why a line may not be said now, or nil.
func (p *Performing) allowed(line string) error {
	if err := p.run.Situation().Typed(line); err != nil || !pushes(line) {
		return err
	}
	return p.motion.Cold()
}

// pushes reports whether a line moves filament.
func pushes(line string) bool {
	var l gcode.Line
	if l.Parse([]byte(line)) != nil {
		return false
	}
	e, given := l.Value('E')
	return l.Is('G', 10) || l.Is('G', 11) || (l.Is('G', 0) || l.Is('G', 1)) && given && e != 0
}
