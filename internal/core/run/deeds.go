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

// begin counts the lines from here, and lets the bed soak first if it is to.
func (l *Life) begin(soak *time.Duration, m Machine) error {
	l.counts(0, m)
	l.do(Effect{Do: DoLane, Open: true})
	l.do(Effect{Do: DoShow})
	if soak != nil {
		l.soakFor(*soak, m)
	}
	return nil
}

// counts notes from which line number on the file's lines are said.
func (l *Life) counts(command int, m Machine) {
	l.keep(Entry{Kind: Counts, Number: m.Next, Command: command, Printer: m.Printer}, m)
}

func (l *Life) soakFor(d time.Duration, m Machine) {
	if l.record.Started.IsZero() {
		l.record.Started = m.Wall
	}
	l.enter(soaking{d}, "the bed soaks before the first line", m)
	l.do(Effect{Do: DoSoak, Soak: d})
}

// soak is the soak that goes on; nil if none does.
func (l *Life) soak() *time.Duration {
	if s, is := l.stage.(soaking); is {
		return &s.For
	}
	return nil
}

// onward is the stage in which the file's lines are said.
func (l *Life) onward() stage {
	if len(l.file.Setpoints) > 0 && (l.file.First == 0 || l.record.Taken < l.file.First) {
		return heating{}
	}
	return drawing{}
}

// launch begins the run's time as its first line is said.
func (l *Life) launch(m Machine) {
	l.record.Started = m.Wall
	l.enter(l.onward(), "", m)
}

// lay notes the first plastic.
func (l *Life) lay(m Machine) {
	if l.file.First > 0 && l.record.Taken >= l.file.First {
		l.enter(drawing{}, "", m)
	}
}

// settle keeps the file's lines back until those under way are taken.
func (l *Life) settle(h held, w Wish, reason string, m Machine) {
	h.Idled = h.Idled || h.Cooled != nil
	l.enter(settling{h, w}, reason, m)
	l.settled(m)
}

// settled takes the nozzle off the part once every line that was said is taken.
func (l *Life) settled(m Machine) {
	s := l.stage.(settling)
	if l.said != l.record.Taken {
		return
	}
	next := leaving{held: s.held, Wish: s.Wish}
	next.errand = l.errand([]string{"M400"})
	l.enter(next, l.record.Reason, m)
}

// askedByFile holds the run behind the line that asks for it, which the printer does
// not get.
func (l *Life) askedByFile(reason string, m Machine) {
	l.do(Effect{Do: DoSkip})
	l.counts(l.record.Taken+1, m) // a command without a number
	l.settle(held{}, Wish{}, reason, m)
}

// stillTaken follows the lines under way. One that heats was on its way as the
// heaters were turned off.
func (l *Life) stillTaken(heats bool, m Machine) {
	switch s := l.stage.(type) {
	case settling:
		if s.Cooled != nil && heats {
			s.Cooled = maps.Clone(m.At.Setpoints)
			l.enter(s, l.record.Reason, m)
		}
		l.settled(m)
	case paused:
		if s.Cooled != nil && heats {
			s.Cooled = maps.Clone(m.At.Setpoints)
			l.enter(s, l.record.Reason, m)
		}
	}
}

// leave goes on with the way off the part: first every move is made, which shows
// where it goes on; then the nozzle leaves.
func (l *Life) leave(e Event, m Machine) {
	s := l.stage.(leaving)
	var ours bool
	if s.errand, ours = l.done(s.errand, e); !ours {
		return
	}
	if len(s.rest) > 0 {
		l.stage = s
		return
	}
	if s.Back == nil {
		back := m.At.Clone()
		if s.Cooled != nil { // it is heated to what was, not to what was made of it
			back.Setpoints, s.Cooled = s.Cooled, nil
		}
		s.Back, s.Drawn = &back, m.Hot && back.Knows()
		s.errand = l.errand(l.rules.Parking.Hold(back, m.Hot, l.file.Part))
		l.enter(s, l.record.Reason, m)
		if len(s.rest) > 0 {
			return
		}
	}
	l.enter(parked{held: s.held, Back: *s.Back, Drawn: s.Drawn, since: m.Now}, l.record.Reason, m)
	if s.Wish.To == ToResume {
		l.comeBack(m)
	}
}

