// Package host is the live machine: it owns the printer's port and turns the
// core's decisions into effects.
//
// One goroutine, Host.Work, holds the conversation, the run and everything the
// printer has said; every exported method hands it a question and waits for the
// answer, so that nothing here needs a lock. It promises that whoever asks,
// however often, a run's lines go out in order and a halt goes out at once.
//
// It leaves to web who may ask, to records and shelf where things are kept.
package host

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"slices"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
)

// Recorder keeps what happens. None of its methods may wait for anything.
type Recorder interface {
	Run(run.Record)
	Readings([]heat.Sample)
	Message(wire.Message)
	Mark(heat.Mark)
	Alarm(heat.Alarm) // a new one, or one that was acknowledged
	Episode(heat.Episode)
	Learned(heat.Heater, heat.Learner)
}

// Awake keeps the computer from going to sleep. Neither method may wait.
type Awake interface {
	Hold(why string) (release func())
}

// Files gives the host what is on the shelf.
type Files interface {
	File(ctx context.Context, name string) (toolpath.File, error)
	// Open opens the bytes whose digest f has. Bytes that are others are an error,
	// then and while they are read.
	Open(ctx context.Context, f toolpath.File) (io.ReadCloser, error)
}

// Printer is what the keeper has said of the machine.
type Printer struct {
	Name             string
	Nozzle, Filament float64 // diameters, mm
	Density          float64 // of the filament, g/cm³
	preflight.Printer
}

// machine is what lines are judged by.
func (p Printer) machine() bounds.Machine {
	return bounds.Machine{Size: [3]float64{p.Width, p.Depth, p.Height}, Limits: p.Limits}
}

// Heaters lists the heaters that the machine has, nozzles first.
func (p Printer) Heaters() []heat.Heater {
	names := make([]heat.Heater, 0, p.Tools+2)
	for tool := range p.Tools {
		names = append(names, heat.NozzleOf(tool))
	}
	if p.Limits.Bed > 0 {
		names = append(names, heat.Bed)
	}
	if p.Limits.Chamber > 0 {
		names = append(names, heat.Chamber)
	}
	return names
}

// Config is what a Host needs.
type Config struct {
	Device   string // path of the port; empty: the only one found
	Baud     int    // 0: find it
	Printer  Printer
	Wire     wire.Config
	Recorder Recorder
	Files    Files
	Journal  Journal
	Awake    Awake
	Log      *slog.Logger
	Learned  map[heat.Heater]*heat.Learner // of before
	Alarms   []heat.Alarm                  // of before, that nobody has acknowledged
	After    time.Time                     // when the last reading of before was made; zero if there is none

	Parking    run.Parking   // how the nozzle leaves the part; the zero value is run.Ordinary
	IdleAfter  time.Duration // how long the nozzle of a held run stays hot; 0: for ever
	UnusedFor  time.Duration // how long heaters stay on while nobody uses them; 0: for ever
	FlowWatch  heat.FlowAction
	Unguarded  bool          // no guard looks at the heaters
	Holds      Holds         // what printers can hold; nil: nobody keeps it
	Unmeasured bool          // it is not measured by itself what the printer can hold
	KeepBed    time.Duration // how long the bed of an interrupted run is kept hot for its pick-up
	Sleepy     string        // why the computer may go to sleep in the middle of a run; empty: it cannot
	ByHand     bool          // a run whose printer kept its place waits for a person all the same

	// Wall is what the computer's clock says, which may be set at any time; nil
	// means time.Now.
	Wall func() time.Time

	// OpenPort opens the port; nil means the serial port at device.
	OpenPort func(device string, baud int) (io.ReadWriteCloser, error)
}

// LinkState is where the serial connection stands.
type LinkState string

// The states of the link; from Greeting on they are the conversation's.
const (
	Absent  LinkState = "absent"  // there is no such port, or it cannot be opened
	Opening LinkState = "opening" // the port is being opened
)

// Link is the serial connection.
type Link struct {
	State  LinkState
	Reason string // in words, with what to do
	Device string
	Baud   int
	Since  time.Time
}

// Live reports whether the printer answers.
func (l Link) Live() bool { return l.State == LinkState(wire.Live) }

