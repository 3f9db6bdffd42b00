package host

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
)

// A Journal keeps what it takes to go on with a run that was cut off.
type Journal interface {
	Begin(run.Record) (Book, error)
	Unfinished() (*run.Story, Book, error) // nil where there is none
	Keep(id string, write func(io.Writer) error) error
}

// A Book is the journal of one run. None of its methods may wait for a disk.
type Book interface {
	Said(next int) // all line numbers below next may have been used
	Note(run.Entry) error
	Close(keep bool)
}

// plannerHolds is how many of the file's commands, at most, a printer that lost
// its power had taken and not carried out: the moves of its planner.
const plannerHolds = 16

// TakeUp looks for a run that was cut off when the host last ended and returns
// its ID, or nothing. It must be called before Work.
func (h *Host) TakeUp(ctx context.Context) (string, error) {
	story, book, err := h.cfg.Journal.Unfinished()
	if err != nil {
		h.log.Warn("journals that cannot be read", "error", err)
	}
	if story == nil {
		return "", nil
	}
	f, err := h.cfg.Files.File(ctx, story.Record.File)
	if err != nil || f.SHA256 != story.Record.SHA256 {
		book.Close(false)
		h.log.Warn("the run that was cut off cannot go on: its file is not on the shelf any more", "run", story.Record.ID, "file", story.Record.File)
		return "", nil
	}
	j := &job{record: story.Record, file: f, story: *story, book: book, quit: func() {}, was: story.State, wasReason: story.Reason, away: time.Now(), bed: f.Setpoints[heat.Bed]}
	j.record.Taken = story.Taken
	j.said, j.fed = story.Taken, story.Taken
	j.before = run.Running
	if story.Taken < f.First {
		j.before = run.Warming
	}
	if story.Record.Started.IsZero() {
		j.record.Started = story.Record.Created
	}
	if story.State == run.Waiting {
		j.was = j.before
	}
	if story.Back != nil {
		j.back = *story.Back
	}
	j.record.State, j.record.Reason = run.Interrupted, "the host went away in the middle of it"
	h.job = j
	h.cfg.Recorder.Run(j.record)
	return j.record.ID, nil
}

// earlier is what a new conversation should know of the one before it.
func (h *Host) earlier() wire.Earlier {
	j := h.job
	if j == nil || j.record.State != run.Interrupted || j.story.Lost {
		return wire.Earlier{}
	}
	s := j.story
	e := wire.Earlier{Others: maps.Clone(s.Others)}
	e.Said = min(s.Said, s.Number+j.record.Commands-s.Before+len(s.Others)) // no more than the file has
	json.Unmarshal(s.Printer, &e.Firmware)
	return e
}

// note keeps an entry in the run's journal.
func (h *Host) note(e run.Entry) {
	j := h.job
	if j == nil || j.book == nil {
		return
	}
	e.At = time.Now().UTC()
	j.story.Tell(e)
	if err := j.book.Note(e); err != nil && !j.unkept {
		j.unkept = true
		h.log.Error("journal", "error", err)
		h.message("error", err.Error()+"; the run goes on, but could not be picked up exactly")
	}
}

// interrupt leaves a run that the printer is out of reach for, so that it can be
// picked up. Lost tells that the printer has forgotten everything.
func (h *Host) interrupt(reason string, lost bool) {
	j := h.job
	switch {
	case j == nil:
		return
	case j.stop != "":
		h.endRun(run.Stopped, j.stop+"; then "+reason)
		return
	case j.record.State == run.Waiting || j.book == nil:
		h.endRun(run.Broken, reason)
		return
	}
	j.quit()
	j.breakOff()
	j.lines, j.batch, j.eof, j.rejoining = nil, nil, false, false
	j.goOn, j.again = false, ""
	if j.soaking {
		h.endWarmUp("its run was interrupted")
	}
	if lost {
		h.note(run.Entry{Kind: run.Lost})
	}
	if j.record.State == run.Interrupted {
		j.record.Reason = reason
		h.publishRun()
		return
	}
	h.note(run.Entry{Kind: run.Reached, Command: j.record.Taken, Number: j.last})
	j.was, j.away, j.bed = j.record.State, time.Now(), h.point.Setpoints[heat.Bed]
	if j.was != run.Held {
		j.before = j.was
	}
	j.wasReason = j.record.Reason
	h.moveTo(run.Interrupted, reason)
	h.keepRecording(j.record.ID)
}

