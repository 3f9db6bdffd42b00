// Package history makes up the past of the demo's printer: sixty days of
// warm-ups and prints with their readings, an ageing bed heater and two alarms,
// from the physics of the stand-in printer. It is made in seconds.
package history

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// Days is how far back the past goes.
const Days = 60

// Sink keeps what is made up.
type Sink interface {
	PutChunks(ctx context.Context, chunks []heat.Chunk) error
	Run(run.Record)
	Mark(heat.Mark)
	Alarm(heat.Alarm)
	Episode(heat.Episode)
	Learned(heat.Heater, heat.Learned)
}

// aged is the share of its power that the bed has in the end.
const aged = 0.82

// faultyPart is what was being printed when something broke.
const faultyPart = "finder-shoe-dovetail.gcode"

// jobs are what is printed: the demo's files, with what their bytes amount to.
func jobs() ([]toolpath.File, error) {
	var out []toolpath.File
	for _, part := range samples.Parts() {
		var body bytes.Buffer
		if err := part.Write(&body); err != nil {
			return nil, err
		}
		sum, _, err := digest.Again(bytes.NewReader(body.Bytes()), "")
		if err != nil {
			return nil, err
		}
		facts, err := toolpath.Scan(&body, toolpath.Options{Limits: motion.Ordinary})
		if err != nil {
			return nil, err
		}
		out = append(out, toolpath.File{Name: part.Name, Digest: sum, Summary: facts})
	}
	return out, nil
}

// maker makes the past up.
type maker struct {
	sink  Sink
	ctx   context.Context
	rng   *rand.Rand
	jobs  []toolpath.File
	plant *simprinter.Plant
	warp  float64
	now   time.Time
	mono  time.Duration
	flow  float64 // that the file asks for

	heaters  map[heat.Heater]*heater
	last     map[heat.Heater]heat.Reading
	readings map[heat.Heater][]heat.Sample
	guarded  bool
	alarm    *heat.Alarm
}

type heater struct {
	learner heat.Learner
	checkup heat.Checkup
	guard   heat.Guard
	needs   heat.NeedWatch
	model   heat.Model
	modelAt time.Duration
	before  float64 // setpoint
}

// Make makes up the days before now, of a printer whose clock runs warp times
// faster.
func Make(ctx context.Context, sink Sink, now time.Time, warp float64) error {
	m := &maker{
		sink: sink, ctx: ctx, rng: rand.New(rand.NewPCG(60, 1)), plant: simprinter.NewPlant(simprinter.Vesper()), warp: warp,
		heaters: map[heat.Heater]*heater{}, last: map[heat.Heater]heat.Reading{}, readings: map[heat.Heater][]heat.Sample{},
	}
	for h, limit := range map[heat.Heater]float64{heat.Nozzle: 285, heat.Bed: 110} {
		m.heaters[h] = &heater{checkup: heat.Checkup{Heater: h}, guard: heat.Guard{Heater: h, Limit: limit}}
	}
	var err error
	if m.jobs, err = jobs(); err != nil {
		return err
	}
	midnight := now.UTC().Truncate(24 * time.Hour)
	for day := -Days; day < 0; day++ {
		if day%7 == -4 && day < -7 { // a clear night: they observe
			continue
		}
		m.now = midnight.Add(time.Duration(day)*24*time.Hour + 8*time.Hour + time.Duration(m.rng.IntN(240))*time.Minute)
		m.mono += 10 * time.Hour
		m.plant.Ambient = 16 + 8*m.rng.Float64()
		m.plant.Start(m.plant.Ambient, m.plant.Ambient)
		m.plant.Break(true, simprinter.HeaterFault{Kind: simprinter.Weak, Amount: 1 - (1-aged)*float64(day+Days)/Days})
		for n := range 1 + m.rng.IntN(3) {
			if err := m.session(day, n == 0 && (day == -38 || day == -9)); err != nil {
				return err
			}
		}
		if err := m.flush(); err != nil {
			return err
		}
	}
	for name, h := range m.heaters {
		h.guard.Need = h.needs.Kept()
		sink.Learned(name, heat.Learned{Learner: h.learner, Experience: h.guard.With(heat.Experience{})})
	}
	return nil
}

