package run

import (
	"fmt"
	"maps"
	"slices"

	"diathermon/internal/core/heat"
)

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
	if l.wished().To != ToResume {
		return fmt.Errorf("%w: it is held already", ErrState)
	}
	l.wish(Wish{}, reason, m)
	return nil
}

// wished is what was asked for meanwhile.
func (l *Life) wished() Wish {
	switch s := l.stage.(type) {
	case settling:
		return s.Wish
	case leaving:
		return s.Wish
	case returning:
		return s.Wish
	case pickingUp:
		return s.Wish
	}
	return Wish{}
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

// comeBack heats up to what the run had, whatever was heated or cooled meanwhile, primes and
// goes back to where it was held.
func (l *Life) comeBack(m Machine) {
	s := l.stage.(parked)
	next := returning{held: s.held, Back: s.Back, Drawn: s.Drawn}
	next.errand = l.errand(l.rules.Parking.Resume(s.Back, m.At, s.Drawn, l.file.Part))
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
