package run

import (
	"time"
)

// begin counts the lines from here, and lets the bed soak first if it is to.
func (l *Life) begin(soak *time.Duration, m Machine) {
	l.counts(0, m)
	l.do(Effect{Do: DoLane, Open: true})
	l.do(Effect{Do: DoShow})
	if soak != nil {
		l.soakFor(*soak, m)
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
