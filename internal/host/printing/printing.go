// Package printing carries the run that goes on: it tells the run's life, which is the
// core's, what happens, and does what it wants done.
//
// It promises that a run's lines go out in order, that the journal knows a line before
// the printer does, and that whatever becomes of a run is in journal, records and live
// events. It leaves the stages to core/run, heaters to heating, the words on the wire
// to talk.
package printing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/part"
	"diathermon/internal/host/position"
	"diathermon/internal/host/talk"
	"diathermon/internal/host/traffic"
)

// Recorder keeps what becomes of runs. It may not wait for anything.
type Recorder interface {
	Run(run.Record)
	Kept() <-chan struct{} // closed once all that it was told so far is kept for good
}

// Awake keeps the computer from going to sleep. Neither method may wait.
type Awake interface {
	Hold(why string) (release func())
}

// Files gives the host what is on the shelf.
type Files interface {
	File(ctx context.Context, name string) (toolpath.File, error)
	// Open opens the bytes whose digest f has. Bytes that are others are an error,
	// then and while they are read.
	Open(ctx context.Context, f toolpath.File) (io.ReadCloser, error)
	// Read opens the bytes that go by that name, whatever they are.
	Read(name string) (*os.File, error)
}

// A Journal keeps what it takes to go on with a run that was cut off.
type Journal interface {
	Begin(run.Record) (Book, error)
	Unfinished() (*run.Life, Book, error) // nil where there is none; it is to be equipped
	Ended() []run.Record                  // over, and perhaps not recorded as that
	Remove(id string)                     // the book of one of those
	Keep(id string, write func(io.Writer) error) error
}

// A Book is the journal of one run. None of its methods may wait for a disk.
type Book interface {
	Said(next int) // all line numbers below next may have been used
	Note(run.Entry) error
	Close(keep bool)
}

// Config is what a Printing needs.
type Config struct {
	Printer  machine.Printer
	Recorder Recorder
	Files    Files
	Journal  Journal
	Awake    Awake
	Rules    run.Rules
	Sleepy   string // why the computer may go to sleep in the middle of a run; empty: it cannot

	Reading func() toolpath.Options // what files are read with; nil: ordinary limits. It may not wait

	Habits Habits // nil: nobody keeps what the printer has shown of the time that runs take

	Usually func() run.Around // the routines around every run; nil: none. It may not wait

	Accelerations func() (print, travel float64) // of the printer, mm/s²; 0: not known. Asked on the loop; nil: never known

	Back func() []string // the lines that give the printer its own limits again; nil: nobody knows. Asked on the loop, and said

	Slots  func() []stock.Slot     // what is loaded where; nil: nobody knows. It may not wait
	Around func() preflight.Around // what holds for the computer; nil: nobody knows. It may not wait

	Recording func() traffic.Recording // what the flight recorder holds
}

// Errors that callers tell apart. Each comes wrapped in a text for the person.
var (
	ErrNoRun   = errors.New("no such run is going on")
	ErrPlan    = errors.New("it cannot be picked up there")
	ErrJournal = errors.New("the run cannot be kept safe")
	ErrMoved   = errors.New("the head is not free for a run yet")

	ErrReplaced = errors.New("the file is not what it was when it was asked for")
)

// BlockedError says what stands between a file and its start.
type BlockedError struct {
	preflight.Report
	Changed bool // it is not what was read
}

func (e *BlockedError) Error() string {
	switch {
	case e.Changed:
		return "something has changed since you looked: " + e.Checks[0].Title
	case len(e.Checks) > 0:
		return e.Checks[0].Title
	}
	return "it cannot start"
}

// Printing is the part.
type Printing struct {
	cfg     Config
	loop    *part.Loop
	talk    *talk.Talk
	where   *position.Position
	heating *heating.Heating
	bed     *occupancy.Occupancy

	performer Performer // nil: nobody performs routines
	habits    run.Habits

	hands  []Hand        // what else moves the head
	job    *job          // the run that goes on
	last   *Now          // the last run, when none goes on
	ahead  time.Duration // by how much the computer's clock went on more than the one that never jumps
	asleep func()        // lets the computer sleep again; nil while it may
}

// New returns the part.
func New(c Config, loop *part.Loop, t *talk.Talk, where *position.Position, h *heating.Heating, b *occupancy.Occupancy) *Printing {
	p := &Printing{cfg: c, loop: loop, talk: t, where: where, heating: h, bed: b}
	if c.Habits != nil {
		p.habits = c.Habits.Get()
	}
	return p
}

// Hand is what moves the head besides the run.
type Hand interface {
	Doing() string // what is under way, in words: "the head is being moved by hand"; empty: nothing
}

// Mind lets a run that is to start, and a held one that is to come back, wait for what else
// moves the head: how it comes back depends on where from.
func (p *Printing) Mind(hands ...Hand) { p.hands = hands }

// moved says why no run can take the head now, or nil.
func (p *Printing) moved() error {
	for _, h := range p.hands {
		if doing := h.Doing(); doing != "" {
			return fmt.Errorf("%w: %s; wait until that is over", ErrMoved, doing)
		}
	}
	return nil
}