// rejoin goes on with an interrupted run on a printer that has kept its place:
// last is the last line it took.
func (h *Host) rejoin(ctx context.Context, last int) {
	j, conv := h.job, h.conv
	if j.story.Picking { // it was cut off while it was being picked up
		h.forgotten("the printer was out of reach while the run was being picked up")
		return
	}
	j.quit()
	j.lines, j.batch, j.eof = nil, nil, false
	conv.Hold(h.now(), true)
	command := min(j.story.Commands(last), j.record.Commands)
	j.record.Taken, j.said, j.fed, j.rejoining = command, command, command, true
	story := j.story
	story.Others = maps.Clone(story.Others)
	h.decide("the printer has kept its place: line %d, command %d of the file", last, command)
	go func() {
		point, reader, closer, err := h.replay(ctx, j.file, func(in *bufio.Reader) (run.Point, error) { return story.Replay(in, last) })
		h.ask(ctx, func() {
			if h.job != j || h.conv != conv || !j.rejoining || err != nil {
				if err != nil {
					h.log.Error("reading the file again", "error", err)
					j.record.Reason = "the file cannot be read again: " + err.Error()
					h.publishRun()
				} else {
					closer.Close()
				}
				return
			}
			h.point, j.ahead = point, point.State
			j.start(reader, closer)
			h.send("M400", nil)
			h.send("M114", func(lines []string, err error) {
				if err == nil && h.job == j {
					h.verify(lines)
				}
			})
		})
	}()
}

// replay opens a file, lets f read it up to some command, and returns the rest.
func (h *Host) replay(ctx context.Context, f toolpath.File, read func(*bufio.Reader) (run.Point, error)) (run.Point, io.Reader, io.Closer, error) {
	body, err := h.cfg.Files.Open(ctx, f)
	if err != nil {
		return run.Point{}, nil, nil, err
	}
	in := bufio.NewReaderSize(body, 64<<10)
	point, err := read(in)
	if err != nil {
		body.Close()
		return point, nil, nil, err
	}
	return point, in, body, nil
}

// nearEnough is how far, in mm, a position report may be from where the file's
// lines lead. Reports have two decimals.
const nearEnough = 0.06

// verify compares where the printer says it is with where the run's lines lead,
// and lets the run go on.
func (h *Host) verify(answer []string) {
	j := h.job
	j.rejoining = false
	for _, line := range answer {
		where, ok := wire.ParsePosition(line)
		if !ok {
			continue
		}
		for axis := gcode.X; axis <= gcode.Z; axis++ {
			if math.Abs(where[axis]-h.point.At[axis]) > nearEnough {
				h.waitAtPart(fmt.Sprintf("the printer kept its count of lines but says it is at %c %.2f, and the file's lines lead to %.2f: look at the part, then resume or stop", gcode.Letters[axis], where[axis], h.point.At[axis]))
				return
			}
		}
	}
	cold := ""
	for heater, setpoint := range h.point.Setpoints {
		if w := h.heaters[heater]; setpoint > 0 && w != nil && w.Last.HasSetpoint && math.Abs(w.Last.Setpoint-setpoint) > 0.6 {
			cold = string(heater)
		}
	}
	away := time.Since(j.away).Round(time.Second)
	switch {
	case j.was == run.Held:
		back := j.story.Back
		h.moveTo(run.Held, j.wasReason)
		j.drawn = h.point.At[gcode.E] < j.back.At[gcode.E]-0.01
		j.parking, j.parkedAt = parked, time.Now()
		if back == nil { // it had not left the part yet
			j.parking = settling
			h.leave()
		} else {
			h.note(run.Entry{Kind: run.Becomes, State: run.Held, Reason: j.wasReason, Back: back})
		}
	case cold != "":
		h.waitAtPart(fmt.Sprintf("the printer kept its place and has turned the %s off: resume heats up first", cold))
	case h.cfg.ByHand:
		h.waitAtPart("the printer kept its place: resume when you like")
	default:
		if j.was == run.Ending { // whose last wait was lost: it ends again from where it was
			j.was = run.Running
		}
		h.moveTo(j.was, "")
		h.conv.Hold(h.now(), false)
		h.message("message", fmt.Sprintf("%s goes on by itself at line %d: the printer had kept its place (%s)", j.file.Name, j.record.Taken+1, away))
	}
}

