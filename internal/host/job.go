package host

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
)

// job is the run that goes on, with what it takes to carry it out.
type job struct {
	life   *run.Life
	file   toolpath.File
	book   Book
	ahead  *ahead      // reads the file; nil while nothing of it is to be said
	fed    int         // of the file's commands, handed to the conversation
	leads  gcode.State // where they lead
	pace   pace
	warm   time.Duration // that the heaters still take, as computed at warmAt
	warmAt time.Duration
	shown  int // of the file's commands taken, as it was last published
	unkept bool
	events []run.Event // that happen; the first of them now
}

// facts are what a run must know of its file.
func facts(f toolpath.File) run.File {
	return run.File{Name: f.Name, Commands: f.Commands, First: f.First, Setpoints: f.Setpoints, Part: run.Part(f.Extent)}
}

// rules are how runs are led here.
func (h *Host) rules() run.Rules {
	return run.Rules{Parking: h.cfg.Parking, IdleAfter: h.cfg.IdleAfter, KeepBed: h.cfg.KeepBed, ByHand: h.cfg.ByHand}
}

// state is the run's; empty if none goes on.
func (h *Host) state() run.State {
	if h.job == nil {
		return ""
	}
	return h.job.state()
}

func (j *job) state() run.State { return j.life.State() }

// begin starts a run of f, whose bytes come from body.
func (h *Host) begin(f toolpath.File, body io.ReadCloser, soak *heat.Soak) error {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	record := run.Record{
		ID: id.String(), File: f.Name, SHA256: f.SHA256, State: run.Waiting, Created: h.wall(),
		Commands: f.Commands, Filament: f.Filament, Estimate: f.Duration,
	}
	book, err := h.cfg.Journal.Begin(record)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrJournal, err)
	}
	h.job = &job{life: run.New(h.rules(), facts(f), record), file: f, book: book, leads: h.point.State, ahead: readAhead(body, body)}
	h.decide("run %s begins: %s", record.ID, f.Name)
	h.log.Info("run begins", "run", record.ID, "file", f.Name, "commands", f.Commands)
	e := run.Event{On: run.OnBegin}
	if soak != nil {
		e.Soak = &soak.For
	}
	return h.step(e)
}

// machine is what is true of the printer now.
func (h *Host) machine() run.Machine {
	m := run.Machine{
		At: h.point, Hot: h.hot(), Live: h.link.Live(), Why: h.link.Reason, AtOnce: h.haltsAtOnce(),
		Printer: h.told, Now: h.now(), Wall: h.wall(),
	}
	if h.conv != nil {
		m.Sure, m.Next = h.conv.Sure(), h.conv.Said()
	}
	if len(h.alarms) > 0 {
		m.Alarm = h.alarms[0].Text
	}
	if h.job.life.Stage() == run.Rejoining {
		m.Reported = map[heat.Heater]float64{}
		for name, w := range h.heaters {
			if w.Last.HasSetpoint {
				m.Reported[name] = w.Last.Setpoint
			}
		}
	}
	return m
}

// hot reports whether the nozzle in use is hot enough for filament to be moved.
func (h *Host) hot() bool {
	w := h.heaters[heat.NozzleOf(h.point.Tool)]
	return w != nil && w.Last.Actual >= run.Melting
}

// step lets an event happen to the run that goes on, if one does, and carries out
// what comes of it. An event that comes of that has its turn behind it.
func (h *Host) step(e run.Event) error {
	j := h.job
	if j == nil {
		return nil
	}
	if j.events = append(j.events, e); len(j.events) > 1 {
		return nil
	}
	var refused error
	for h.job == j && len(j.events) > 0 {
		effects, err := j.life.Step(j.events[0], h.machine())
		if refused == nil {
			refused = err
		}
		for _, e := range effects {
			h.carryOut(j, e)
		}
		j.events = j.events[1:]
	}
	return refused
}

// carryOut does what the run wants done.
func (h *Host) carryOut(j *job, e run.Effect) {
	switch e.Do {
	case run.DoKeep:
		h.keep(j, e.Entry)
	case run.DoShow:
		h.stayAwake()
		h.cfg.Recorder.Run(j.life.Record())
		h.publishRun()
	case run.DoLane:
		if e.Open {
			j.pace.last = 0
		}
		if h.conv != nil {
			h.conv.Hold(h.now(), !e.Open)
		}
	case run.DoDrop:
		j.ahead.close()
		j.ahead = nil
		if h.conv != nil {
			h.conv.DropFile()
		}
	case run.DoSkip:
		j.ahead.pass()
		j.fed++
	case run.DoSay:
		h.sayOwn(j, e)
	case run.DoUrge:
		h.urgent(e.Command)
	case run.DoReplay:
		h.replayTo(j, e.Number, e.After)
	case run.DoPoint:
		h.point = e.Point
	case run.DoOff:
		h.turnOff(func() { h.stepOf(j, run.Event{On: run.OnOff}) })
	case run.DoSoak:
		h.soakBed(j, e.Soak)
	case run.DoEndSoak:
		h.endWarmUp("its run does not wait for it any more")
	case run.DoMark:
		h.mark(time.Now(), e.Mark, "", e.Text)
	case run.DoTell:
		h.message(wire.Told, e.Text)
	case run.DoRecording:
		h.keepRecording(j.life.Record().ID)
	case run.DoClose:
		h.close(j)
	}
}

