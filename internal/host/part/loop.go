package part

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/legible"
	"diathermon/internal/core/wire"
)

// A Loop is the host's loop as its parts see it.
type Loop struct {
	Log   *slog.Logger
	Alone bool // nothing is done aside: in a test that is the loop itself

	recorder Recorder
	wall     func() time.Time
	epoch    time.Time
	parts    []Part
	flight   Flight
	hub      hub

	asks chan func()
	wake chan struct{}
	life context.Context
	end  context.CancelFunc
}

// Flight is the flight recorder.
type Flight interface {
	Add(mark byte, text []byte)
}

// The marks of what the flight recorder is told.
const (
	MarkSent     = '>' // bytes written to the port
	MarkReceived = '<' // bytes read from it
	MarkMeasured = '=' // a reading or a position
	MarkDecided  = '!' // what the host made of it
)

// NewLoop returns a loop. Wall is what the computer's clock says, which may be set at
// any time; nil means time.Now.
func NewLoop(r Recorder, f Flight, log *slog.Logger, wall func() time.Time) *Loop {
	if wall == nil {
		wall = time.Now
	}
	life, end := context.WithCancel(context.Background())
	return &Loop{
		Log: log, recorder: r, flight: f, wall: wall, epoch: time.Now(),
		asks: make(chan func()), wake: make(chan struct{}, 1), life: life, end: end,
	}
}

// Join adds parts, which hear of everything in this order.
func (l *Loop) Join(parts ...Part) { l.parts = append(l.parts, parts...) }

// Announce lets every part hear an event, until one says that it is its alone.
func (l *Loop) Announce(event any) {
	for _, p := range l.parts {
		if p.Hear(event) {
			return
		}
	}
}

// Tick lets time pass for every part.
func (l *Loop) Tick() {
	for _, p := range l.parts {
		p.Tick()
	}
}

// Busy reports whether any part has something to do before the host may end.
func (l *Loop) Busy() bool {
	for _, p := range l.parts {
		if p.Busy() {
			return true
		}
	}
	return false
}

// Ask lets the loop call f and waits for it. It may be called from anywhere else.
func (l *Loop) Ask(ctx context.Context, f func()) error {
	done := make(chan struct{})
	select {
	case l.asks <- func() { f(); close(done) }:
	case <-l.life.Done():
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	<-done
	return nil
}

// Aside does work where nobody waits for it, and then what it returns on the loop.
func (l *Loop) Aside(work func() func()) {
	if l.Alone {
		work()()
		return
	}
	go func() { l.Ask(context.Background(), work()) }()
}

// Asks are the questions that the loop answers by calling them.
func (l *Loop) Asks() <-chan func() { return l.asks }

// Wake lets the loop look again at what there is to say. It may be called from
// anywhere and never waits.
func (l *Loop) Wake() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Wakes tells the loop to look again.
func (l *Loop) Wakes() <-chan struct{} { return l.wake }

// Close ends every question that is asked from now on.
func (l *Loop) Close() { l.end() }

// Life ends when the loop does.
func (l *Loop) Life() context.Context { return l.life }

// Now is the conversation's clock, which never jumps.
func (l *Loop) Now() time.Duration { return time.Since(l.epoch) }

// Wall is what the computer's clock says, without the reading of the clock that never
// jumps.
func (l *Loop) Wall() time.Time { return l.wall().UTC().Truncate(time.Microsecond) }

// Jumped is by how much the computer's clock has gone on more than the one that never
// jumps.
func (l *Loop) Jumped() time.Duration { return l.Wall().Sub(l.epoch.Round(0)) - l.Now() }

// Message tells something in words, to everyone and to the records.
func (l *Loop) Message(kind wire.MessageKind, text string) {
	m := wire.Message{At: time.Now(), Kind: kind, Text: legible.Line(text)}
	l.recorder.Message(m)
	l.Publish(m)
}

// Mark notes what happens in the temperature log.
func (l *Loop) Mark(at time.Time, kind heat.MarkKind, heater heat.Heater, text string) {
	l.recorder.Mark(heat.Mark{At: at, Kind: kind, Heater: heater, Text: text})
}

// Decide notes a decision in the flight recorder.
func (l *Loop) Decide(format string, args ...any) {
	l.flight.Add(MarkDecided, fmt.Appendf(nil, format, args...))
}

// Measured notes a reading or a position in the flight recorder.
func (l *Loop) Measured(format string, args ...any) {
	l.flight.Add(MarkMeasured, fmt.Appendf(nil, format, args...))
}
