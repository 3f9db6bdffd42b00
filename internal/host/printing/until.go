package printing

import (
	"context"
	"errors"
	"fmt"

	"diathermon/internal/core/run"
)

// ErrPlace means that a run cannot be held, or end, there.
var ErrPlace = errors.New("it is not there that a run can be held or end")

// A Place is where a run is to be held or to end.
type Place struct {
	Layer  int     // it is held before this one begins, or ends after it; from 1; 0: by Height, or, to end, the one that is drawn
	Height float64 // mm: it is held before the first layer that is as high; 0: by Layer
	End    bool
}

// Until lets the run be held, or end, at a place that it has not come to yet.
func (p *Printing) Until(ctx context.Context, id string, at Place, by string) (Now, error) {
	return p.control(ctx, id, func(j *job) error {
		u, err := j.place(at)
		if err != nil {
			return err
		}
		u.By = by
		return p.step(run.Event{On: run.OnUntil, Until: &u})
	})
}

// Onward lets the run go on to its file's end.
func (p *Printing) Onward(ctx context.Context, id string) (Now, error) {
	return p.control(ctx, id, func(*job) error { return p.step(run.Event{On: run.OnUntil}) })
}

// place is which of the file's commands a place is before.
func (j *job) place(at Place) (run.Until, error) {
	marks, layer := j.file.Marks, at.Layer
	switch {
	case at.End && layer == 0:
		layer = max(j.file.At(j.life.Taken()).Layer, 1) + 1
	case at.End:
		layer++
	case layer == 0 && at.Height > 0:
		for layer = 1; layer <= len(marks) && marks[layer-1].Z < at.Height-1e-6; layer++ {
		}
	}
	switch {
	case at.Layer == 0 && at.Height == 0 && !at.End:
		return run.Until{}, fmt.Errorf("%w: say before which layer, or at which height", ErrPlace)
	case at.End && layer == len(marks)+1:
		return run.Until{}, fmt.Errorf("%w: layer %d is the last, and the run ends there by itself", ErrPlace, len(marks))
	case layer < 1 || layer > len(marks):
		if at.Layer == 0 && at.Height > 0 {
			return run.Until{}, fmt.Errorf("%w: the file is not %g mm high", ErrPlace, at.Height)
		}
		return run.Until{}, fmt.Errorf("%w: the file has layers 1 to %d", ErrPlace, len(marks))
	case marks[layer-1].Command <= j.fed:
		return run.Until{}, fmt.Errorf("%w: layer %d has begun, with what the printer has taken already", ErrPlace, layer)
	}
	return run.Until{Command: marks[layer-1].Command, Layer: layer, End: at.End}, nil
}

// arrive tells the run that it is where it is to be held or to end, once every line before
// has been taken for certain, and, where it ends, every move has been made: what is planned
// would be broken off.
func (p *Printing) arrive(j *job, u *run.Until) {
	if s := j.life.Stage(); s != run.Heating && s != run.Drawing { // it is when it has been resumed
		return
	}
	if j.fed != j.life.Taken() || !p.talk.Conversation().Sure() || j.there {
		return
	}
	if !u.End {
		p.step(run.Event{On: run.OnThere})
		return
	}
	j.there = true
	p.talk.Say("M400", func(_ []string, err error) {
		if p.job != j {
			return
		}
		if j.there = false; err == nil {
			p.step(run.Event{On: run.OnThere})
		}
	})
}
