// Package hindsight lets the guards look at the temperature log: what they would have
// said, and what they would have learned of this printer.
//
// It promises to take no more than half of a core, and to keep little of the log in
// memory at a time. It leaves the judging to core/heat and the log to whoever keeps
// it.
package hindsight

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"sync"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
)

// ErrBusy means that another look goes on.
var ErrBusy = errors.New("the guards are looking at the log already")

// Span is how much of the log counts as a printer's experience, and the longest that
// may be looked at.
const Span = 366 * 24 * time.Hour

const (
	page = 6 * time.Hour // of the log in memory at a time
	most = 500           // alarms that are kept of a look
)

// Log is the temperature log. Windows begin at from and end before to.
type Log interface {
	Readings(ctx context.Context, heaters []heat.Heater, from, to time.Time, limit int) ([]heat.Sample, error)
}

// Host is whose guards gain the experience.
type Host interface {
	Inexperienced(ctx context.Context) (bool, error) // they have not learned from the log yet, or others have
	Gain(ctx context.Context, past map[heat.Heater]heat.Learned) error
}

// State is how far a look has come.
type State struct {
	From, To time.Time // zero: the guards have not looked at anything
	At       time.Time // how far it has come
	Ended    bool
	Failed   string       // why it ended before its end
	Alarms   []heat.Alarm // what the guards would have said, the oldest first
	More     int          // alarms besides
}

// Hindsight looks at the log.
type Hindsight struct {
	printer machine.Printer
	log     Log
	host    Host
	logger  *slog.Logger
	pace    float64

	mu    sync.Mutex
	state State
	asked chan struct{} // something is to be looked at
}

// New returns a hindsight of a printer whose clock runs so many times faster than the
// log's: 1, or 0, for every printer but a stand-in.
func New(printer machine.Printer, log Log, host Host, pace float64, logger *slog.Logger) *Hindsight {
	return &Hindsight{printer: printer, log: log, host: host, logger: logger, pace: pace, asked: make(chan struct{}, 1)}
}

// Look lets the guards look at a window of the log. The returned error is ErrBusy, or
// nil; State tells how far it has come.
func (h *Hindsight) Look(from, to time.Time) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.state.From.IsZero() && !h.state.Ended {
		return fmt.Errorf("%w, from %s to %s: wait until that has ended", ErrBusy, h.state.From.Format(time.DateOnly), h.state.To.Format(time.DateOnly))
	}
	h.state = State{From: from, To: to, At: from}
	h.asked <- struct{}{}
	return nil
}

// State is how the last look stands. It may be called from anywhere.
func (h *Hindsight) State() State {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := h.state
	out.Alarms = append([]heat.Alarm{}, h.state.Alarms...)
	return out
}

// Work carries out what is asked for until ctx ends. Guards that have not learned of
// this printer yet, or are others than those that did, gain their experience first.
func (h *Hindsight) Work(ctx context.Context) {
	if lacks, err := h.host.Inexperienced(ctx); err == nil && lacks {
		h.gain(ctx)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.asked:
			h.look(ctx)
		}
	}
}

// gain lets the guards learn from the log.
func (h *Hindsight) gain(ctx context.Context) {
	to := time.Now()
	t, err := h.through(ctx, to.Add(-Span), to, func(time.Time, *heat.Trial) {})
	if err == nil {
		err = h.host.Gain(ctx, t.Learned())
	}
	switch {
	case ctx.Err() != nil: // the next start does it
	case err != nil:
		h.logger.Warn("the guards could not learn from the log", "error", err)
	default:
		h.logger.Info("the guards have learned from the log", "would_have_said", len(t.Alarms))
	}
}

// look carries out what was asked for.
func (h *Hindsight) look(ctx context.Context) {
	h.mu.Lock()
	from, to := h.state.From, h.state.To
	h.mu.Unlock()
	_, err := h.through(ctx, from, to, func(at time.Time, t *heat.Trial) {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.state.At = at
		h.state.Alarms = t.Alarms[:min(len(t.Alarms), most)]
		h.state.More = len(t.Alarms) - len(h.state.Alarms)
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.state.Ended = true; err != nil {
		h.state.Failed = err.Error()
	}
}

// through lets guards that know nothing look at a window, page by page, and rests
// after each for as long as it took.
func (h *Hindsight) through(ctx context.Context, from, to time.Time, shown func(at time.Time, t *heat.Trial)) (*heat.Trial, error) {
	t := heat.NewTrial(h.printer.Limits, h.pace)
	for begun := time.Now(); from.Before(to); begun = time.Now() {
		end := from.Add(page)
		if end.After(to) {
			end = to
		}
		samples, err := h.log.Readings(ctx, h.printer.Heaters(), from, end, math.MaxInt)
		if err != nil {
			return nil, err
		}
		for _, s := range samples {
			t.Note(s)
		}
		from = end
		shown(from, t)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Since(begun)):
		}
	}
	return t, nil
}
