package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/byhand"
	"diathermon/internal/host/capacity"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/moving"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/outputs"
	"diathermon/internal/host/part"
	"diathermon/internal/host/performing"
	"diathermon/internal/host/position"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/remarks"
	"diathermon/internal/host/settings"
	"diathermon/internal/host/talk"
	"diathermon/internal/host/traffic"
	"diathermon/internal/port"
)

// This is the list of the parts: what each is given, in which order they hear of what
// happens, and what each shows on the bench.

// Parts are what the host's loop owns.
type Parts struct {
	Printer  machine.Printer
	Wire     *traffic.Traffic
	Where    *position.Position
	Link     *talk.Talk
	Heat     *heating.Heating
	Capacity *capacity.Capacity
	Run      *printing.Printing
	Hand     *byhand.Hand
	Motion   *moving.Moving
	Outputs  *outputs.Outputs
	Routines *performing.Performing
	Bed      *occupancy.Occupancy
	Settings *settings.Settings

	flight *traffic.Recorder
}

// Bench is everything live at one moment: every part's share.
type Bench struct {
	Printer machine.Printer
	Pace    float64 // how many times faster the printer's clock runs than ours: more than 1 of a stand-in
	talk.Now
	Heat     heating.Now
	Position position.Now
	Holds    capacity.Now
	Motion   moving.Now
	Outputs  outputs.Now
	Routine  performing.Now // its ID is empty: none was performed since the start
	Bed      occupancy.Now
	Run      *printing.Now // the run that goes on, or the last one since the start
}

func (p *Parts) bench() Bench {
	return Bench{Printer: p.Printer, Pace: max(p.Heat.Pace(), 1), Now: p.Link.Now(), Heat: p.Heat.Now(), Position: p.Where.Now(), Holds: p.Capacity.Now(), Motion: p.Motion.Now(), Outputs: p.Outputs.Now(), Routine: p.Routines.Now(), Bed: p.Bed.Now(), Run: p.Run.Now()}
}

// Recorder keeps what happens. None of its methods may wait for anything.
type Recorder interface {
	part.Recorder
	heating.Recorder
	printing.Recorder
	performing.Recorder
}

// Config is what a Host needs.
type Config struct {
	Printer  machine.Printer
	Recorder Recorder
	Log      *slog.Logger

	Device string      // path of the port; empty: the only one found
	Baud   int         // 0: find it
	Open   port.Opener // nil: the serial port
	Wire   wire.Config

	Learned   map[heat.Heater]*heat.Learned // of before
	Alarms    []heat.Alarm                  // of before, that nobody has acknowledged
	After     time.Time                     // when the last reading of before was made; zero if there is none
	UnusedFor time.Duration                 // how long heaters stay on while nobody uses them; 0: for ever
	FlowWatch heat.FlowAction
	Unguarded bool    // no guard looks at the heaters
	Pace      float64 // how many times faster the printer's clock runs than ours: of a stand-in; 0 is 1

	Holds      capacity.Memory // what printers can hold; nil: nobody keeps it
	Unmeasured bool            // it is not measured by itself what the printer can hold

	Motion func(motion.Limits) // is told what the printer says that its axes can do, and may not wait; nil: it is not asked

	Library   routine.Library   // the routines; nil: none are performed around runs
	Usually   func() run.Around // around every run; nil: none
	Performed performing.Memory // what is being performed; nil: nobody remembers it

	Bed     bed.Bed          // as it was found; its zero value: nothing is known of it
	KeepBed occupancy.Memory // nil: nobody remembers it

	Files   printing.Files
	Journal printing.Journal
	Awake   printing.Awake
	Sleepy  string                  // why the computer may go to sleep in the middle of a run; empty: it cannot
	Reading func() toolpath.Options // what files are read with; nil: ordinary limits. It may not wait

	Habits printing.Habits // nil: nobody keeps what the printer has shown of the time that runs take
	Slots  func() []stock.Slot
	Around func() preflight.Around
	Rules  run.Rules // without parking: run.Ordinary

	// Wall is what the computer's clock says, which may be set at any time; nil
	// means time.Now.
	Wall func() time.Time
}

