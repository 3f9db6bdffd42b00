package heating

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// ErrNoAlarm means that no such alarm waits.
var ErrNoAlarm = errors.New("there is no such alarm")

// raise tells of an alarm and does what its guard does.
func (h *Heating) raise(a heat.Alarm) {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	a.ID = id.String()
	if t := h.thermals[a.Heater]; t != nil && !slices.Contains(heat.Judged(), a.Guard) {
		t.guard.Claims(a.Guard)
	}
	h.alarms = slices.Insert(h.alarms, 0, a) // the newest first
	h.cfg.Recorder.Alarm(a)
	h.loop.Mark(a.At, heat.MarkAlarm, a.Heater, a.Text)
	h.loop.Message(wire.Alarming, a.Text)
	h.loop.Decide("alarm %s of the %s, %s: %s", a.Guard, a.Heater, a.Action, a.Text)
	h.loop.Log.Error("alarm", "guard", a.Guard, "heater", a.Heater, "action", a.Action, "text", a.Text)
	h.loop.Announce(part.Alarmed{Alarm: a})
	switch a.Action {
	case heat.CoolOff:
		h.loop.Announce(part.Cooled{Reason: a.Text})
		h.EndWarmUp("an alarm")
		if h.line.Open() {
			h.allOff(func(error) {})
		}
	case heat.HaltAll:
		h.line.Halt()
	}
	h.loop.Publish(h.waitingAlarms())
}

// waitingAlarms are those that nobody has acknowledged.
func (h *Heating) waitingAlarms() Alarms { return slices.Clone(h.alarms) }

// alarmed reports whether an alarm that did something waits for a heater.
func (h *Heating) alarmed(heater heat.Heater) bool {
	return slices.ContainsFunc(h.alarms, func(a heat.Alarm) bool { return a.Heater == heater && a.Action != heat.Tell })
}

// Acknowledge notes that a person has seen an alarm, what that person says it was, and why.
func (h *Heating) Acknowledge(ctx context.Context, id, by string, was heat.Verdict, reason string) (heat.Alarm, error) {
	var seen heat.Alarm
	refused := fmt.Errorf("%w: %q", ErrNoAlarm, id)
	err := h.loop.Ask(ctx, func() {
		for i, a := range h.alarms {
			if a.ID == id {
				a.Acknowledged, a.By, a.Verdict, a.Reason = time.Now().UTC(), by, was, reason
				h.alarms = slices.Delete(h.alarms, i, i+1)
				h.cfg.Recorder.Alarm(a)
				h.loop.Decide("alarm %s acknowledged: %s", a.Guard, a.Said())
				if t := h.thermals[a.Heater]; t != nil && was != "" {
					t.guard.Told(a.Guard, was)
					h.loop.Mark(a.Acknowledged, heat.MarkAlarm, a.Heater, fmt.Sprintf("%s of the %s: %s", a.Guard, a.Heater, a.Said()))
					h.KeepLearned()
				}
				h.loop.Publish(h.waitingAlarms())
				seen, refused = a, nil
				return
			}
		}
	})
	return seen, errors.Join(err, refused)
}