// stepOf lets an event happen to a run, if it goes on still.
func (h *Host) stepOf(j *job, e run.Event) {
	if h.job == j {
		h.step(e)
	}
}

// keep writes an entry into the run's journal.
func (h *Host) keep(j *job, e run.Entry) {
	if e.Kind == run.Becomes {
		h.decide("%s: %s", j.life.Stage(), e.Reason)
	}
	if err := j.book.Note(e); err != nil && !j.unkept {
		j.unkept = true
		h.log.Error("journal", "error", err)
		h.message(wire.Wrong, err.Error()+"; the run goes on, but could not be picked up exactly")
	}
}

// sayOwn says a command of the run's own. What becomes of one that is lost the cut
// tells that lost it.
func (h *Host) sayOwn(j *job, e run.Effect) {
	if _, setpoint, _ := run.SetpointOf(e.Command); setpoint > 0 {
		h.off = nil
	}
	h.send(e.Command, func(lines []string, err error) {
		if err != nil || e.Token == 0 {
			return
		}
		done := run.Event{On: run.OnDone, Token: e.Token}
		for _, line := range lines {
			if where, ok := wire.ParsePosition(line); ok {
				done.Where = (*gcode.Position)(&where)
			}
		}
		h.stepOf(j, done)
	})
}

// close lets go of a run that is over.
func (h *Host) close(j *job) {
	h.last = h.runNow()
	h.job = nil
	h.stayAwake()
	j.book.Close(false)
	h.publishRun()
	r := j.life.Record()
	h.log.Info("run ended", "run", r.ID, "file", r.File, "state", r.State, "reason", r.Reason, "taken", r.Taken, "commands", r.Commands)
}

// feed gives the conversation the lines it wants, and tells the run when there are
// no more.
func (h *Host) feed() {
	j := h.job
	if j == nil || j.ahead == nil || h.conv == nil {
		return
	}
	for n := h.conv.Wants(); n > 0; n-- {
		command, there := j.ahead.next()
		if !there {
			break
		}
		if why := pauses(command); why != "" {
			if j.fed == j.life.Taken() && h.conv.Sure() {
				h.step(run.Event{On: run.OnAsk, Reason: why})
			}
			break
		}
		j.fed++
		h.conv.Send(h.now(), wire.Request{Lane: wire.File, Command: command, Takes: takes(&j.leads, command, h.point.Speed)})
		j.ahead.pass()
	}
	if h.job != j || j.ahead == nil || !h.link.Live() {
		return
	}
	switch spent, err := j.ahead.spent(); {
	case err != nil:
		h.step(run.Event{On: run.OnUnreadable, Reason: err.Error()})
	case spent:
		h.step(run.Event{On: run.OnSpent})
	}
}

// progress follows the run through a file line that the printer has taken.
func (h *Host) progress(e wire.Event, heats bool) {
	if j := h.job; j != nil {
		if j.state() == run.Running {
			j.pace.note(h.now())
		}
		h.step(run.Event{On: run.OnTaken, Number: e.Number, Heats: heats})
	}
}

// runNow tells how far the run has come; of the last one if none goes on.
func (h *Host) runNow() *RunNow {
	j := h.job
	if j == nil {
		return h.last
	}
	r := j.life.Record()
	now := &RunNow{Record: r, Progress: run.Measure(r.Taken, r.Commands, j.file.Marks, j.file.Duration), Forgotten: j.life.Lost(), May: j.life.May()}
	if now.Layer > 0 {
		now.Z = j.file.Marks[now.Layer-1].Z
	}
	now.Lasted = r.Lasted(h.wall())
	now.Left = j.pace.left(j.file.Duration, now.Progress.Left)
	now.Warming = j.warmingTime(h)
	now.Left += now.Warming
	if r.State == run.Finished {
		now.Left, now.Share = 0, 1
	}
	return now
}

// warmingTime is how long the heaters will still take before the first plastic is
// laid; 0 where that is not known.
func (j *job) warmingTime(h *Host) time.Duration {
	steps := j.warmingLeft()
	if len(steps) == 0 {
		return 0
	}
	if now := h.now(); now-j.warmAt >= foreseeEvery || j.warmAt == 0 {
		j.warmAt, j.warm = now, 0
		if d, ok := heat.Remaining(steps, h.learners()); ok {
			j.warm = d
		}
	}
	return j.warm
}

// warmingLeft are the steps of the file's warm-up that the printer has not done.
func (j *job) warmingLeft() []heat.Step {
	r := j.life.Record()
	if r.State != run.Waiting && r.State != run.Warming {
		return nil
	}
	for i, s := range j.file.Warming {
		if s.Command > r.Taken {
			return j.file.Warming[i:]
		}
	}
	return nil
}

// stayAwake keeps the computer from going to sleep while a run goes on.
func (h *Host) stayAwake() {
	going := h.job != nil && h.state().Going()
	switch {
	case h.cfg.Awake == nil:
	case going && h.asleep == nil:
		h.asleep = h.cfg.Awake.Hold("printing " + h.job.file.Name)
	case !going && h.asleep != nil:
		h.asleep()
		h.asleep = nil
	}
}

// InUse reports whether the run that goes on prints the file of that name.
func (h *Host) InUse(name string) bool {
	used := false
	err := h.ask(context.Background(), func() { used = h.job != nil && h.job.file.Name == name })
	return err == nil && used
}
