package printing

import (
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/host/part"
)

// Habits keep what the printer has shown of the time that runs take.
type Habits = part.Memory[run.Habits]

// An outlook is what a run needs to say when it will be done.
type outlook struct {
	pace run.Pace
	watching
	timing   timing
	shown    run.Shown  // what the run has shown of how long moves take
	computed run.Course // the moves' times as they were computed, and as a person has changed them
	course   run.Course // and as the printer was believed to make them when the run began
	takes    time.Duration
	warmAt   time.Duration // when it was computed last how long the heaters take
	warm     time.Duration // and how long
	step     int           // the command that waits for heat now; 0: none does
	rises    map[heat.Heater]*heat.Rising
	there    time.Duration // since when its temperature is reached; 0: it is not
}

// forecastEvery is how often it is computed anew how long the heaters take.
const forecastEvery = time.Second

// plannerMost is how many moves a printer's planner holds at the most; common ones hold 16
// to 64.
const plannerMost = 64

// after is the computed time of the moves of the file's first so many commands, as the run
// makes them.
func (j *job) after(taken int) time.Duration {
	d := j.outlook.course.After(max(taken, 0), j.file.Commands, j.outlook.takes)
	if j.outlook.timing.known {
		return d
	}
	return j.scaled(d)
}

// expect works the moves' times out by what the printer has shown.
func (p *Printing) expect(j *job, course run.Course, takes time.Duration) {
	o := &j.outlook
	o.computed = course
	o.course, o.takes = course.As(p.habits.Moves.Making(), takes)
}

// made is the computed time of the moves that the printer has made, as the run makes them.
func (j *job) made(p *Printing) time.Duration {
	if j.outlook.pace.Begun() {
		return j.outlook.pace.Made(p.habits, p.clock())
	}
	return j.after(j.life.Taken())
}

// learn keeps what the run has shown of the time that moves take.
func (p *Printing) learn(j *job) {
	p.habits = p.habits.Shown(j.outlook.shown)
	j.outlook.shown = run.Shown{}
	j.outlook.pace = j.outlook.pace.Anew()
}

// slower is by how much longer the run's moves take than the file's: what lays plastic
// is drawn at another speed, travels are not.
func (j *job) slower(t trim.Trim) float64 {
	laying := 1 - j.file.Travelling.Seconds()/max(j.file.Duration.Seconds(), 1e-9)
	return 1 + min(max(laying, 0), 1)*(1/t.Factor()-1)
}

// scaled is a computed time of the file's moves as the run makes them.
func (j *job) scaled(d time.Duration) time.Duration {
	return time.Duration(float64(d) * j.slower(j.life.Trim()))
}

// note follows the time that lines take, once the last temperature is reached; busy says that
// the printer had lines to go on with, full that it held as many as it can. What it holds has
// been taken and is not made: how much that is it has shown, or may be as much as any.
func (p *Printing) note(j *job, busy, full bool) {
	if s := j.state(); s != run.Running && (s != run.Warming || len(j.warmingLeft()) > 0) {
		return
	}
	pace, taken := &j.outlook.pace, j.life.Taken()
	pace.Told = j.file.LimitsOf == toolpath.PrintersLimits
	least, most := taken-plannerMost, taken-1
	if holds := p.habits.Holds; holds > 0 {
		if least = taken - holds - 1; full {
			most = min(taken-holds+1, most)
		}
	}
	pace.Note(p.habits, p.clock(), j.after(least), j.after(max(least, most)), busy)
	p.compare(j)
}

// compare learns from what was noted last how long moves of each kind take.
func (p *Printing) compare(j *job) {
	o := &j.outlook
	if took, from, to := o.pace.Noted(); took > 0 && j.tellsKinds() {
		set, own := o.computed.Between(o.course, from, to)
		o.shown.Note(p.habits.Moves, took, set, own)
	}
}

// tellsKinds reports whether it is known of which kinds of time the run's moves are made.
func (j *job) tellsKinds() bool {
	return j.outlook.computed.Kinds() && (j.outlook.timing.known || j.slower(j.life.Trim()) == 1)
}