// holdAgain holds a run that is held: what was asked for since is not done.
func (l *Life) holdAgain(reason string, m Machine) error {
	switch s := l.stage.(type) {
	case settling:
		if s.Wish.To == ToResume {
			l.wish(Wish{}, reason, m)
			return nil
		}
	case leaving:
		if s.Wish.To == ToResume {
			l.wish(Wish{}, reason, m)
			return nil
		}
	}
	return fmt.Errorf("%w: it is held already", ErrState)
}

// wish notes what is to come as soon as the run is where it is going.
func (l *Life) wish(w Wish, reason string, m Machine) {
	switch s := l.stage.(type) {
	case settling:
		s.Wish = w
		l.enter(s, reason, m)
	case leaving:
		s.Wish = w
		l.enter(s, reason, m)
	case returning:
		s.Wish = w
		l.enter(s, reason, m)
	case pickingUp:
		s.Wish = w
		l.enter(s, reason, m)
	}
}

// remember keeps the setpoints of a held run whose heaters are about to be turned
// off. What was remembered before that is not what they are then.
func (l *Life) remember(m Machine) {
	switch s := l.stage.(type) {
	case settling:
		s.remember(m)
		l.enter(s, l.record.Reason, m)
	case leaving:
		if s.Back == nil {
			s.remember(m)
		}
		s.Idled = true
		l.enter(s, l.record.Reason, m)
	case parked:
		s.Idled = true
		l.enter(s, l.record.Reason, m)
	case paused:
		s.remember(m)
		l.enter(s, l.record.Reason, m)
	}
}

func (h *held) remember(m Machine) {
	h.Idled = true
	if h.Cooled == nil {
		h.Cooled = maps.Clone(m.At.Setpoints)
	}
}

// heatedBy remembers what lines have heated to that were taken while nobody saw it,
// on their way as the heaters were turned off; or what they had been when the heaters
// were turned off since.
func (h held) heatedBy(s rejoining) held {
	if h.Cooled != nil {
		h.Cooled = maps.Clone(h.Cooled)
		maps.Copy(h.Cooled, s.heats)
	} else if s.cooled != nil {
		h.Cooled, h.Idled = s.cooled, true
	}
	return h
}

// idle lets the nozzle of a run that is parked for long go cold; the bed stays.
func (l *Life) idle(m Machine) {
	s := l.stage.(parked)
	if s.Idled || l.rules.IdleAfter <= 0 || m.Now-s.since < l.rules.IdleAfter {
		return
	}
	for _, heater := range slices.Sorted(maps.Keys(m.At.Setpoints)) {
		if _, nozzle := heater.Tool(); nozzle && m.At.Setpoints[heater] > 0 {
			l.say(heat.SetCommand(heater, 0))
		}
	}
	s.Idled = true
	l.enter(s, fmt.Sprintf("%s; the nozzle cools after %s, the bed stays hot", l.record.Reason, l.rules.IdleAfter), m)
}

// resume lets a held run go on, as soon as it can.
func (l *Life) resume(m Machine) error {
	if m.Alarm != "" {
		return fmt.Errorf("%w: %s", ErrAlarm, m.Alarm)
	}
	const soon = "on its way off the part; it comes back at once"
	switch s := l.stage.(type) {
	case settling:
		if s.Cooled == nil {
			l.goOn(s.held, Wish{}, m)
		} else { // what was turned off is to be warm again first
			l.wish(Wish{To: ToResume}, soon, m)
		}
	case leaving:
		l.wish(Wish{To: ToResume}, soon, m)
	case parked:
		l.comeBack(m)
	case returning:
		l.wish(Wish{}, l.record.Reason, m)
	case cutShort:
		next := returning(s)
		rest := slices.DeleteFunc(slices.Clone(s.rest), heats)
		next.errand = l.errand(append(slices.Clone(s.heating), rest...))
		l.enter(next, "heating up again, and coming back", m)
		l.arrive(m)
	case paused:
		if s.Cooled == nil {
			l.goOn(s.held, Wish{}, m)
		} else {
			l.settle(s.held, Wish{To: ToResume}, soon, m)
		}
	}
	return nil
}

