package printing

import (
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/core/wire"
)

// job is the run that goes on, with what it takes to carry it out.
type job struct {
	life *run.Life
	file toolpath.File
	book Book
	feeding
	wanted    trim.Trim // how its lines are to be from the first one on
	first     string    // said before the first of them: it chooses their tool; empty: nothing
	performed int       // of the routines that come before the first of them
	asking    int       // the last of the file's commands that asks for a person, from 1; 0: none has
	asked     string    // what it was
	outlook   outlook
	there     bool // every move before the place where it is to end is being waited for
	laid      bool // the bed is known to be occupied by it
	shown     int  // of the file's commands taken, as it was last published
	replays   int  // times that its file was read again up to where the printer is
	unkept    bool
	events    []run.Event // that happen; the first of them now
}

// facts are what a run must know of its file.
func facts(f toolpath.File) run.File {
	return run.File{Name: f.Name, Commands: f.Commands, First: f.First, Setpoints: f.Setpoints, Part: run.Part(f.Extent)}
}

// trimmed is what must be known of a file to trim it.
func (p *Printing) trimmed(f toolpath.File, slots stock.Mapping) trim.File {
	out := trim.File{Second: f.Second, Tool: slots.Of(0), Setpoints: f.Setpoints, Highest: max(f.Extent.Max[gcode.Z], f.Reach.Max[gcode.Z]), Room: p.cfg.Printer.Height}
	for _, o := range f.Objects {
		out.Objects = append(out.Objects, trim.Object{Key: o.Key, Name: o.Name, Fixed: o.Fixed})
	}
	if p.cfg.Accelerations != nil {
		out.Has.Print, out.Has.Travel = p.cfg.Accelerations()
	}
	if !f.Extent.Empty {
		out.Lowest = f.Extent.Min[gcode.Z]
	}
	return out
}

// state is the run's; empty if none goes on.
func (p *Printing) state() run.State {
	if p.job == nil {
		return ""
	}
	return p.job.state()
}

func (j *job) state() run.State { return j.life.State() }

// begin starts a run of f, whose bytes come from body.
func (p *Printing) begin(o Order, around run.Around, f toolpath.File, body io.ReadCloser, overruled []run.Overruling) error {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	record := run.Record{
		ID: id.String(), File: f.Name, Digest: f.Digest, State: run.Waiting, Created: p.loop.Wall(),
		Commands: f.Commands, Filament: f.Filament, Estimate: f.Duration,
		By: o.By, Entry: o.Entry, Overruled: overruled, Slots: o.Slots, Before: around.Before, After: around.After,
	}
	book, err := p.cfg.Journal.Begin(record)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrJournal, err)
	}
	p.job = &job{life: run.New(p.cfg.Rules, facts(f), record), file: f, book: book, wanted: o.Trim, first: o.first}
	p.expect(p.job, f.Course, f.Duration)
	p.job.from(0, readAhead(body, body, o.Slots, p.loop.Wake), trim.New(p.trimmed(f, o.Slots), nil), gcode.State{})
	p.loop.Decide("run %s begins: %s", record.ID, f.Name)
	p.loop.Log.Info("run begins", "run", record.ID, "file", f.Name, "commands", f.Commands)
	if len(around.Before) == 0 {
		p.lead(p.job)
	} else { // its setpoints stay, and what is performed waits for what it needs
		p.heating.EndWarmUp("the run of " + f.Name + " takes it over")
	}
	e := run.Event{On: run.OnBegin}
	if o.Soak != nil {
		e.Soak = &o.Soak.For
	}
	return p.step(e)
}

// machine is what is true of the printer now.
func (p *Printing) machine() run.Machine {
	m := run.Machine{
		At: *p.where.Point(), Hot: p.heating.Melts(), Live: p.talk.Live(), Why: p.talk.Reason(), AtOnce: p.talk.HaltsAtOnce(),
		Printer: p.talk.Told(), Now: p.loop.Now(), Wall: p.loop.Wall(),
	}
	if p.talk.Conversation() != nil {
		m.Sure, m.Next = p.talk.Conversation().Sure(), p.talk.Conversation().Said()
	}
	if alarms := p.heating.Alarms(); len(alarms) > 0 {
		m.Alarm = alarms[0]
	}
	if p.job.life.Stage() == run.Rejoining {
		m.Reported = p.heating.Reported()
	}
	return m
}