// Hear follows what becomes of the run's lines, of the printer, and of its heaters.
func (p *Printing) Hear(event any) bool {
	switch e := event.(type) {
	case *wire.Event:
		switch {
		case e.Kind == wire.Acked && e.Request.Lane != wire.Manual:
			p.progress(e.Number, e.Request.Command, p.where.Took().Heats)
		case e.Kind == wire.Heard && !e.Own && e.Reply.Kind == wire.Action:
			p.asked(e.Reply.Text)
		case e.Kind == wire.Heard && !e.Own:
			p.refused(e.Reply)
		case e.Kind == wire.Greeted && e.Number >= 0:
			p.step(run.Event{On: run.OnKept, Number: e.Number})
		case e.Kind == wire.Greeted:
			p.step(run.Event{On: run.OnBlank, Reason: "the printer has forgotten where it was"})
		}
	case part.Cut:
		p.step(run.Event{On: run.OnCut, Reason: e.Reason})
	case part.Reset:
		p.step(run.Event{On: run.OnReset, Reason: e.Reason})
	case part.Halted:
		p.step(run.Event{On: run.OnHalt})
	case part.Cooled:
		p.step(run.Event{On: run.OnCool, Reason: e.Reason})
	case part.Alarmed:
		if e.Action == heat.HoldRun && p.job != nil && (p.state() == run.Running || p.state() == run.Warming || p.job.life.ComingBack()) {
			p.step(run.Event{On: run.OnHold, Reason: e.Text})
		}
	case part.Leaving:
		if p.Busy() { // its end turns the heaters off
			p.step(run.Event{On: run.OnStop, Reason: "the host was shut down"})
		}
	}
	return false
}

// Tick lets time pass for the run.
func (p *Printing) Tick() {
	if j := p.job; j != nil && j.shown != j.life.Taken() {
		j.shown = j.life.Taken()
		p.publish()
	}
	p.step(run.Event{On: run.OnTime})
	if j := p.job; j != nil {
		p.settles(j)
		p.retime(j)
	}
	p.mindClock()
}

// Busy reports whether a run goes on that is not interrupted.
func (p *Printing) Busy() bool { return p.job != nil && p.state() != run.Interrupted }

// Leave lets the run be picked up when the host is back.
func (p *Printing) Leave() {
	if p.job != nil {
		p.job.book.Close(true)
	}
}

// Brief is the file of the run that goes on, and its state; empty if none does.
func (p *Printing) Brief() (file string, state run.State) {
	if p.job == nil {
		return "", ""
	}
	return p.job.file.Name, p.state()
}

// Lying is the file of the run that goes on, if it has laid plastic on the bed.
func (p *Printing) Lying() string {
	if p.job == nil || p.job.life.Record().Laying.IsZero() {
		return ""
	}
	return p.job.file.Name
}

// KeepsBed reports whether the bed of an interrupted run is kept hot for its pick-up.
func (p *Printing) KeepsBed() bool { return p.job != nil && p.job.life.KeepsBed() }

// Situation is what a line that is not of the file would be said in.
func (p *Printing) Situation() bounds.Situation {
	s := bounds.Situation{Machine: p.cfg.Printer.Bounds(), At: p.where.Point().State}
	if j := p.job; j != nil && j.life.Stage() != run.Preparing { // then nothing of it has been said
		s.Run, s.State, s.WayOut = j.file.Name, string(j.state()), j.wayOut()
		s.Parked = j.life.Stage() == run.Parked
	}
	return s
}

// Own are the setpoints with which the run goes on that is held beside its part; nil: none is.
func (p *Printing) Own() map[heat.Heater]float64 {
	if p.job == nil {
		return nil
	}
	return p.job.life.Own()
}

// InUse reports whether the run that goes on prints the file of that name. It may be
// called from anywhere.
func (p *Printing) InUse(name string) bool {
	used := false
	err := p.loop.Ask(context.Background(), func() { used = p.job != nil && p.job.file.Name == name })
	return err == nil && used
}

// Jot tells the run, and by that its journal, what the lines' numbers mean.
func (p *Printing) Jot(events []wire.Event) {
	j := p.job
	if j == nil {
		return
	}
	said := false
	for _, e := range events {
		if e.Kind != wire.Said || e.Again || e.Number < 0 || e.Number >= p.talk.Conversation().Said() {
			continue
		}
		told := run.Event{On: run.OnOther, Number: e.Number, Text: e.Request.Command}
		if e.Request.Lane == wire.File && !e.Own {
			told = run.Event{On: run.OnSaid, Number: e.Number}
			j.said()
			j.outlook.saidOne(p.clock())
		}
		p.stepOf(j, told)
		said = true
	}
	if said && p.job == j {
		j.book.Said(j.life.Said())
	}
}

// State is how the run stands that goes on, or the last one since the start; nil if
// there has been none. It may be called from anywhere.
func (p *Printing) State(ctx context.Context) (*Now, error) {
	var now *Now
	err := p.loop.Ask(ctx, func() { now = p.Now() })
	return now, err
}