// comeBack heats up, primes and goes back to where the run was held.
func (l *Life) comeBack(m Machine) {
	s := l.stage.(parked)
	to := s.Back.Clone()
	for heater, setpoint := range m.At.Setpoints { // what a person changed meanwhile holds
		if _, nozzle := heater.Tool(); setpoint > 0 && !(s.Idled && nozzle) && to.Setpoints != nil {
			to.Setpoints[heater] = setpoint
		}
	}
	next := returning{held: s.held, Back: s.Back, Drawn: s.Drawn}
	next.errand = l.errand(l.rules.Parking.Resume(to, s.Drawn))
	l.enter(next, "heating up, priming and coming back", m)
	l.arrive(m)
}

// comeOn goes on with the way to the part.
func (l *Life) comeOn(e Event, m Machine) {
	switch s := l.stage.(type) {
	case returning:
		s.errand, _ = l.done(s.errand, e)
		l.stage = s
	case pickingUp:
		s.errand, _ = l.done(s.errand, e)
		l.stage = s
	}
	l.arrive(m)
}

// arrive lets the file's lines go on once the nozzle is where they do.
func (l *Life) arrive(m Machine) {
	switch s := l.stage.(type) {
	case returning:
		if len(s.rest) == 0 {
			l.goOn(held{Soak: s.Soak}, s.Wish, m)
		}
	case pickingUp:
		if len(s.rest) == 0 {
			l.goOn(held{}, s.Wish, m)
		}
	}
}

// goOn lets the file's lines go on from where the nozzle is, unless it is wished
// that the run be held again, before any of them is said.
func (l *Life) goOn(h held, w Wish, m Machine) {
	switch {
	case w.To == ToHold:
		l.settle(held{Soak: h.Soak}, Wish{}, w.Reason, m)
	case h.Soak != nil:
		l.soakFor(*h.Soak, m)
	default:
		l.enter(l.onward(), "", m)
	}
}

// cutShort breaks off the way to the part as the heaters are turned off. What was
// not said of it waits for a person.
func (l *Life) cutShort(reason string, m Machine) {
	switch s := l.stage.(type) {
	case returning:
		s.Wish = Wish{}
		l.enter(cutShort(s), reason, m)
	case pickingUp:
		l.enter(cutShort{Picking: true, errand: s.errand}, reason, m)
	}
}

// finish waits until the last moves are made.
func (l *Life) finish(m Machine) {
	if l.record.Taken < l.file.Commands {
		return
	}
	l.enter(finishing{errand: l.errand([]string{"M400"})}, "", m)
}

// finished ends a run whose moves are made and whose lines are all taken for
// certain.
func (l *Life) finished(e Event, m Machine) {
	s := l.stage.(finishing)
	var ours bool
	if s.errand, ours = l.done(s.errand, e); ours {
		s.played = true
	}
	l.stage = s
	if s.played && m.Sure {
		l.end(Finished, "", m)
	}
}

// stop ends the run early: nothing more of the file is said, a wait for heat and the
// moves under way are broken off, heaters and fan are turned off, and the nozzle
// leaves the part.
func (l *Life) stop(reason string, m Machine) {
	if !m.Live {
		l.off()
		l.end(Stopped, reason, m)
		return
	}
	aside := l.aside()
	l.enter(stopping{Aside: aside, Hot: m.Hot}, reason, m)
	l.do(Effect{Do: DoDrop})
	if m.AtOnce && !aside {
		l.do(Effect{Do: DoUrge, Command: "M410"}) // breaks off the moves that are planned
	}
	l.off()
}

