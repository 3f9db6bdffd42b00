package printing

import (
	"slices"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// watching is how the printer takes the file's lines: which it lets wait, and how many it
// takes at once when it has none.
type watching struct {
	said   []time.Duration // when those were said that are not taken yet
	quick  time.Duration   // the shortest that one has waited; 0: none has
	last   time.Duration   // when the last was taken
	filled bool            // it has been found out how many it holds, since it had none
	moves  int             // that it has taken since then
	begun  time.Duration   // and when that was
	from   int             // of the file's commands
}

// slack is how much longer than the quickest a line may wait before the printer counts as
// busy: what the cable and this computer take.
const slack = 40 * time.Millisecond

// saidOne notes that a line of the file was said.
func (w *watching) saidOne(now time.Duration) { w.said = append(w.said, now) }

// taken follows a line of the file that the printer has taken. It reports for how long the
// line was under way, and since when it can have been carried out.
func (w *watching) taken(now time.Duration) (waited time.Duration, since time.Duration) {
	if len(w.said) == 0 {
		return 0, now
	}
	said := w.said[0]
	if w.said = w.said[1:]; len(w.said) == 0 {
		w.said = nil
	}
	since = max(said, w.last)
	w.last = now
	waited = now - said
	if w.quick == 0 || waited < w.quick {
		w.quick = max(waited, 1)
	}
	return waited, since
}

// waits reports whether the printer has let a line wait.
func (w *watching) waits(waited time.Duration) bool { return waited > w.quick*3/2+slack }

// empty begins anew to count how many moves it takes at once.
func (w *watching) empty(now time.Duration, commands int) {
	w.filled, w.moves, w.begun, w.from = false, 0, now, commands
}

// watch follows a line of the file that the printer has taken.
func (p *Printing) watch(j *job, command string) {
	w, now := &j.outlook.watching, p.clock()
	waited, since := w.taken(now)
	code, taken := gcode.CodeOf([]byte(command)), j.life.Taken()
	if run.Unplanned(code) {
		p.habits = p.habits.Carried(code.String(), now-since)
	}
	if code.Traits()&gcode.Slow != 0 { // the time since the last line is no move's
		j.outlook.pace.Skip(now, j.after(taken))
		w.empty(now, taken)
		return
	}
	waits := w.waits(waited)
	if moves := code.Letter == 'G' && (code.Number <= 3 || code.Number == 5); moves && !w.filled {
		if w.moves++; waits {
			w.filled = true
			p.habits = p.habits.Held(w.moves - 1 - p.madeBy(j, now-w.begun))
		}
	}
	busy := waits || len(w.said) > 0 // otherwise it may have waited for this line
	p.note(j, busy, busy && w.filled)
}

// madeBy is how many of the commands that were taken since the printer had none can have been
// made in a time.
func (p *Printing) madeBy(j *job, d time.Duration) int {
	from := j.outlook.watching.from
	begun := j.after(from)
	n := 0
	for from+n < j.life.Taken() && j.after(from+n+1)-begun < d {
		n++
	}
	return n
}

// commandsLeft is how long the commands take that are to come and wait by themselves.
func (j *job) commandsLeft(p *Printing) (left time.Duration) {
	taken := j.life.Taken()
	i, _ := slices.BinarySearchFunc(j.file.Waits, taken+1, func(w toolpath.Wait, command int) int { return w.Command - command })
	for ; i < len(j.file.Waits) && j.file.Waits[i].Command <= j.last(); i++ {
		takes := p.habits.Command(j.file.Waits[i].Code)
		if w := &j.outlook.watching; j.file.Waits[i].Command == taken+1 && len(w.said) > 0 { // it is under way
			takes = max(takes-(p.clock()-max(w.said[0], w.last)), 0)
		}
		left += takes
	}
	return p.ours(left)
}