// HeaterNow is one heater at this moment.
type HeaterNow struct {
	heat.Sample
	State heat.State
	Limit float64 // highest setpoint, °C

	Left    time.Duration // until it is at its setpoint; 0: it is, or that is not known
	Never   bool          // it does not get there
	Soaking *heat.SoakState
}

// Position is where the printer says it is.
type Position struct {
	At    time.Time
	Where gcode.Position
	Homed [3]bool
	Known bool // it has said so since it was connected
}

// RunNow is a run with how far it has come.
type RunNow struct {
	run.Record
	run.Progress
	Z    float64       // height of the layer being drawn, mm
	Left time.Duration // until it is done

	Lasted time.Duration // from its first line to now, or to its end

	Warming time.Duration // of which the heaters take; 0 where they are warm, or not known well enough

	Forgotten bool      // interrupted, and the printer has forgotten everything
	May       []run.Act // what a person may do
}

// Bench is everything live at one moment.
type Bench struct {
	Printer     Printer
	Link        Link
	Firmware    wire.Firmware
	Heaters     []HeaterNow
	Position    Position
	Holds       HoldsNow     // what the printer can hold
	HaltsAtOnce bool         // the firmware reads an emergency stop as it arrives
	Alarms      []heat.Alarm // that wait for a person
	WarmUp      *WarmUpNow   // that goes on
	Flow        heat.FlowState
	FlowWatch   heat.FlowAction
	Run         *RunNow // the run that goes on, or the last one since the start
}

// Errors that callers tell apart. Each comes wrapped in a text for the person.
var (
	ErrNotLive  = run.ErrLive
	ErrBusy     = bounds.ErrBusy
	ErrNoRun    = errors.New("no such run is going on")
	ErrState    = run.ErrState
	ErrLine     = bounds.ErrLine
	ErrHeater   = errors.New("there is no such heater")
	ErrSetpoint = bounds.ErrSetpoint
	ErrClosed   = errors.New("the host is shutting down")
	ErrLost     = errors.New("the printer did not take it")
	ErrPlan     = errors.New("it cannot be picked up there")
	ErrJournal  = errors.New("the run cannot be kept safe")
)

// BlockedError says what stands between a file and its start.
type BlockedError struct{ Checks []preflight.Check }

func (e *BlockedError) Error() string {
	for _, c := range e.Checks {
		if c.Level == preflight.Block {
			return c.Title
		}
	}
	return "it cannot start"
}

// A Host is one printer at work.
type Host struct {
	cfg   Config
	log   *slog.Logger
	epoch time.Time
	ahead time.Duration // by how much the computer's clock went on more than the one that never jumps
	hub   hub

	asks   chan func()
	halts  chan chan error
	closed chan struct{}

	// Everything below belongs to the goroutine of Work.
	link     Link
	conv     *wire.Conversation // nil while no port is open
	firmware wire.Firmware
	clock    heat.Clock
	told     []byte      // what it says of itself, as JSON
	off      *turningOff // until every heater is off
	owesOff  bool        // heaters and fan are turned off as soon as the printer answers
	heaters  map[heat.Heater]*heat.Watch
	seen     map[heat.Heater]time.Time
	thermals map[heat.Heater]*thermal
	alarms   []heat.Alarm // that nobody has acknowledged
	flow     flowing
	leash    heat.Leash
	warming  *warming
	tuning   *TuningNow // the last one

	learnedAt time.Time // when what was learned was last kept

	position Position
	heated   bool // readings have come since the last event that told them
	moved    bool // and a position
	point    run.Point
	line     gcode.Line
	traffic  traffic
	flight   flight
	asleep   func() // lets the computer sleep again; nil while it may
	waiting  map[uint64]func(lines []string, err error)
	lastTag  uint64
	job      *job
	last     *RunNow // the last run, when none goes on
	said     string  // the link's reason, as it was last set
	reopen   bool
	rate     int       // which of the rates is tried, where none is configured
	trouble  string    // what the last of them led to
	pollHeat time.Time // next M105 or M114, where the firmware does not report by itself
	polling  bool
	writer   *writer

	holds      wire.Holds    // that were measured; without bytes: they were not
	measures   int           // begun in this conversation
	remeasure  bool          // as soon as nothing is under way
	quietSince time.Duration // nothing has been said since then
}