// session prints one file, perhaps with a fault in the middle.
func (m *maker) session(day int, faulty bool) error {
	job := m.jobs[m.rng.IntN(len(m.jobs))]
	if i := slices.IndexFunc(m.jobs, func(f toolpath.File) bool { return f.Name == faultyPart }); faulty && i >= 0 {
		job = m.jobs[i]
	}
	nozzle, bed := job.Setpoints[heat.Nozzle], job.Setpoints[heat.Bed]
	id, err := uuid.NewV7()
	if err != nil {
		return err
	}
	r := run.Record{ID: id.String(), File: job.Name, Digest: job.Digest, State: run.Finished, Created: m.now, Started: m.now, Commands: job.Commands, Taken: job.Commands, Filament: job.Filament, Estimate: job.Duration}
	m.pass(time.Duration(20+m.rng.IntN(100)) * time.Second)
	m.plant.Set(0, bed)
	m.pass(m.scaled(6 * time.Minute))
	m.plant.Set(nozzle, bed)
	m.pass(m.scaled(4 * time.Minute))
	r.Laying = m.now
	layers := 12
	for layer := range layers {
		if faulty && layer == 7 {
			m.fault(day, &r)
			break
		}
		if layer > 0 {
			m.plant.Fan = []float64{0.5, 1, 1, 0.75}[m.rng.IntN(4)]
		}
		m.flow = (1 + 6*m.rng.Float64()) // mm³/s of the printer's own time
		m.plant.Flow = m.flow
		m.pass(m.scaled(job.Duration / time.Duration(layers)))
	}
	m.plant.Flow, m.plant.Fan, m.flow = 0, 0, 0
	m.plant.Set(0, 0)
	r.Ended = m.now
	m.sink.Run(r)
	m.pass(m.scaled(time.Duration(10+m.rng.IntN(25)) * time.Minute))
	return m.ctx.Err()
}

// fault lets something break, and the guards find it.
func (m *maker) fault(day int, r *run.Record) {
	m.guarded = true
	broken := simprinter.HeaterFault{Kind: simprinter.Unplugged}
	if day == -9 {
		broken = simprinter.HeaterFault{Kind: simprinter.Dead}
	}
	m.plant.Break(false, broken)
	for end := m.mono + m.scaled(10*time.Minute); m.alarm == nil && m.mono < end; {
		m.pass(time.Second)
	}
	r.State, r.Reason, r.Taken = run.Stopped, "stopped by hand", r.Taken*7/12
	if a := m.alarm; a != nil {
		m.sink.Mark(heat.Mark{At: a.At, Kind: heat.MarkHold, Text: a.Text})
		a.Acknowledged, a.By = m.now.Add(4*time.Minute), "keeper"
		m.sink.Alarm(*a)
		m.sink.Mark(heat.Mark{At: a.At, Kind: heat.MarkAlarm, Heater: a.Heater, Text: a.Text})
		r.Reason = a.Text
	}
	m.plant.Break(false, simprinter.HeaterFault{})
	m.alarm, m.guarded = nil, false
}

// scaled is how long a stretch of the printer's time takes by the clock.
func (m *maker) scaled(d time.Duration) time.Duration { return time.Duration(float64(d) / m.warp) }

// pass lets time pass with a report each second.
func (m *maker) pass(d time.Duration) {
	for end := m.mono + d; m.mono < end; {
		step := time.Second + time.Duration(m.rng.NormFloat64()*4)*time.Millisecond
		m.mono += step
		m.now = m.now.Add(step)
		m.plant.Advance(time.Duration(float64(step) * m.warp))
		for _, r := range heat.ParseReport(m.plant.Report()) {
			m.note(r)
		}
	}
}

func (m *maker) note(r heat.Reading) {
	at := m.now.UTC().Truncate(heat.Resolution)
	m.readings[r.Heater] = append(m.readings[r.Heater], heat.Sample{At: at, Reading: r})
	h := m.heaters[r.Heater]
	c := heat.Conditions{Fan: m.plant.Fan}
	if r.Heater == heat.Nozzle {
		c.Flow, c.Beside = m.flow, m.last[heat.Bed].Duty
	} else {
		c.Beside = m.last[heat.Nozzle].Duty
	}
	if r.Setpoint != h.before {
		m.sink.Mark(heat.Mark{At: at, Kind: heat.MarkSetpoint, Heater: r.Heater, Text: fmt.Sprintf("%s from %g to %g °C", r.Heater, h.before, r.Setpoint)})
		h.before = r.Setpoint
	}
	h.learner.Note(m.mono, r, c)
	if climbs := h.learner.Unfitted(); climbs != nil {
		h.learner.Fit(heat.ShapeOf(climbs))
	}
	if m.mono-h.modelAt > 2*time.Minute {
		h.model, h.modelAt = h.learner.Model(), m.mono
	}
	for _, e := range h.checkup.Note(at, m.mono, r, h.model, c) {
		m.sink.Episode(e)
	}
	m.last[r.Heater] = r
	paced := heat.Paced(m.mono, m.warp)
	h.needs.Note(paced, r, c)
	h.guard.Growth = h.needs.Growth()
	for _, a := range h.guard.Note(at, paced, r, heat.Around(r.Heater, m.last)) {
		if m.guarded && m.alarm == nil {
			a.ID, a.At = uuid.NewString(), at
			m.alarm = &a
		}
	}
}

// flush hands a day's readings over, in chunks.
func (m *maker) flush() error {
	for name, samples := range m.readings {
		var chunks []heat.Chunk
		for len(samples) > 0 {
			n := 0
			for n < len(samples) && samples[n].At.Sub(samples[0].At) < heat.ChunkLength {
				n++
			}
			chunks = append(chunks, heat.ChunkOf(samples[:n]))
			samples = samples[n:]
		}
		m.readings[name] = nil
		if err := m.sink.PutChunks(m.ctx, chunks); err != nil {
			return err
		}
	}
	return nil
}