func (l *Life) off() { l.do(Effect{Do: DoOff}) }

// aside reports whether the nozzle is off the part, or where it is is not known.
func (l *Life) aside() bool {
	switch s := l.stage.(type) {
	case parked:
		return !s.There
	case rejoining:
		was, is := s.Was.stage.(parked)
		return is && !was.There
	}
	return l.Stage() == Forgotten
}

// stopOn goes on with a stop: once the heaters are off, the nozzle leaves.
func (l *Life) stopOn(e Event, m Machine) {
	s := l.stage.(stopping)
	if e.On == OnOff {
		var commands []string
		if !s.Aside {
			commands = l.rules.Parking.Stop(m.At, s.Hot, l.file.Part)
		}
		s.errand = l.errand(commands)
	} else if s.errand, _ = l.done(s.errand, e); s.token == 0 {
		return // the heaters are not off yet
	}
	l.stage = s
	if len(s.rest) == 0 {
		l.end(Stopped, l.record.Reason, m)
	}
}

// end brings the run to its final state.
func (l *Life) end(s State, reason string, m Machine) {
	l.record.Ended = m.Wall
	l.enter(over{s}, reason, m)
	l.do(Effect{Do: DoDrop})
	if s != Finished {
		l.do(Effect{Do: DoRecording})
	}
	l.do(Effect{Do: DoClose})
}

// cutOff leaves a run that the printer or the host is out of reach for, so that it
// can go on.
func (l *Life) cutOff(e Event, m Machine) {
	gone := absent{Was: kept{before(l.stage)}, Reason: l.record.Reason, Bed: m.At.Setpoints[heat.Bed], Lost: l.lost || e.On == OnReset, since: m.Now}
	switch s := l.stage.(type) {
	case away:
		gone = s.absent
	case rejoining:
		gone = s.absent
	case forgotten:
		gone = s.absent
	case fresh:
		gone.Was = kept{l.onward()}
	}
	gone.Lost = gone.Lost || e.On == OnReset
	reason := e.Reason
	if e.On == OnBack {
		reason = "the host went away in the middle of it"
		if l.record.State != Interrupted {
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
	taken := min(l.ledger.Commands(number), l.file.Commands)
	after := l.ledger.Taken
	l.record.Taken, l.said, l.ledger.Taken = taken, taken, number
	l.enter(rejoining{absent: s.absent}, l.record.Reason, m)
	l.do(Effect{Do: DoReplay, Number: number, After: after})
}

// replayed lets every move be made and asks where the printer is then.
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
	s.errand = l.errand([]string{"M400", "M114"})
	l.stage = s
}

// coolMeanwhile remembers the setpoints of a run that has just been found again as
// the heaters are turned off; it does not go on by itself then.
func (l *Life) coolMeanwhile(reason string, m Machine) {
	s := l.stage.(rejoining)
	if s.cool == "" && s.token != 0 { // otherwise the lines will tell
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
		l.enter(was, s.Reason, m)
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

// pickUp carries out a plan and goes on with the file behind it.
func (l *Life) pickUp(p Plan, m Machine) error {
	switch {
	case m.Alarm != "":
		return fmt.Errorf("%w: %s", ErrAlarm, m.Alarm)
	case !m.Live:
		return fmt.Errorf("%w: %s", ErrLive, m.Why)
	}
	l.counts(p.Command, m)
	l.do(Effect{Do: DoPoint})
	l.enter(pickingUp{Layer: p.Layer, errand: l.errand(p.Commands())}, fmt.Sprintf("being picked up at layer %d: heating, then homing X and Y", p.Layer), m)
	return nil
}

// notYet says why a run cannot be picked up now.
func (l *Life) notYet(m Machine) error {
	switch {
	case m.Alarm != "":
		return fmt.Errorf("%w: %s", ErrAlarm, m.Alarm)
	case !m.Live:
		return fmt.Errorf("%w: %s", ErrLive, m.Why)
	}
	return fmt.Errorf("%w: the printer has kept its place and is being asked; wait a moment", ErrState)
}