// waitAtPart holds a run that has just been found again, with the nozzle where
// it is.
func (h *Host) waitAtPart(reason string) {
	j := h.job
	h.moveTo(run.Held, reason)
	j.back, j.drawn, j.idled = h.point.Clone(), false, true
	j.parking, j.parkedAt = parked, time.Now()
	h.note(run.Entry{Kind: run.Becomes, State: run.Held, Reason: reason, Back: &j.back})
}

// forgotten offers an interrupted run for pick-up on a printer that has forgotten
// everything, and keeps the bed hot meanwhile, so that the part stays held.
func (h *Host) forgotten(why string) {
	j := h.job
	if !j.story.Lost {
		h.note(run.Entry{Kind: run.Lost})
	}
	j.record.Reason = why + ": it can be picked up by a plan, or given up"
	if bed := j.bed; bed > 0 && h.cfg.KeepBed > 0 {
		j.bedUntil = time.Now().Add(h.cfg.KeepBed)
		j.record.Reason += fmt.Sprintf("; the bed is kept at %g °C until %s", bed, j.bedUntil.Format("15:04"))
		h.send(heat.SetCommand(heat.Bed, bed), nil)
	}
	h.cfg.Recorder.Run(j.record)
	h.publishRun()
}

// coolBed lets the bed of a run that nobody picks up go cold.
func (h *Host) coolBed() {
	j := h.job
	if j == nil || j.bedUntil.IsZero() || time.Now().Before(j.bedUntil) {
		return
	}
	j.bedUntil = time.Time{}
	if j.record.State == run.Interrupted && h.link.Live() {
		j.record.Reason += "; the bed was let go cold, because nobody picked it up"
		h.send(heat.SetCommand(heat.Bed, 0), nil)
		h.publishRun()
	}
}

// A Choice says where a run is picked up. Zero fields leave it to the plan.
type Choice struct {
	Layer   int     // from its beginning; from 1
	Command int     // or behind that many of the file's commands
	Height  float64 // at which the nozzle is, mm; NaN: as the run left it
}

// Plan returns how an interrupted run would be picked up on a printer that has
// forgotten everything.
func (h *Host) Plan(ctx context.Context, id string, c Choice) (run.Plan, error) {
	plan, _, closer, err := h.plan(ctx, id, c)
	if err == nil {
		closer.Close()
	}
	return plan, err
}

// plan makes the plan and leaves the file open behind the last command before
// it.
func (h *Host) plan(ctx context.Context, id string, c Choice) (run.Plan, io.Reader, io.Closer, error) {
	var j *job
	var file toolpath.File
	var story run.Story
	taken := 0
	var refused error
	err := h.ask(ctx, func() {
		j = h.job
		switch {
		case j == nil || j.record.ID != id:
			refused = ErrNoRun
		case j.record.State != run.Interrupted:
			refused = fmt.Errorf("%w: it is %s, not interrupted", ErrState, j.record.State)
		default:
			file, story, taken = j.file, j.story, j.record.Taken
			story.Others = maps.Clone(story.Others)
		}
	})
	if err = errors.Join(err, refused); err != nil {
		return run.Plan{}, nil, nil, err
	}
	command, err := chosen(c, file, taken)
	if err != nil {
		return run.Plan{}, nil, nil, err
	}
	if math.IsNaN(c.Height) { // a printer that is kept busy is as far behind as its planner is long
		made := max(taken-plannerHolds, 0)
		left, _, closer, err := h.replay(ctx, file, func(in *bufio.Reader) (run.Point, error) { return run.Replay(in, made) })
		if err != nil {
			return run.Plan{}, nil, nil, err
		}
		closer.Close()
		c.Height = left.Machine()[gcode.Z]
		if story.Back != nil && story.State == run.Held { // it was parked
			c.Height = min(story.Back.Machine()[gcode.Z]+h.cfg.Parking.Lift, h.cfg.Parking.Bed[2])
		}
	}
	at, reader, closer, err := h.replay(ctx, file, func(in *bufio.Reader) (run.Point, error) { return run.Replay(in, command) })
	if err != nil {
		return run.Plan{}, nil, nil, err
	}
	for heater, setpoint := range at.Setpoints { // the owner may have set another limit since it began
		if err := h.cfg.Printer.Limits.Check(heater, setpoint); err != nil {
			closer.Close()
			return run.Plan{}, nil, nil, fmt.Errorf("%w: %w", ErrPlan, err)
		}
	}
	var l gcode.Line
	for number := story.Number; number < story.Said; number++ { // speed and flow that a person changed
		if text, ok := story.Others[number]; ok && l.Parse([]byte(text)) == nil && (l.Is('M', 220) || l.Is('M', 221)) {
			at.Apply(&l)
		}
	}
	layer := run.Measure(command, file.Commands, file.Marks, file.Duration).Layer
	plan, err := h.cfg.Parking.PickUp(command, layer, at, c.Height, run.Part(file.Extent))
	if err != nil {
		closer.Close()
		return plan, nil, nil, fmt.Errorf("%w: %w", ErrPlan, err)
	}
	return plan, reader, closer, nil
}

