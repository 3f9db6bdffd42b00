package printing

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

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/core/wire"
)

// plannerHolds is how many of the file's commands a common printer that lost its power had
// taken and not carried out: the moves of its planner.
const plannerHolds = 16

// TakeUp looks for a run that was cut off when the host last ended and returns what is
// kept of it; its ID is empty if there is none. It must be called before Work.
func (p *Printing) TakeUp(ctx context.Context) (run.Record, error) {
	for _, r := range p.cfg.Journal.Ended() {
		p.cfg.Recorder.Run(r)
		p.onceKept(func() { p.cfg.Journal.Remove(r.ID) }, func() {})
	}
	life, book, err := p.cfg.Journal.Unfinished()
	if err != nil {
		p.loop.Log.Warn("journals that cannot be read", "error", err)
	}
	if life == nil {
		return run.Record{}, nil
	}
	r := life.Record()
	if !r.Laying.IsZero() {
		p.bed.Lay(r.ID, r.File)
	}
	f, err := p.cfg.Files.File(ctx, r.File)
	if err != nil || f.Digest != r.Digest {
		book.Close(false)
		p.loop.Log.Warn("the run that was cut off cannot go on: its file is not on the shelf any more", "run", r.ID, "file", r.File)
		return run.Record{}, nil
	}
	first := ""
	if slots := stock.Mapping(r.Slots); !slots.Same() {
		if r.Taken == 0 {
			if first, err = p.first(ctx, f, slots); err != nil {
				p.loop.Log.Error("the file of the run that was cut off cannot be read", "error", err)
			}
		}
		f = p.Mapped(f, slots)
	}
	life.Equip(p.cfg.Rules, facts(f))
	p.job = &job{life: life, file: f, book: book, first: first}
	p.expect(p.job, f.Course, f.Duration)
	p.step(run.Event{On: run.OnBack})
	return r, nil
}

// Earlier is what a new conversation should know of the one before it.
func (p *Printing) Earlier() wire.Earlier {
	j := p.job
	if j == nil || j.state() != run.Interrupted || j.life.Lost() {
		return wire.Earlier{}
	}
	l := j.life.Ledger()
	e := wire.Earlier{Others: l.Others, Taken: l.Taken}
	most := l.Number + j.file.Commands - l.Before + len(l.Others) // no more than the file has
	e.Said = min(l.Said, most)
	e.More = min(l.More, most-e.Said)
	json.Unmarshal(j.life.Printer(), &e.Firmware)
	return e
}

// replayTo reads the run's file up to what a line's number leads to, and lets the run
// go on from there.
func (p *Printing) replayTo(j *job, number, after int) {
	slots := stock.Mapping(j.life.Record().Slots)
	how := p.trimmed(j.file, slots)
	conv, ledger, trims := p.talk.Conversation(), j.life.Ledger(), j.life.Trims()
	j.trim = nil
	j.replays++
	this := j.replays
	p.where.Await()
	p.loop.Decide("the printer has kept its place: line %d, command %d of the file", number, j.life.Taken())
	go func() {
		lead, rest, err := replay(context.Background(), p.cfg.Files, j.file, slots, "", trim.New(how, trims), func(next func() (string, bool)) (run.Replayed, error) { return ledger.Replay(next, number, after) })
		answered := p.loop.Ask(context.Background(), func() {
			e := run.Event{On: run.OnReplayed, Lead: &lead}
			switch {
			case p.job != j || p.talk.Conversation() != conv || j.life.Stage() != run.Rejoining || j.replays != this:
				rest.close()
				return
			case err != nil:
				p.loop.Log.Error("reading the file again", "error", err)
				e.Reason = err.Error()
			default:
				j.from(j.life.Taken(), rest.ahead(slots, p.loop.Wake), rest.trim, lead.State)
			}
			p.step(e)
		})
		if answered != nil {
			rest.close()
		}
	}()
}

// mend says what a cut, or a hold, has kept from being said besides the file's lines, as the
// run goes on with what it had.
func (p *Printing) mend(j *job) {
	if j.trim == nil {
		return
	}
	at := p.where.Point()
	for _, line := range j.trim.Mend(at.Setpoints, at.Fan) {
		p.talk.Say(line, nil)
	}
}

// rest is a file that has been read up to some command.
type rest struct {
	in    *bufio.Reader
	body  io.Closer
	trim  *trim.Rewriter // what its lines become from there on
	leads gcode.State    // where those lead that have been read
}

func (r *rest) close() {
	if r != nil {
		r.body.Close()
	}
}

func (r *rest) ahead(slots stock.Mapping, wake func()) *ahead {
	return readAhead(r.in, r.body, slots, wake)
}

// replay opens a file, lets read have its commands as they become, up to some command, and
// returns the rest. What was said first comes before them.
func replay[P any](ctx context.Context, files Files, f toolpath.File, slots stock.Mapping, first string, becomes *trim.Rewriter, read func(next func() (string, bool)) (P, error)) (P, *rest, error) {
	body, err := files.Open(ctx, f)
	if err != nil {
		return *new(P), nil, err
	}
	in := bufio.NewReaderSize(body, 64<<10)
	lead, err := read(behind(first, becomes.Through(withSlots(slots, run.Commands(in)))))
	if err != nil {
		body.Close()
		return lead, nil, err
	}
	return lead, &rest{in: in, body: body, trim: becomes}, nil
}

