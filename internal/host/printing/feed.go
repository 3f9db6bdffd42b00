package printing

import (
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
)

// feeding is where a job stands in its file: what has been handed to the conversation, and
// what is needed to hand it over again otherwise.
type feeding struct {
	ahead  *ahead         // reads the file; nil while nothing of it is to be said
	trim   *trim.Rewriter // what its lines become; nil while it is not known where the run goes on
	fed    int            // of the file's commands, handed to the conversation
	leads  gcode.State    // where they lead
	handed []waiting      // some of those, in order; what has been said is empty
	next   int            // of handed: the conversation has not said it yet
}

// waiting is a command of the file that waits in the conversation, and where the job stood
// before it.
type waiting struct {
	command string
	trim    trim.Rewriter
	leads   gcode.State
}

// from begins to feed behind so many commands.
func (f *feeding) from(command int, ahead *ahead, becomes *trim.Rewriter, leads gcode.State) {
	*f = feeding{ahead: ahead, trim: becomes, fed: command, leads: leads}
}

// hand notes that a command is handed over.
func (f *feeding) hand(command string) {
	if len(f.handed) == cap(f.handed) && f.next > 0 { // where others were is room
		n := copy(f.handed, f.handed[f.next:])
		clear(f.handed[n:])
		f.handed, f.next = f.handed[:n], 0
	}
	f.handed = append(f.handed, waiting{command, *f.trim, f.leads})
	f.fed++
}

// said notes that the next of them has been said.
func (f *feeding) said() {
	if f.next < len(f.handed) {
		f.handed[f.next] = waiting{}
		f.next++
	}
}

// unsaid are the commands that the conversation has not said yet.
func (f *feeding) unsaid() []waiting { return f.handed[f.next:] }

// back takes back what has been handed over and is not said, to be handed over again as it
// becomes then.
func (f *feeding) back() {
	all := f.unsaid()
	if len(all) == 0 {
		return
	}
	first := all[0]
	f.trim, f.leads = &first.trim, first.leads
	commands := make([]string, len(all))
	for i, u := range all {
		commands[i] = u.command
	}
	f.ahead.back(commands)
	f.fed -= len(commands)
	f.handed, f.next = nil, 0
}

// takeBack lets what waits in the conversation be handed over again.
func (p *Printing) takeBack(j *job) {
	if conv := p.talk.Conversation(); conv != nil {
		conv.DropFile()
	}
	j.back()
}

// saidPoint is where all lines that have been said lead, those under way among them.
func (p *Printing) saidPoint() run.Point {
	at := p.where.Point().Clone()
	var l gcode.Line
	for _, command := range p.talk.Conversation().UnderWay() {
		if l.Parse([]byte(command)) == nil {
			at.Apply(&l)
		}
	}
	return at
}
