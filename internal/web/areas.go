package web

import (
	"context"
	"fmt"
	"log/slog"
	"net"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/core/machine"
	"diathermon/internal/doors/dav"
	"diathermon/internal/doors/folder"
	"diathermon/internal/host"
	hostoutputs "diathermon/internal/host/outputs"
	"diathermon/internal/host/part"
	core "diathermon/internal/people"
	"diathermon/internal/port"
	"diathermon/internal/seal"
	"diathermon/internal/web/bench"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
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

// This is the list of the areas, what each is given, and what each turns into live
// events.

// Host is the live machine as a whole.
type Host interface {
	bench.Host
	Subscribe() (<-chan part.Update, func())
}

// Server answers HTTP for one host.
type Server struct {
	Printer machine.Printer
	Access  *guard.Access
	Logger  *slog.Logger
	Flush   func(context.Context) error // returns when what the host has told is in the log

	Host Host
	Link bench.Link
	Run  interface {
		runs.Host
		shelf.Host
	}
	Runs       runs.Log
	Recordings runs.Recordings
	Around     runs.Around
	Intake     shelf.Intake
	Folder     *dav.Door      // the shelf as a folder; nil: it is none
	Watched    *folder.Folder // on the host's disk; nil: none is
	Listen     net.Addr
	Seal       *seal.Seal // nil: it does not speak TLS
	Proxy      guard.Proxy
	Names      func() []string // of the host, besides those of its network; nil: any will do
	FramedBy   []string        // origins whose pages may frame the console
	Queue      queue.Queue
	Bed        bench.Bed
	Stock      slots.Stock
	Shelf      interface {
		shelf.Shelf
		heat.Files
	}
	Described setup.Describing
	Notices   notices.Notices
	Survey    shelf.Survey
	Stage     shelf.Stage
	Files     shelf.Runs
	Heat      heat.Host
	HeatLog   heat.Log
	Hindsight heat.Hindsight
	HeatPast  heat.Past
	HeatKept  heat.Kept
	WarmUps   heat.WarmUps
	PartOff   float64 // °C of the bed at which a part comes off
	Wire      wire.Area
	Motion    motion.Host
	Outputs   outputs.Host

	Performing routines.Host
	Routines   routines.Store
	Performed  routines.Past
}

// mount mounts every area under /v1 and describes it.
func (s *Server) mount(r chi.Router) *desk.Desk {
	d := desk.New(r, s.Access, s.Logger)
	d.Mount("bench", "Everything live, the link, the emergency stop", bench.Area{Host: s.Host, Link: s.Link, Bed: s.Bed, Ports: port.List})
	d.Mount("shelf", "Stored files", shelf.Area{Printer: s.Printer, Stock: s.Stock, Shelf: s.Shelf, Intake: s.Intake, Survey: s.Survey, Host: s.Run, Runs: s.Files, Stage: s.Stage})
	d.Mount("queue", "What waits to be printed", queue.Area{Queue: s.Queue, Bed: s.Bed})
	d.Mount("slots", "What is loaded where", slots.Area{Stock: s.Stock})
	d.Mount("runs", "Runs of files", runs.Area{Host: s.Run, Log: s.Runs, Recordings: s.Recordings, Around: s.Around, Settle: s.settle})
	d.Mount("heat", "Heaters: log, setpoints, warm-ups, alarms, models, health, tuning", heat.Area{
		Printer: s.Printer, Host: s.Heat, Log: s.HeatLog, Hindsight: s.Hindsight, Past: s.HeatPast, Kept: s.HeatKept, WarmUps: s.WarmUps,
		Files: s.Shelf, Settle: s.settle, PartOff: s.PartOff, Logger: s.Logger,
	})
	d.Mount("motion", "Moving the head and filament by hand", motion.Area{Host: s.Motion})
	d.Mount("outputs", "Fans, lights, pins", outputs.Area{Host: s.Outputs, Bench: s.outputs})
	d.Mount("routines", "Named sequences of what is done by hand", routines.Area{Host: s.Performing, Routines: s.Routines, Past: s.Performed, Settle: s.settle})
	d.Mount("wire", "Serial traffic, and lines that a person types", s.Wire)
	d.Mount("setup", "How the printer is described, and how programs and devices are connected", setup.Area{Printer: s.Printer, Host: s.Host, Listen: s.Listen, Seal: s.Seal, Watched: s.Watched, Describing: s.Described})
	d.Mount("notices", "What persons are told, and the browsers that are called", notices.Area{Notices: s.Notices})
	d.Mount("people", "Accounts of persons, tokens of programs, sessions of browsers", people.Area{People: s.people()})
	d.Mount("events", "What happens, as it happens", live.Area{Host: s.Host, Now: bench.Events, Of: event, Log: s.Logger})
	d.Mount("document", "This description", desk.Document{})
	if missing := d.Missing(); len(missing) > 0 {
		panic(fmt.Sprintf("operations are declared and not mounted: %s", missing))
	}
	return d
}

// A Change is something that has changed and is no part of the machine.
type Change string

// The changes.
const (
	QueueChanged Change = "queue"
	SlotsChanged Change = "slots"
)

// Changed is a change as everyone who watches is told of it.
func Changed(c Change) any { return api.Changed{What: string(c)} }

// event is what a part of the host shows as data of one of the contract's events; nil:
// it is for nobody.
func event(what any) any {
	if changed, is := what.(api.Changed); is {
		return changed
	}
	for _, of := range []func(any) any{bench.Event, motion.Event, outputs.Event, routines.Event, heat.Event, runs.Event, wire.Event, notices.Event} {
		if e := of(what); e != nil {
			return e
		}
	}
	return nil
}

var _ Host = (*host.Host)(nil)

// people are those who may use the host; nil: it is only described.
func (s *Server) people() *core.People {
	if s.Access == nil {
		return nil
	}
	return s.Access.People
}

// outputs are how the outputs stand.
func (s *Server) outputs(ctx context.Context) (hostoutputs.Now, error) {
	now, err := s.Host.Bench(ctx)
	return now.Outputs, err
}