// A Choice says where a run is picked up. Zero fields leave it to the plan.
type Choice struct {
	Layer   int     // from its beginning; from 1
	Command int     // or behind that many of the file's commands
	Height  float64 // at which the nozzle is, mm; NaN: as the run left it
}

// Plan returns how an interrupted run would be picked up on a printer that has
// forgotten everything.
func (p *Printing) Plan(ctx context.Context, id string, c Choice) (run.Plan, error) {
	plan, rest, err := p.plan(ctx, id, c)
	rest.close()
	return plan, err
}

// plan makes the plan and leaves the file open behind the last command before
// it.
func (p *Printing) plan(ctx context.Context, id string, c Choice) (run.Plan, *rest, error) {
	var file toolpath.File
	var ledger run.Ledger
	var trims trim.Schedule
	var how trim.File
	var slots stock.Mapping
	taken, left, aside := 0, 0.0, false
	var refused error
	err := p.loop.Ask(ctx, func() {
		j := p.job
		switch {
		case j == nil || j.life.Record().ID != id:
			refused = ErrNoRun
		case j.state() != run.Interrupted:
			refused = fmt.Errorf("%w: it is %s, not interrupted", run.ErrState, j.state())
		default:
			slots = j.life.Record().Slots
			how = p.trimmed(j.file, slots)
			file, ledger, trims, taken = j.file, j.life.Ledger(), j.life.Trims(), j.life.Taken()
			left, aside = j.life.Left()
		}
	})
	if err = errors.Join(err, refused); err != nil {
		return run.Plan{}, nil, err
	}
	command, err := chosen(c, file, taken)
	if err != nil {
		return run.Plan{}, nil, err
	}
	first, err := p.first(ctx, file, slots)
	if err != nil {
		return run.Plan{}, nil, err
	}
	to := func(command int) func(func() (string, bool)) (run.Point, error) {
		return func(next func() (string, bool)) (run.Point, error) {
			if first != "" {
				command++
			}
			return run.Replay(next, command)
		}
	}
	switch {
	case math.IsNaN(c.Height) && aside:
		c.Height = left
	case math.IsNaN(c.Height): // a printer that is kept busy is as far behind as its planner is long
		was, rest, err := replay(ctx, p.cfg.Files, file, slots, first, trim.New(how, trims), to(max(taken-plannerHolds, 0)))
		if err != nil {
			return run.Plan{}, nil, err
		}
		rest.close()
		c.Height = was.Machine()[gcode.Z]
	}
	at, rest, err := replay(ctx, p.cfg.Files, file, slots, first, trim.New(how, trims), to(command))
	if err != nil {
		return run.Plan{}, nil, err
	}
	rest.leads = at.State
	if len(trims) > 0 {
		maps.Copy(at.Setpoints, rest.trim.Setpoints())
	}
	for heater, setpoint := range at.Setpoints { // the owner may have set another limit since it began
		if err := p.cfg.Printer.Limits.Check(heater, setpoint); err != nil {
			rest.close()
			return run.Plan{}, nil, fmt.Errorf("%w: %w", ErrPlan, err)
		}
	}
	ledger.Factors(&at)
	layer := file.At(command).Layer
	plan, err := p.cfg.Rules.Parking.PickUp(command, layer, at, c.Height, run.Part(file.Extent))
	if err != nil {
		rest.close()
		return plan, nil, fmt.Errorf("%w: %w", ErrPlan, err)
	}
	return plan, rest, nil
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
	layer := file.At(taken).Layer
	if layer == 0 {
		return taken, nil
	}
	return max(taken-plannerHolds, file.Marks[layer-1].Command), nil
}

// PickUp carries out the plan for an interrupted run on a printer that has
// forgotten everything, and goes on with the file behind it.
func (p *Printing) PickUp(ctx context.Context, id string, c Choice) (Now, error) {
	plan, rest, err := p.plan(ctx, id, c)
	if err != nil {
		return Now{}, err
	}
	now, err := p.control(ctx, id, func(j *job) error {
		if err := p.step(run.Event{On: run.OnPickUp, Plan: &plan}); err != nil {
			return err
		}
		p.loop.Decide("picked up at command %d, layer %d, Z %g, nozzle at %g", plan.Command, plan.Layer, plan.Z, plan.Height)
		j.from(plan.Command, rest.ahead(j.life.Record().Slots, p.loop.Wake), rest.trim, rest.leads)
		if line := j.trim.Anew(); line != "" {
			p.talk.Say(line, nil)
		}
		rest = nil
		return nil
	})
	rest.close()
	return now, err
}

// keepRecording keeps what the flight recorder holds for a run that went wrong.
func (p *Printing) keepRecording(id string) {
	r := p.cfg.Recording()
	go func() {
		if err := p.cfg.Journal.Keep(id, r.WriteArchive); err != nil && !errors.Is(err, os.ErrNotExist) {
			p.loop.Log.Error("keeping the recording", "run", id, "error", err)
		}
	}()
}
