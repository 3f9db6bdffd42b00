package run

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// cutOff leaves a run that the printer or the host is out of reach for, so that it
// can go on.
func (l *Life) cutOff(e Event, m Machine) {
	gone := absent{Was: kept{before(l.stage)}, Reason: l.record.Reason, Bed: m.At.Setpoints[heat.Bed], Lost: l.lost, since: m.Now}
	switch s := l.stage.(type) {
	case away:
		gone = s.absent
	case rejoining:
		gone = s.absent
	case forgotten:
		gone = s.absent
	case returning:
		gone.Reason = "its way back to the part was cut off: resume it once more"
		if s.Wish.To == ToHold {
			gone.Reason = s.Wish.Reason
		}
	case fresh:
		gone.Was = kept{l.onward()}
	}
	gone.Lost = gone.Lost || e.On == OnReset
	reason := e.Reason
	if e.On == OnBack {
		reason = "the host went away in the middle of it"
		if _, done := l.stage.(finishing); l.record.State != Interrupted && !done { // every line is taken then: the file has had its last word on the bed
			gone.Bed = l.file.Setpoints[heat.Bed]
		}
	}
	first := l.record.State != Interrupted
	l.enter(away{gone}, reason, m)
	l.do(Effect{Do: DoDrop})
	if first && e.On != OnBack {
		l.do(Effect{Do: DoRecording})
	}
}

// rejoin goes on with a run on a printer that has kept its place: number is the last
// line it took.
func (l *Life) rejoin(number int, m Machine) {
	s := l.stage.(away)
	switch {
	case s.Was.name() == PickingUp:
		l.forget("the printer was out of reach while the run was being picked up", m)
		return
	case s.Lost:
		l.forget("the printer has forgotten where it was", m)
		return
	}
	l.SaidBelow(number + 1)
	l.SaidMore(0) // the printer has told
	taken := min(l.ledger.Commands(number), l.file.Commands)
	if s.After == nil {
		after := l.ledger.Taken
		s.After = &after
	}
	l.record.Taken, l.said, l.ledger.Taken = taken, taken, number
	l.enter(rejoining{absent: s.absent}, l.record.Reason, m)
	l.do(Effect{Do: DoReplay, Number: number, After: *s.After})
}

// rejoinAnew begins once more with another number: the printer's count was not certain, and
// was asked for anew. What was done to the heaters meanwhile stays done.
func (l *Life) rejoinAnew(number int, m Machine) {
	s := l.stage.(rejoining)
	l.stage = away{s.absent}
	l.do(Effect{Do: DoDrop})
	l.rejoin(number, m)
	if again, is := l.stage.(rejoining); is {
		again.cool, again.cooled = s.cool, s.cooled
		l.stage = again
	}
}

// replayed notes where the lines lead that the printer has taken.
func (l *Life) replayed(e Event, m Machine) {
	s := l.stage.(rejoining)
	if e.Reason != "" {
		l.enter(s, "the file cannot be read again: "+e.Reason, m)
		return
	}
	l.do(Effect{Do: DoPoint, Point: e.Lead.Point})
	s.heats = e.Lead.Given
	if s.cool != "" {
		s.cooled = maps.Clone(e.Lead.Setpoints)
	}
	s.replayed = true
	l.stage = s
	l.askWhere(m)
}

// askWhere lets every move be made and asks where the printer is then: once it is certain
// what it has taken, for until then an ok may be for a line of before, and what comes with it
// no answer.
func (l *Life) askWhere(m Machine) {
	s := l.stage.(rejoining)
	if !s.replayed || s.token != 0 || !m.Sure {
		return
	}
	s.errand = l.errand([]string{"M400", "M114"})
	l.stage = s
}

// coolMeanwhile remembers the setpoints of a run that has just been found again as
// the heaters are turned off; it does not go on by itself then.
func (l *Life) coolMeanwhile(reason string, m Machine) {
	s := l.stage.(rejoining)
	if s.cool == "" && s.replayed { // otherwise the lines will tell
		s.cooled = maps.Clone(m.At.Setpoints)
	}
	s.cool = reason
	l.stage = s
}

// nearEnough is how far, in mm, a position report may be from where the file's
// lines lead. Reports have two decimals.
const nearEnough = 0.06

