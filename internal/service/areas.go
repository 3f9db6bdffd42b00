package service

import (
	"context"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/host"
	hostoutputs "diathermon/internal/host/outputs"
	"diathermon/internal/port"
	"diathermon/internal/web"
	"diathermon/internal/web/bench"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/heat"
	"diathermon/internal/web/live"
	"diathermon/internal/web/motion"
	"diathermon/internal/web/notices"
	"diathermon/internal/web/outputs"
	"diathermon/internal/web/people"
	"diathermon/internal/web/queue"
	"diathermon/internal/web/routines"
	"diathermon/internal/web/runs"
	"diathermon/internal/web/setup"
	"diathermon/internal/web/shelf"
	"diathermon/internal/web/slots"
	"diathermon/internal/web/wire"
)

// areas are the areas of the HTTP side, each built of the parts that it is about, and what
// each turns into live events.
func (s *starting) areas() web.Areas {
	h, printer := s.Host, s.config.Printer.Printer
	all := web.Areas{
		{
			Tag: "bench", About: "Everything live, the link, the emergency stop",
			Area: bench.Area{Host: h, Link: h.Link, Bed: h.Bed, Ports: port.List}, Event: bench.Event,
		},
		{
			Tag: "shelf", About: "Stored files",
			Area: shelf.Area{
				Printer: printer, Stock: s.stock, Shelf: s.Shelf, Intake: s.intake, Survey: s.survey, Host: h.Run, Runs: s.kept,
				Stage: s.stage,
			},
		},
		{Tag: "queue", About: "What waits to be printed", Area: queue.Area{Queue: s.line, Bed: h.Bed}},
		{Tag: "slots", About: "What is loaded where", Area: slots.Area{Stock: s.stock}},
		{
			Tag: "runs", About: "Runs of files",
			Area:  runs.Area{Host: h.Run, Log: s.kept, Recordings: s.journals, Around: s.around, Settle: s.settle},
			Event: runs.Event,
		},
		{
			Tag: "heat", About: "Heaters: log, setpoints, warm-ups, alarms, models, health, tuning",
			Area: heat.Area{
				Printer: printer, Host: h.Heat, Log: s.readings, Hindsight: s.hindsight, Past: s.kept, Kept: s.kept,
				WarmUps: s.kept, Files: s.Shelf, Settle: s.settle, PartOff: s.config.Heat.PartOff, Logger: s.log,
			},
			Event: heat.Event,
		},
		{
			Tag: "motion", About: "Moving the head and filament by hand", Area: motion.Area{Host: h.Motion}, Event: motion.Event,
		},
		{
			Tag: "outputs", About: "Fans, lights, pins",
			Area: outputs.Area{Host: h.Outputs, Bench: s.outputs}, Event: outputs.Event,
		},
		{
			Tag: "routines", About: "Named sequences of what is done by hand",
			Area:  routines.Area{Host: h.Routines, Routines: s.routines, Past: s.kept, Settle: s.settle},
			Event: routines.Event,
		},
		{
			Tag: "wire", About: "Serial traffic, and lines that a person types",
			Area: wire.Area{Hand: h.Hand, Traffic: h.Wire, Capacity: h.Capacity, Recorder: h}, Event: wire.Event,
		},
		{
			Tag: "setup", About: "How the printer is described, and how programs and devices are connected",
			Area: setup.Area{
				Printer: printer, Host: h, Listen: s.listens, Seal: s.seal, Watched: s.watched, Describing: s.described,
			},
		},
		{
			Tag: "notices", About: "What persons are told, and the browsers that are called",
			Area: notices.Area{Notices: s.notices}, Event: notices.Event,
		},
		{
			Tag: "people", About: "Accounts of persons, tokens of programs, sessions of browsers",
			Area: people.Area{People: s.people},
		},
	}
	return append(all,
		web.Area{
			Tag: "events", About: "What happens, as it happens",
			Area: live.Area{Host: h, Now: bench.Events, Of: all.Event, Log: s.log},
		},
		web.Area{Tag: "document", About: "This description", Area: desk.Document{}},
	)
}

// bare are the areas without anything behind them, to be described.
func bare() web.Areas { return (&starting{Service: &Service{Host: &host.Host{}}}).areas() }

// Document returns the OpenAPI document of the HTTP side.
func Document() ([]byte, error) { return bare().Document() }

// changed tells everyone who watches that something has changed which is no part of the
// machine.
func (s *starting) changed(what api.Thing) func() {
	return func() { s.Host.Tell(api.Changed{What: what}) }
}

// outputs are how the outputs stand.
func (s *starting) outputs(ctx context.Context) (hostoutputs.Now, error) {
	now, err := s.Host.Bench(ctx)
	return now.Outputs, err
}

// settleFor is how long a call waits for the log to catch up.
const settleFor = 2 * time.Second

// settle lets the log catch up with what the host has told. A database that is away
// must not make anybody wait for it.
func (s *starting) settle(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, settleFor)
	defer cancel()
	if err := s.writer.Flush(ctx); err != nil {
		s.log.Warn("the log is behind", "error", err)
	}
}
