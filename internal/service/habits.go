package service

import (
	"log/slog"

	"diathermon/internal/core/run"
	"diathermon/internal/durable"
)

// habits keeps what the printer has shown of the time that runs take, in a small file.
type habits struct{ kept *durable.Value[run.Habits] }

func openHabits(path string, log *slog.Logger) habits {
	kept, err := durable.OpenValue[run.Habits](path, func(err error) { log.Error("what was learned of the time that runs take is not kept", "error", err) })
	if err != nil {
		log.Warn("what was learned of the time that runs take is learned anew", "error", err)
	}
	return habits{kept}
}

// Habits returns what was shown.
func (h habits) Habits() run.Habits { return h.kept.Get() }

// KeepHabits keeps what has been shown.
func (h habits) KeepHabits(now run.Habits) { h.kept.Set(now) }