// chosen turns a choice into how many of the file's commands come before it.
func chosen(c Choice, file toolpath.File, taken int) (int, error) {
	switch {
	case c.Layer != 0 && (c.Layer < 1 || c.Layer > len(file.Marks)):
		return 0, fmt.Errorf("%w: layer %d was asked for and the file has layers 1 to %d", ErrPlan, c.Layer, len(file.Marks))
	case c.Layer != 0:
		return file.Marks[c.Layer-1].Command, nil
	case c.Command < 0 || c.Command > file.Commands:
		return 0, fmt.Errorf("%w: line %d was asked for and the file has %d", ErrPlan, c.Command, file.Commands)
	case c.Command != 0:
		return c.Command, nil
	}
	// The moves that the planner held were taken and never made.
	layer := run.Measure(taken, file.Commands, file.Marks, file.Duration).Layer
	if layer == 0 {
		return taken, nil
	}
	return max(taken-plannerHolds, file.Marks[layer-1].Command), nil
}

// PickUp carries out the plan for an interrupted run on a printer that has
// forgotten everything, and goes on with the file behind it.
func (h *Host) PickUp(ctx context.Context, id string, c Choice) (RunNow, error) {
	plan, reader, closer, err := h.plan(ctx, id, c)
	if err != nil {
		return RunNow{}, err
	}
	now, err := h.control(ctx, id, func(j *job) error {
		switch {
		case j.record.State != run.Interrupted:
			return fmt.Errorf("%w: it is %s, not interrupted", ErrState, j.record.State)
		case len(h.alarms) > 0:
			return fmt.Errorf("%w: %s", ErrAlarm, h.alarms[0].Text)
		case !h.link.Live():
			return fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
		case !j.story.Lost:
			return fmt.Errorf("%w: the printer has kept its place and is being asked; wait a moment", ErrState)
		}
		h.counts(plan.Command)
		j.record.Taken, j.said, j.fed = plan.Command, plan.Command, plan.Command
		j.bedUntil, j.parking, j.drawn, j.idled, j.before = time.Time{}, returning, false, false, run.Running
		h.point = run.Point{}
		h.conv.Hold(h.now(), true)
		h.decide("picked up at command %d, layer %d, Z %g, nozzle at %g", plan.Command, plan.Layer, plan.Z, plan.Height)
		h.moveTo(run.Warming, fmt.Sprintf("being picked up at layer %d: heating, then homing X and Y", plan.Layer))
		j.start(reader, closer)
		h.perform(j, plan.Commands(), func(err error) {
			if err == nil {
				h.release()
			}
		})
		return nil
	})
	if err != nil {
		closer.Close()
	}
	return now, err
}

// counts notes from which line number on the file's lines are said.
func (h *Host) counts(command int) {
	firmware, err := json.Marshal(h.firmware)
	if err != nil {
		firmware = nil
	}
	h.note(run.Entry{Kind: run.Counts, Number: h.conv.Said(), Command: command, Printer: firmware})
}

// keepRecording keeps what the flight recorder holds for a run that went wrong.
func (h *Host) keepRecording(id string) {
	r := h.recording()
	go func() {
		if err := h.cfg.Journal.Keep(id, r.WriteArchive); err != nil && !errors.Is(err, os.ErrNotExist) {
			h.log.Error("keeping the recording", "run", id, "error", err)
		}
	}()
}