// step lets an event happen to the run that goes on, if one does, and carries out
// what comes of it. An event that comes of that has its turn behind it.
func (p *Printing) step(e run.Event) error {
	j := p.job
	if j == nil {
		return nil
	}
	if j.events = append(j.events, e); len(j.events) > 1 {
		return nil
	}
	var refused error
	for p.job == j && len(j.events) > 0 {
		was := j.life.Stage()
		effects, err := j.life.Step(j.events[0], p.machine())
		if refused == nil {
			refused = err
		}
		if (was == run.Rejoining || was.State() == run.Held) && j.life.Stage().Open() { // before the file's lines
			p.mend(j)
		}
		for _, e := range effects {
			p.carryOut(j, e)
		}
		p.occupy(j)
		j.events = j.events[1:]
	}
	return refused
}

// occupy lets the bed be occupied as soon as the run has laid plastic on it.
func (p *Printing) occupy(j *job) {
	if j.laid {
		return
	}
	if r := j.life.Record(); !r.Laying.IsZero() {
		j.laid = true
		p.bed.Lay(r.ID, r.File)
	}
}

// carryOut does what the run wants done.
func (p *Printing) carryOut(j *job, e run.Effect) {
	switch e.Do {
	case run.DoKeep:
		p.keep(j, e.Entry)
	case run.DoShow:
		p.stayAwake()
		p.cfg.Recorder.Run(j.life.Record())
		p.publish()
	case run.DoLane:
		if e.Open && j.first != "" { // behind what counts the lines, and before the first of them
			p.talk.Say(j.first, nil)
			j.first = ""
		}
		if !e.Open && j.life.Taken() < j.last() { // otherwise what the printer holds is still made
			j.outlook.pace.Pause()
		}
		if p.talk.Conversation() != nil {
			p.talk.Conversation().Hold(p.loop.Now(), !e.Open)
		}
	case run.DoDrop:
		p.where.Forgo()
		j.ahead.close()
		j.ahead, j.handed, j.next, j.outlook.watching = nil, nil, 0, watching{}
		if p.talk.Conversation() != nil {
			p.talk.Conversation().DropFile()
		}
	case run.DoSkip:
		if skipped, there := j.ahead.next(); there {
			j.trim.Line(skipped)
		}
		j.ahead.pass()
		j.fed++
	case run.DoSay:
		p.sayOwn(j, e)
	case run.DoUrge:
		p.talk.Urge(e.Command)
	case run.DoReplay:
		p.replayTo(j, e.Number, e.After)
	case run.DoPoint:
		p.where.Set(e.Point)
	case run.DoOff:
		p.heating.TurnOff(func() { p.stepOf(j, run.Event{On: run.OnOff}) })
	case run.DoSoak:
		p.heating.SoakBed(j.file.Name, j.life.Trim().Setpoint(heat.Bed, j.file.Setpoints[heat.Bed], true), e.Soak, func() { p.stepOf(j, run.Event{On: run.OnSoaked}) })
	case run.DoEndSoak:
		p.heating.EndWarmUp("its run does not wait for it any more")
	case run.DoPerform:
		p.prepare(j, e.Routine)
	case run.DoBreakOff:
		if p.performer != nil {
			p.performer.BreakOff(e.Text)
		}
	case run.DoMark:
		p.loop.Mark(time.Now(), e.Mark, "", e.Text)
	case run.DoTell:
		p.loop.Message(wire.Told, e.Text)
	case run.DoRecording:
		p.keepRecording(j.life.Record().ID)
	case run.DoClose:
		p.close(j)
	}
}

// stepOf lets an event happen to a run, if it goes on still.
func (p *Printing) stepOf(j *job, e run.Event) {
	if p.job == j {
		p.step(e)
	}
}

// keep writes an entry into the run's journal.
func (p *Printing) keep(j *job, e run.Entry) {
	if e.Kind == run.Becomes {
		p.loop.Decide("%s: %s", j.life.Stage(), e.Reason)
	}
	if err := j.book.Note(e); err != nil && !j.unkept {
		j.unkept = true
		p.loop.Log.Error("journal", "error", err)
		p.loop.Message(wire.Wrong, err.Error()+"; the run goes on, but could not be picked up exactly")
	}
}

