package routine

import (
	"slices"

	"diathermon/internal/core/heat"
)

// leave begins to make what is safe.
func (p *Performance) leave(state State, why string) {
	p.State, p.ending, p.Why = Leaving, state, why
	p.Question, p.waiting, p.pending = nil, nil, 0
	p.leaving = p.safe()
}

// end leaves, unless it has left already.
func (p *Performance) end(w World, state State, why string) []Effect {
	if p.State.Over() || p.State == Leaving {
		return nil
	}
	p.leave(state, why)
	return p.on(&w)
}

// safe is what it takes to leave. What it takes that cannot be done is left out, and
// heaters come first.
func (p *Performance) safe() []Effect {
	var out []Effect
	modes := p.modes()
	if p.ending != Finished {
		s := p.Routine.Safe
		switch {
		case s.HeatersOff:
			out = append(out, Effect{Kind: HeatersOff})
		default:
			for _, h := range p.machine.Heaters {
				to := 0.0
				if !p.cut {
					to = p.before.Heaters[h].Setpoint
				}
				if p.raised[h] {
					out = append(out, Effect{Kind: Heat, Heater: h, To: to})
				}
			}
		}
		if s.Up > 0 {
			out = append(out, Effect{Kind: Say, Lines: nil, To: s.Up, Moves: true})
		}
		if s.OutputsOff {
			for _, name := range p.switched {
				out = append(out, Effect{Kind: Output, Output: name})
			}
		}
		if s.MotorsOff {
			return append(out, Effect{Kind: Say, Lines: append(modes, "M84")})
		}
	}
	return append(out, Effect{Kind: Say, Lines: modes})
}

// modes are lines that bring back how lines were read before.
func (p *Performance) modes() []string {
	out := []string{"G90", "M82"}
	if p.before.Relative {
		out[0] = "G91"
	}
	if p.before.RelativeExtruder {
		out[1] = "M83"
	}
	for _, f := range given {
		if before, known := p.before.Factors[f.code]; known && slices.Contains(p.factors, f.code) {
			out = append(out, f.line(before))
		}
	}
	return out
}

// Abandoned is a performance that nobody performs any more, as its process has ended: it
// makes what its routine names as safe once Back tells that the printer answers. What it
// had done by then is not known, so that every heater is taken for one that it has heated,
// and every output for one that it has set.
func Abandoned(r *Routine, m Machine, w World, why string) *Performance {
	p := &Performance{Routine: r, State: Leaving, Why: why, machine: m, begun: w.Now, raised: map[heat.Heater]bool{}, switched: m.Outputs, ending: Broken, cut: true, away: true}
	p.before.Factors = w.Factors
	for _, f := range given {
		p.factors = append(p.factors, f.code)
	}
	for _, h := range m.Heaters {
		p.raised[h] = true
	}
	p.leaving = p.safe()
	return p
}

// next is what is to be done next while it leaves.
func (p *Performance) next(w *World) (Effect, bool) {
	if len(p.leaving) == 0 {
		p.State = p.ending
		why := string(p.ending)
		if p.Why != "" {
			why += ": " + p.Why
		}
		p.note(w, Ended, why)
		return Effect{}, false
	}
	e := p.leaving[0]
	p.leaving = p.leaving[1:]
	if e.Kind == Say && e.Lines == nil {
		if e.Lines = p.up(w, e.To); e.Lines == nil {
			return e, false
		}
		e.Lines = append(e.Lines, p.modes()...)
	}
	p.told(w, e)
	p.last = e
	return p.effect(e), true
}