// compare holds where the printer says it is against where the run's lines lead, and
// lets the run go on.
func (l *Life) compare(e Event, m Machine) {
	s := l.stage.(rejoining)
	var ours bool
	if s.errand, ours = l.done(s.errand, e); !ours {
		return
	}
	l.stage = s
	if len(s.rest) > 0 {
		return
	}
	if away := elsewhere(e.Where, m.At); away != "" {
		l.waitAtPart(away, m)
		return
	}
	if cold := turnedOff(m); cold != "" && s.cool == "" {
		s.cool = fmt.Sprintf("the printer kept its place and has turned the %s off", cold)
	}
	switch was := s.Was.stage.(type) {
	case parked:
		was.Drawn = m.At.At[gcode.E] < was.Back.At[gcode.E]-0.01
		was.since = m.Now
		was.Idled = was.Idled || s.cool != ""
		coming := was.Coming && s.cool == "" && m.Alarm == "" && !l.rules.ByHand
		if was.Coming && s.cool != "" {
			s.Reason = s.cool + ": resume heats up first"
		}
		was.Coming = false
		l.enter(was, s.Reason, m)
		if coming { // somebody has resumed it, and nothing is otherwise since
			l.comeBack(m)
		}
		return
	case settling:
		l.settle(was.heatedBy(s), Wish{}, s.Reason, m)
		return
	case paused:
		l.enter(paused{was.heatedBy(s)}, s.Reason, m)
		return
	case soaking:
		if s.cool == "" && !l.rules.ByHand {
			l.soakFor(was.For, m)
			return
		}
	}
	switch {
	case s.cool != "":
		l.waitAtPart(s.cool+": resume heats up first", m)
	case l.rules.ByHand:
		l.waitAtPart("the printer kept its place: resume when you like", m)
	default:
		l.enter(s.Was.stage, "", m)
		l.do(Effect{Do: DoTell, Text: fmt.Sprintf("%s goes on by itself at line %d: the printer had kept its place (%s)", l.file.Name, l.record.Taken+1, (m.Now - s.since).Round(time.Second))})
	}
}

// elsewhere says where the printer is, if that is not where the lines lead.
func elsewhere(where *gcode.Position, at Point) string {
	if where == nil {
		return ""
	}
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		if !(math.Abs(where[axis]-at.At[axis]) <= nearEnough) {
			return fmt.Sprintf("the printer kept its count of lines but says it is at %c %.2f, and the file's lines lead to %.2f: look at the part, then resume or stop", gcode.Letters[axis], where[axis], at.At[axis])
		}
	}
	return ""
}

// turnedOff names a heater whose setpoint is not what the lines gave it.
func turnedOff(m Machine) string {
	for _, heater := range slices.Sorted(maps.Keys(m.At.Setpoints)) {
		setpoint := m.At.Setpoints[heater]
		if told, tells := m.Reported[heater]; setpoint > 0 && tells && math.Abs(told-setpoint) > 0.6 {
			return string(heater)
		}
	}
	return ""
}

// waitAtPart holds a run that has just been found again, with the nozzle where it is.
func (l *Life) waitAtPart(reason string, m Machine) {
	s, h, back := l.stage.(rejoining), held{Idled: true}, m.At.Clone()
	if was, is := s.Was.stage.(soaking); is {
		h.Soak = &was.For
	}
	if s.cooled != nil {
		back.Setpoints = s.cooled
	}
	l.enter(parked{held: h, Back: back, There: true, since: m.Now}, reason, m)
}

// forget offers a run for pick-up on a printer that has forgotten everything, and
// keeps the bed hot meanwhile, so that the part stays held.
func (l *Life) forget(reason string, m Machine) {
	s := forgotten{absent: l.stage.(away).absent}
	s.Lost = true
	reason += ": it can be picked up by a plan, or given up"
	if s.Bed > 0 && l.rules.KeepBed > 0 {
		s.bedUntil = m.Now + l.rules.KeepBed
		reason += fmt.Sprintf("; the bed is kept at %g °C until %s", s.Bed, m.Wall.Add(l.rules.KeepBed).Local().Format("15:04"))
		l.say(heat.SetCommand(heat.Bed, s.Bed))
	}
	l.enter(s, reason, m)
}

// coolBed lets the bed of a run that nobody picks up go cold.
func (l *Life) coolBed(m Machine) {
	s := l.stage.(forgotten)
	if s.bedUntil == 0 || m.Now < s.bedUntil || !m.Live {
		return
	}
	s.bedUntil = 0
	l.say(heat.SetCommand(heat.Bed, 0))
	l.enter(s, l.record.Reason+"; the bed was let go cold, because nobody picked it up", m)
}

// ready says why nothing may be begun on the machine now, or nil.
func (m Machine) ready() error {
	switch {
	case m.Alarm != "":
		return fmt.Errorf("%w: %s", ErrAlarm, m.Alarm)
	case !m.Live:
		return fmt.Errorf("%w: %s", ErrLive, m.Why)
	}
	return nil
}

// pickUp carries out a plan and goes on with the file behind it.
func (l *Life) pickUp(p Plan, m Machine) error {
	if err := m.ready(); err != nil {
		return err
	}
	l.counts(p.Command, m)
	l.do(Effect{Do: DoPoint})
	l.enter(pickingUp{Layer: p.Layer, errand: l.errand(p.Commands())}, fmt.Sprintf("being picked up at layer %d: heating, then homing X and Y", p.Layer), m)
	return nil
}

// notYet says why a run cannot be picked up now.
func (l *Life) notYet(m Machine) error {
	if err := m.ready(); err != nil {
		return err
	}
	return fmt.Errorf("%w: the printer has kept its place and is being asked; wait a moment", ErrState)
}