// New returns a host. It does nothing until Work.
func New(c Config) *Host {
	if c.Open == nil {
		c.Open = port.OpenSerial
	}
	if c.Rules.Parking == (run.Parking{}) {
		c.Rules.Parking = run.Ordinary(c.Printer.Size())
	}
	flight := &traffic.Recorder{}
	loop := part.NewLoop(c.Recorder, flight, c.Log, c.Wall)
	h := &Host{loop: loop, open: c.Open, halts: make(chan chan error)}

	p := Parts{Printer: c.Printer, flight: flight, Wire: traffic.New(loop), Where: position.New(loop)}
	p.Link = talk.New(talk.Config{Device: c.Device, Baud: c.Baud, Wire: c.Wire}, loop, flight, p.Where)
	p.Heat = heating.New(heating.Config{
		Printer: c.Printer, Recorder: c.Recorder, Learned: c.Learned, Alarms: c.Alarms, After: c.After,
		UnusedFor: c.UnusedFor, FlowWatch: c.FlowWatch, Unguarded: c.Unguarded, Pace: c.Pace,
	}, loop, p.Link, p.Where)
	p.Capacity = capacity.New(capacity.Config{Wire: c.Wire, Memory: c.Holds, Unmeasured: c.Unmeasured}, loop, p.Link, p.Heat)
	p.Settings = settings.New(loop, p.Link, c.Motion)
	p.Bed = occupancy.New(c.Bed, c.KeepBed, loop)
	p.Run = printing.New(printing.Config{
		Printer: c.Printer, Recorder: c.Recorder, Files: c.Files, Journal: c.Journal, Awake: c.Awake,
		Rules: c.Rules, Sleepy: c.Sleepy, Habits: c.Habits, Reading: c.Reading, Usually: c.Usually, Accelerations: p.Settings.Accelerations, Back: p.Settings.Back, Slots: c.Slots, Around: c.Around, Recording: h.recording,
	}, loop, p.Link, p.Where, p.Heat, p.Bed)
	p.Hand = byhand.New(p.Link, p.Run, h.Halt)
	p.Motion = moving.New(c.Printer, c.Rules.Parking, loop, p.Link, p.Where, p.Heat, p.Run)
	p.Outputs = outputs.New(c.Printer.Outputs, loop, p.Link, p.Run)
	p.Routines = performing.New(performing.Config{Printer: c.Printer, Parking: c.Rules.Parking, Recorder: c.Recorder, Memory: c.Performed, Library: c.Library}, loop, p.Link, p.Where, p.Heat, p.Run, p.Motion, p.Outputs, p.Bed)
	p.Run.Mind(p.Motion, p.Routines)
	if c.Library != nil {
		p.Run.Through(p.Routines)
	}
	p.Motion.Attend(p.Routines)
	p.Hand.Attend(p.Routines)
	p.Hand.Tell(p.Settings.Typed, p.Run.Typed)
	p.Link.Attend(p.Run)
	p.Bed.Attend(p.Run)
	p.Heat.Attend(p.Run)
	p.Capacity.Attend(p.Run)
	p.Settings.Attend(p.Run)

	h.Parts = p
	loop.Join(p.Wire, p.Where, p.Link, p.Heat, p.Settings, remarks.New(loop), p.Capacity, p.Bed, p.Run, p.Motion, p.Outputs, p.Routines)
	return h
}

// Told is what the printer has told of itself since it answers. It may be called from
// anywhere.
func (h *Host) Told(ctx context.Context) (machine.Description, error) {
	var out machine.Description
	err := h.loop.Ask(ctx, func() {
		f := h.Link.Now().Firmware
		size, filament := h.Settings.Size()
		if size == ([3]float64{}) {
			size = f.Ends
		}
		if size[0] > 0 {
			out.Width, out.Depth, out.Height = &size[0], &size[1], &size[2]
		}
		if filament > 0 {
			out.Filament = &filament
		}
		if f.Machine != "" {
			out.Name = &f.Machine
		}
		if f.Name != "" {
			out.Tools = &f.Extruders
		}
	})
	return out, err
}

// ErrUnderWay means that the host cannot begin anew now.
var ErrUnderWay = errors.New("something is under way")

// Free says why the host cannot begin anew now, as an error that is ErrUnderWay; nil:
// nothing is under way and nothing is heated. It may be called from anywhere.
func (h *Host) Free(ctx context.Context) error {
	var busy error
	err := h.loop.Ask(ctx, func() {
		file, state := h.Run.Brief()
		doing := cmp.Or(h.Motion.Doing(), h.Routines.Doing())
		switch {
		case file != "":
			busy = fmt.Errorf("%w: %s is %s", ErrUnderWay, file, state)
		case doing != "":
			busy = fmt.Errorf("%w: %s", ErrUnderWay, doing)
		default:
			for _, now := range h.Heat.Now().Heaters {
				if now.Setpoint > 0 {
					busy = fmt.Errorf("%w: %s is heated; turn it off first", ErrUnderWay, now.Heater)
					break
				}
			}
		}
	})
	return errors.Join(err, busy)
}

// recording is what the flight recorder holds.
func (p *Parts) recording() traffic.Recording {
	return p.flight.Recording(map[string]any{"printer": p.Printer.Name, "link": p.Link.Now().Link, "run": p.Run.Now()})
}

// Recording returns what the flight recorder holds now. It may be called from anywhere.
func (h *Host) Recording(ctx context.Context) (traffic.Recording, error) {
	var r traffic.Recording
	err := h.loop.Ask(ctx, func() { r = h.recording() })
	return r, err
}