// drained notes that all the file's moves are made.
func (p *Printing) drained(j *job) {
	all := j.after(j.file.Commands)
	j.outlook.pace.Note(p.habits, p.clock(), all, all, true)
	p.compare(j)
}

// clock is the printer's, which runs faster than ours where it is a stand-in's.
func (p *Printing) clock() time.Duration {
	return heat.Paced(p.loop.Now(), p.heating.Pace())
}

// ours is by our clock what is d by the printer's.
func (p *Printing) ours(d time.Duration) time.Duration {
	return time.Duration(float64(d) / max(p.heating.Pace(), 1))
}

// last is how many of the file's commands the run is to say.
func (j *job) last() int {
	if u := j.life.Until(); u != nil && u.End {
		return u.Command
	}
	return j.file.Commands
}

// movesLeft is how long the moves still take that are to come: by what the printer has shown
// of each kind of time, before this run and in it, where it is known of which they are made.
func (j *job) movesLeft(p *Printing) time.Duration {
	o, made, last := &j.outlook, j.made(p), j.after(j.last())
	if !j.tellsKinds() {
		return p.ours(o.pace.Left(p.habits, max(last-made, 0)))
	}
	return p.ours(p.habits.With(o.shown).Takes(o.computed.Between(o.course, made, max(last, made))))
}

// warmingTime is how long the printer will still wait for heat before it goes on to the
// first plastic.
func (j *job) warmingTime(p *Printing) time.Duration {
	o := &j.outlook
	steps := j.warmingLeft()
	if len(steps) == 0 || !p.heating.Known() {
		return 0
	}
	now := p.loop.Now()
	if now-o.warmAt < forecastEvery && o.warmAt != 0 {
		return o.warm
	}
	o.warmAt = now
	took, known := heat.Remaining(steps, p.heating.Learners())
	if rises := j.rising(p); !known {
		took = p.ours(heat.Roughly(steps, rises))
	}
	waits := 0
	for _, s := range steps {
		if s.Wait && s.Setpoint > 0 {
			waits++
		}
	}
	settle := p.ours(p.habits.Settle())
	if o.warm = took + time.Duration(waits)*settle; o.there > 0 {
		o.warm -= min(now-o.there, settle)
	}
	return o.warm
}

// rising follows how the heaters rise.
func (j *job) rising(p *Printing) map[heat.Heater]*heat.Rising {
	o := &j.outlook
	if o.rises == nil {
		o.rises = map[heat.Heater]*heat.Rising{}
	}
	for _, h := range p.heating.Now().Heaters {
		if o.rises[h.Heater] == nil {
			o.rises[h.Heater] = &heat.Rising{}
		}
		o.rises[h.Heater].Note(p.clock().Seconds(), h.Actual, h.Setpoint)
	}
	return o.rises
}

// settles learns how long the printer waits for a temperature to stay.
func (p *Printing) settles(j *job) {
	o := &j.outlook
	steps, now := j.warmingLeft(), p.loop.Now()
	var waits heat.Step
	for _, s := range steps {
		if s.Wait && s.Setpoint > 0 {
			waits = s
			break
		}
	}
	if waits.Command != o.step {
		if o.step != 0 && o.there > 0 {
			p.habits = p.habits.Settled(heat.Paced(now-o.there, p.heating.Pace()))
		}
		o.step, o.there = waits.Command, 0
	}
	if o.step == 0 || o.there > 0 {
		return
	}
	for _, h := range p.heating.Now().Heaters {
		if h.Heater == waits.Heater && h.Actual >= waits.Setpoint-heat.Ready {
			o.there = now
		}
	}
}

// warmingLeft are the steps of the file's warm-up that the printer has not done, as the
// run says them.
func (j *job) warmingLeft() []heat.Step {
	r := j.life.Record()
	if r.State != run.Waiting && r.State != run.Warming {
		return nil
	}
	differs := j.life.Trim()
	for i, s := range j.file.Warming {
		if s.Command <= r.Taken {
			continue
		}
		if differs.None() {
			return j.file.Warming[i:]
		}
		var out []heat.Step
		for _, s := range j.file.Warming[i:] {
			s.Setpoint = differs.Setpoint(s.Heater, s.Setpoint, true)
			out = append(out, s)
		}
		return out
	}
	return nil
}