// New returns a host. It does nothing until Work.
func New(cfg Config) *Host {
	if cfg.OpenPort == nil {
		cfg.OpenPort = openSerial
	}
	if cfg.Wall == nil {
		cfg.Wall = time.Now
	}
	if cfg.Parking == (run.Parking{}) {
		cfg.Parking = run.Ordinary([3]float64{cfg.Printer.Width, cfg.Printer.Depth, cfg.Printer.Height})
	}
	h := &Host{
		cfg: cfg, log: cfg.Log, epoch: time.Now(),
		asks: make(chan func()), halts: make(chan chan error), closed: make(chan struct{}),
		waiting: map[uint64]func([]string, error){},
	}
	h.clock.After(cfg.After)
	h.thermals, h.alarms, h.learnedAt = newThermals(cfg), slices.Clone(cfg.Alarms), time.Now()
	h.leash.After = cfg.UnusedFor
	h.forget()
	h.link = Link{State: Absent, Device: cfg.Device, Baud: cfg.Baud, Since: time.Now()}
	return h
}

// forget drops what the printer has said, when it restarts or goes away.
func (h *Host) forget() {
	h.unknow()
	h.firmware = wire.Firmware{}
}

// unknow drops what was true of the machine only while it answered.
func (h *Host) unknow() {
	h.heaters = map[heat.Heater]*heat.Watch{}
	h.seen = map[heat.Heater]time.Time{}
	h.position = Position{}
	h.point = run.Point{}
	h.off = nil
	h.heated, h.moved = true, true // and let everyone see it
}

// now is the conversation's clock.
func (h *Host) now() time.Duration { return time.Since(h.epoch) }

// ask lets the host's goroutine call f and waits for it.
func (h *Host) ask(ctx context.Context, f func()) error {
	done := make(chan struct{})
	select {
	case h.asks <- func() { f(); close(done) }:
	case <-h.closed:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	<-done
	return nil
}

// Bench returns everything live.
func (h *Host) Bench(ctx context.Context) (Bench, error) {
	var b Bench
	err := h.ask(ctx, func() { b = h.bench() })
	return b, err
}

func (h *Host) bench() Bench {
	return Bench{Printer: h.cfg.Printer, Link: h.link, Firmware: h.firmware, Heaters: h.heatersNow(), Position: h.position, Holds: h.holdsNow(), HaltsAtOnce: h.haltsAtOnce(), Run: h.runNow(), Alarms: h.waitingAlarms(), WarmUp: h.warmUpNow(), Flow: h.flow.state, FlowWatch: h.cfg.FlowWatch}
}

// Printer returns what the keeper has said of the machine.
func (h *Host) Printer() Printer { return h.cfg.Printer }

// heatersNow lists the heaters that this printer has, nozzles first, each with
// its last reading.
func (h *Host) heatersNow() []HeaterNow {
	p := h.cfg.Printer
	names := p.Heaters()
	out := make([]HeaterNow, 0, len(names))
	for _, name := range names {
		now := HeaterNow{Sample: heat.Sample{Reading: heat.Reading{Heater: name}}, State: heat.Off, Limit: p.Limits.Of(name)}
		if w := h.heaters[name]; w != nil {
			now.Sample = heat.Sample{At: h.seen[name], Reading: w.Last}
			now.State = w.State
		}
		t := h.thermals[name]
		if now.Left, now.Never = t.left, t.foreseen && t.forecast.Never && now.Setpoint > 0; t.soak != nil {
			state := t.soaking
			if now.Soaking = &state; state.Done && now.State == heat.Steady {
				now.State = heat.Soaked
			}
		}
		if h.alarmed(name) {
			now.State = heat.Alarmed
		}
		out = append(out, now)
	}
	return out
}

// warm reports whether any heater has a setpoint.
func (h *Host) warm() bool {
	for _, w := range h.heaters {
		if w.Last.Setpoint > 0 {
			return true
		}
	}
	return false
}
