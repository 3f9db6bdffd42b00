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
	unsaid []unsaid       // those that the conversation has not said yet, in order
}

// unsaid is a command of the file that waits in the conversation, and where the job stood
// before it.
type unsaid struct {
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
	f.unsaid = append(f.unsaid, unsaid{command, *f.trim, f.leads})
	f.fed++
}

// said notes that the next of them has been said.
func (f *feeding) said() {
	if len(f.unsaid) == 0 {
		return
	}
	if f.unsaid = f.unsaid[1:]; len(f.unsaid) == 0 {
		f.unsaid = nil
	}
}

// back takes back what has been handed over and is not said, to be handed over again as it
// becomes then.
func (f *feeding) back() {
	if len(f.unsaid) == 0 {
		return
	}
	first := f.unsaid[0]
	f.trim, f.leads = &first.trim, first.leads
	commands := make([]string, len(f.unsaid))
	for i, u := range f.unsaid {
		commands[i] = u.command
	}
	f.ahead.back(commands)
	f.fed -= len(commands)
	f.unsaid = nil
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
