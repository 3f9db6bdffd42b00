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

	Trim    trim.Trim               // how its lines are said
	Differs string                  // from the file's, in words; empty: they do not
	Until   *run.Until              // where it is to be held, or to end; nil: at its file's end
	Origin  map[heat.Heater]float64 // the highest setpoints that the file gives, °C

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
	now := &Now{Record: r, Progress: j.file.At(r.Taken), Forgotten: j.life.Lost(), May: j.life.May()}
	if now.Layer > 0 {
		now.Z = j.file.Marks[now.Layer-1].Z
	}
	now.Lasted = r.Lasted(p.loop.Wall())
	now.Trim, now.Until, now.Origin = j.life.Trim(), j.life.Until(), j.file.Setpoints
	if !now.Trim.None() {
		now.Differs = now.Trim.Words(p.trimmed(j.file, nil))
	}
	now.Share = j.made(p).Seconds() / max(j.after(j.file.Commands).Seconds(), 1e-9)
	if j.file.Duration == 0 {
		now.Share = now.Progress.Share
	}
	now.Left = j.movesLeft(p)
	now.Warming = j.warmingTime(p)
	now.Left += now.Warming + j.commandsLeft(p)
	if r.State == run.Finished {
		now.Left, now.Share = 0, 1
	}
	return now
}

func (p *Printing) publish() {
	if now := p.Now(); now != nil {
		p.loop.Publish(now)
	}
}
