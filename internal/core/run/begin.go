package run

import (
	"fmt"
	"time"
)

// prepare lets the next of the routines be performed that come before the first line, or
// begins.
func (l *Life) prepare(s preparing, m Machine) {
	if s.Done >= len(l.record.Before) {
		l.begin(s.Soak, m)
		return
	}
	next := l.record.Before[s.Done]
	l.enter(s, next.Routine+" is performed first", m)
	l.do(Effect{Do: DoPerform, Routine: next})
}

// performed goes on with what comes before the first line, or ends the run if that was
// not done: nothing of its file has been said.
func (l *Life) performed(why string, m Machine) {
	s := l.stage.(preparing)
	if why != "" {
		l.off()
		l.end(Stopped, fmt.Sprintf("%s, which comes before it, was not done: %s", l.record.Before[s.Done].Routine, why), m)
		return
	}
	s.Done++
	l.prepare(s, m)
}

// leavePreparing ends a run that is being prepared.
func (l *Life) leavePreparing(as State, reason string, m Machine) {
	l.do(Effect{Do: DoBreakOff, Text: reason})
	l.off()
	l.end(as, reason, m)
}

// begin counts the lines from here, and lets the bed soak first if it is to.
func (l *Life) begin(soak *time.Duration, m Machine) {
	l.counts(0, m)
	switch {
	case soak != nil:
		l.do(Effect{Do: DoShow})
		l.soakFor(*soak, m) // without opening the lane in between: lines may wait in it
	case l.Stage() == Preparing:
		l.enter(fresh{}, "", m)
	default:
		l.do(Effect{Do: DoLane, Open: true})
		l.do(Effect{Do: DoShow})
	}
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
