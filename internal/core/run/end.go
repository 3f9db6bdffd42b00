package run

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

// there holds or ends the run where it was to be: every line before is taken, and, where
// it ends, every move is made.
func (l *Life) there(m Machine) error {
	u := l.until
	if u == nil {
		return nil
	}
	l.keep(Entry{Kind: Untils}, m)
	if u.End {
		l.stop(u.why(), m)
	} else {
		l.settle(held{}, Wish{}, u.why(), m)
	}
	return nil
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
	l.enter(over{s}, reason, m)
	l.do(Effect{Do: DoDrop})
	if s != Finished {
		l.do(Effect{Do: DoRecording})
	}
	l.do(Effect{Do: DoClose})
}