// sayOwn says a command of the run's own. What becomes of one that is lost the cut
// tells that lost it.
func (p *Printing) sayOwn(j *job, e run.Effect) {
	if _, setpoint, _ := run.SetpointOf(e.Command); setpoint > 0 {
		p.heating.Heats()
	}
	p.talk.Say(e.Command, func(lines []string, err error) {
		if err != nil || e.Token == 0 {
			return
		}
		done := run.Event{On: run.OnDone, Token: e.Token}
		for _, line := range lines {
			if where, ok := wire.ParsePosition(line); ok {
				done.Where = (*gcode.Position)(&where)
			}
		}
		p.stepOf(j, done)
	})
}

// close lets go of a run that is over.
func (p *Printing) close(j *job) {
	p.last = p.Now()
	switch j.state() {
	case run.Finished:
		p.drained(j)
		fallthrough
	case run.Stopped:
		p.learn(j)
		if p.cfg.Habits != nil {
			p.cfg.Habits.Set(p.habits)
		}
	}
	if j.trim != nil && p.talk.Live() {
		if line := j.trim.Leave(); line != "" {
			p.talk.Say(line, nil)
		}
	}
	j.outlook.timing.end()
	p.job = nil
	p.stayAwake()
	p.onceKept(func() { j.book.Close(false) }, func() { j.book.Close(true) })
	p.publish()
	if j.state() == run.Finished {
		defer p.tidy(j.life.Record(), j.life.Record().After)
	}
	r := j.life.Record()
	p.loop.Log.Info("run ended", "run", r.ID, "file", r.File, "state", r.State, "reason", r.Reason, "taken", r.Taken, "commands", r.Commands)
}

// onceKept lets a run's journal go once the records have its end, which until then nothing
// else would tell; it is left where the host ends before.
func (p *Printing) onceKept(remove, leave func()) {
	kept := p.cfg.Recorder.Kept()
	go func() {
		select {
		case <-kept:
			remove()
		case <-p.loop.Life().Done():
			leave()
		}
	}()
}

// Feed gives the conversation the lines it wants, and tells the run when there are no
// more.
func (p *Printing) Feed() {
	j := p.job
	if j == nil || j.ahead == nil || p.talk.Conversation() == nil || j.life.Stage() == run.Preparing {
		return
	}
	for n := p.talk.Conversation().Wants(); n > 0; n-- {
		if u := j.life.Until(); u != nil && j.fed >= u.Command {
			p.arrive(j, u)
			break
		}
		command, there := j.ahead.next()
		if !there {
			break
		}
		if j.fed > j.life.Taken() && j.asking == j.fed { // it may be that the printer does not know what asks for a person
			break
		}
		if why := run.Asks(command); why != "" {
			if j.fed == j.life.Taken() && p.talk.Conversation().Sure() {
				p.step(run.Event{On: run.OnAsk, Reason: why})
			}
			break
		}
		if j.trim.Detours(command) {
			if j.fed != j.life.Taken() { // what is said besides would overtake what waits to be said
				break
			}
			for _, way := range j.trim.Besides(command) {
				p.talk.Say(way, nil)
			}
		}
		if besides := j.trim.Between(); len(besides) > 0 {
			if len(j.unsaid()) > 0 {
				break
			}
			for _, line := range besides {
				p.talk.Say(line, nil)
			}
		}
		j.hand(command)
		if gcode.TraitsOf([]byte(command))&gcode.Pauses != 0 {
			j.asking, j.asked = j.fed, command
		}
		p.talk.SayOfFile(j.trim.Line(command), &j.leads)
		j.ahead.pass()
	}
	if p.job != j || j.ahead == nil || !p.talk.Live() {
		return
	}
	switch spent, err := j.ahead.spent(); {
	case err != nil:
		p.step(run.Event{On: run.OnUnreadable, Reason: err.Error()})
	case spent:
		p.step(run.Event{On: run.OnSpent})
	}
}

// progress follows the run through a file line that the printer has taken.
func (p *Printing) progress(number int, command string, heats bool) {
	if j := p.job; j != nil {
		p.step(run.Event{On: run.OnTaken, Number: number, Heats: heats})
		if p.job == j {
			p.watch(j, command)
			p.settles(j)
		}
	}
}

// stayAwake keeps the computer from going to sleep while a run goes on.
func (p *Printing) stayAwake() {
	going := p.job != nil && p.state().Going()
	switch {
	case p.cfg.Awake == nil:
	case going && p.asleep == nil:
		p.asleep = p.cfg.Awake.Hold("printing " + p.job.file.Name)
	case !going && p.asleep != nil:
		p.asleep()
		p.asleep = nil
	}
}
