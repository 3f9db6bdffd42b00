package heat

import (
	"fmt"
	"time"
)

// Version is that of the guards: experience of another version is gained anew from
// the log.
const Version = 4

// Experience is what a heater's guards have learned of it.
type Experience struct {
	Version   int // of the guards that have looked at the log; another: it is not all yet
	Ways      Ways
	Standings map[GuardName]*Standing
	Scale     DutyScale
	Need      Need // which no log tells
}

// Learned is all that is kept of a heater.
type Learned struct {
	Learner
	Experience Experience
}

// With adds experience that was gained from the log to what was gained since.
func (e Experience) With(past Experience) Experience {
	out := Experience{Version: Version, Ways: past.Ways.with(e.Ways), Standings: map[GuardName]*Standing{}, Scale: DutyScale{e.Scale.Fine || past.Scale.Fine}, Need: e.Need}
	for _, name := range watching {
		var now, before Standing
		if s := e.Standings[name]; s != nil {
			now = *s
		}
		if s := past.Standings[name]; s != nil {
			before = *s
		}
		now = now.after(before)
		out.Standings[name] = &now
	}
	return out
}

// Kept is what of an experience counts at a start: all of it, or, where it is of other
// guards or the log was not looked at to its end, what does not come from the log: how
// duties are told, and what persons have said.
func (e Experience) Kept() Experience {
	if e.Version == Version {
		return e
	}
	out := Experience{Scale: e.Scale}
	for name, s := range e.Standings {
		said := Standing{Fixed: s.Fixed, Sound: s.Sound, Faults: s.Faults, Allowed: s.Allowed}
		if said == (Standing{}) {
			continue
		}
		if out.Standings == nil {
			out.Standings = map[GuardName]*Standing{}
		}
		out.Standings[name] = &said
	}
	return out
}

// after is a standing that goes on from an earlier one.
func (s Standing) after(past Standing) Standing {
	if s.Closest < near && s.Sound == 0 { // nothing has come near since
		s.Quiet += past.Quiet
	}
	s.Seen, s.Claimed = s.Seen+past.Seen, s.Claimed+past.Claimed
	if past.Closest > s.Closest {
		s.Closest, s.ClosestAt = past.Closest, past.ClosestAt
	}
	return s
}

// Paced is a time by a clock that runs so many times faster.
func Paced(d time.Duration, pace float64) time.Duration {
	if pace == 1 || pace <= 0 {
		return d
	}
	return time.Duration(float64(d) * pace)
}

// Around is how hot the hottest of a heater's neighbours is, °C: of those that can
// warm it. A nozzle warms no bed.
func Around(h Heater, last map[Heater]Reading) float64 {
	hottest := 0.0
	_, nozzle := h.Tool()
	for other, r := range last {
		if _, its := other.Tool(); other != h && (nozzle || !its) {
			hottest = max(hottest, r.Actual)
		}
	}
	return hottest
}

// A Trial lets the guards look at a log: what they would have said, and what they
// would have learned.
type Trial struct {
	Alarms []Alarm // the oldest first

	limits Limits
	pace   float64
	begun  time.Time
	guards map[Heater]*Guard
	climbs map[Heater]*Learner // of which only the warm-ups are followed
	last   map[Heater]Reading
}

// NewTrial returns a trial of guards that know nothing, of a printer whose clock runs
// so many times faster than the log's: 1 for every printer but a stand-in.
func NewTrial(limits Limits, pace float64) *Trial {
	return &Trial{limits: limits, pace: pace, guards: map[Heater]*Guard{}, climbs: map[Heater]*Learner{}, last: map[Heater]Reading{}}
}

// Note takes a reading of the log; the oldest comes first.
func (t *Trial) Note(s Sample) {
	if t.begun.IsZero() {
		t.begun = s.At
	}
	g := t.guards[s.Heater]
	if g == nil {
		g = &Guard{Heater: s.Heater, Limit: t.limits.Of(s.Heater)}
		t.guards[s.Heater], t.climbs[s.Heater] = g, &Learner{}
	}
	if s.HasSetpoint {
		t.climbs[s.Heater].followClimb(moment{at: s.At.Sub(t.begun).Seconds() + 1, actual: s.Actual}, s.Setpoint)
	}
	t.last[s.Heater] = s.Reading
	for _, a := range g.Note(s.At, Paced(s.At.Sub(t.begun), t.pace)+time.Second, s.Reading, Around(s.Heater, t.last)) {
		a.At = s.At
		t.Alarms = append(t.Alarms, a)
	}
}

// Learned is what the guards have learned, and the last warm-ups.
func (t *Trial) Learned() map[Heater]Learned {
	out := map[Heater]Learned{}
	for h, g := range t.guards {
		out[h] = Learned{Learner: Learner{Climbs: t.climbs[h].Climbs}, Experience: g.Experience}
	}
	return out
}

// Bound lets a guard do so much at the most, or, with an empty action, what it earns.
func (g *Guard) Bound(name GuardName, most Action) {
	g.Standing(name).Fixed = most
}

// Blind says what a guard cannot see of this heater; empty: nothing.
func (g *Guard) Blind(name GuardName) string {
	if len(g.past) == 0 || g.proven && g.past[len(g.past)-1].at-g.told <= untold {
		return ""
	}
	switch name {
	case Runaway:
		return fmt.Sprintf("no duty is told: only heat from %.0f K above the setpoint on is seen", max(boundsOf(g.Heater).above, learnedTimes*g.Ways.Overshoot))
	case Frozen:
		return "no duty is told: only a reading that stands still for far longer than ever is seen"
	case Growing:
		return "no duty is told: a sensor that slips slowly is not seen"
	case NoRise, SlowRise:
		return fmt.Sprintf("no duty is told: a heater that is more than %.0f K below its setpoint is taken to be given all there is, and the guard does what it has earned", boundsOf(g.Heater).low)
	}
	return ""
}
