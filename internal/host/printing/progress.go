package printing

import (
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
)

// Now is a run with how far it has come.
type Now struct {
	run.Record
	run.Progress
	Z    float64       // height of the layer being drawn, mm
	Left time.Duration // until it is done

	Lasted time.Duration // from its first line to now, or to its end

	Warming time.Duration // of which the heaters take; 0 where they are warm, or not known well enough

	Trim   trim.Trim               // how its lines are said
	Until  *run.Until              // where it is to be held, or to end; nil: at its file's end
	Origin map[heat.Heater]float64 // the highest setpoints that the file gives, °C

	Forgotten bool      // interrupted, and the printer has forgotten everything
	May       []run.Act // what a person may do
}

// Now tells how far the run has come; of the last one if none goes on.
func (p *Printing) Now() *Now {
	j := p.job
	if j == nil {
		return p.last
	}
	r := j.life.Record()
	now := &Now{Record: r, Progress: run.Measure(r.Taken, r.Commands, j.file.Marks, j.file.Duration), Forgotten: j.life.Lost(), May: j.life.May()}
	if now.Layer > 0 {
		now.Z = j.file.Marks[now.Layer-1].Z
	}
	now.Lasted = r.Lasted(p.loop.Wall())
	now.Trim, now.Until, now.Origin = j.life.Trims().Last(), j.life.Until(), j.file.Setpoints
	k := j.slower()
	scaled := func(d time.Duration) time.Duration { return time.Duration(float64(d) * k) }
	now.Left = j.pace.left(scaled(j.file.Duration), scaled(now.Progress.Left))
	now.Warming = j.warmingTime(p)
	now.Left += now.Warming
	if r.State == run.Finished {
		now.Left, now.Share = 0, 1
	}
	return now
}

// forecastEvery is how often it is computed anew how long the heaters take.
const forecastEvery = time.Second

// warmingTime is how long the heaters will still take before the first plastic is
// laid; 0 where that is not known.
func (j *job) warmingTime(p *Printing) time.Duration {
	steps := j.warmingLeft()
	if len(steps) == 0 {
		return 0
	}
	if now := p.loop.Now(); now-j.warmAt >= forecastEvery || j.warmAt == 0 {
		j.warmAt, j.warm = now, 0
		if d, ok := heat.Remaining(steps, p.heating.Learners()); ok {
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

func (p *Printing) publish() {
	if now := p.Now(); now != nil {
		p.loop.Publish(now)
	}
}
