package printing

import (
	"context"
	"fmt"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/core/wire"
)

// Trim lets the run's lines be as a change of its trim has them, from the next one on:
// what was given already, a setpoint, the fan, is given anew at once.
func (p *Printing) Trim(ctx context.Context, id string, change func(trim.Trim) trim.Trim, by string) (Now, error) {
	return p.control(ctx, id, func(j *job) error {
		before := j.life.Trim()
		file := p.trimmed(j.file, j.life.Record().Slots)
		t := change(before).Keyed(file)
		if err := t.Check(file, p.cfg.Printer.Limits); err != nil {
			return err
		}
		if j.trim == nil || j.ahead == nil {
			return fmt.Errorf("%w: it is %s, and its lines cannot be changed then", run.ErrState, j.state())
		}
		if j.life.Stage() == run.Preparing {
			return fmt.Errorf("%w: it is being prepared; change it once its first line is said", run.ErrState)
		}
		if t.Equal(before) {
			return nil
		}
		p.learn(j)
		p.takeBack(j)
		c := j.trim.Next(t, j.leads)
		if err := p.step(run.Event{On: run.OnTrim, Trim: &c, Reason: by + ": " + t.Against(before, file)}); err != nil {
			return err
		}
		for _, line := range j.trim.Take(c, p.saidPoint().Setpoints) {
			h, v, heats := run.SetpointOf(line)
			if j.state() == run.Held && (heats || gcode.CodeOf([]byte(line)).Is('M', 106)) { // which come as it is resumed
				continue
			}
			if heats && p.cfg.Printer.Limits.Check(h, v) != nil {
				p.loop.Message(wire.Wrong, fmt.Sprintf("%s stays as it was set by hand: %g °C is past its limit", h, v))
				continue
			}
			p.talk.Say(line, nil)
		}
		return nil
	})
}

// Typed takes a line that a person says by hand while the run goes on.
func (p *Printing) Typed(command string) {
	if p.job != nil && p.job.trim != nil {
		p.job.trim.Typed(command)
	}
}
