package heat

import (
	"slices"
	"time"
)

// GuardName names a rule by which a heater is watched.
type GuardName string

// The guards. docs/heat.md says of each what it claims, what else could look like
// that, and why that is excluded.
const (
	NoRise   GuardName = "no-rise"      // full duty for long without any rise
	SlowRise GuardName = "slow-rise"    // far slower than this heater has ever risen
	Falling  GuardName = "falling"      // falls away while it should hold
	TooHot   GuardName = "too-hot"      // above the printer's limit
	Runaway  GuardName = "runaway"      // heat comes that nobody asked for
	Jump     GuardName = "jump"         // changes as this heater never has
	Frozen   GuardName = "frozen"       // reads the same for ever
	Growing  GuardName = "growing-need" // needs more and more duty to hold
	Sensor   GuardName = "sensor"       // the sensor's wire is open or shorted
	Silence  GuardName = "silence"      // no readings while it heats
	Unused   GuardName = "unused"       // on, and nobody uses it
	NoFlow   GuardName = "no-flow"      // filament should flow and carries no heat away
)

// Action is what the host does by itself when a guard raises an alarm.
type Action string

// The actions, from the mildest on.
const (
	Tell    Action = "tell" // a person, and nothing else
	HoldRun Action = "hold" // the run
	CoolOff Action = "cool" // hold the run and turn every heater off
	HaltAll Action = "halt" // the emergency stop
)

// rules are what each guard does at the most, and whether it needs no trial: what it
// claims cannot be anything else.
var rules = map[GuardName]struct {
	action  Action
	certain bool
	rising  bool // it halts where turning the heaters off has not helped
}{
	NoRise: {CoolOff, true, false}, SlowRise: {CoolOff, false, false}, Falling: {HoldRun, false, false},
	TooHot: {CoolOff, true, true}, Runaway: {CoolOff, false, true}, Jump: {HoldRun, false, false},
	Frozen: {CoolOff, false, false}, Growing: {CoolOff, false, false}, Sensor: {CoolOff, true, false}, Silence: {Tell, true, false}, Unused: {CoolOff, true, false},
	NoFlow: {HoldRun, false, false},
}

// ActionOf returns what a guard's alarm does at the most as it is raised.
func ActionOf(g GuardName) Action { return rules[g].action }

// Certain reports whether a guard needs no trial.
func Certain(g GuardName) bool { return rules[g].certain }

// An Alarm is what a guard has found.
type Alarm struct {
	ID     string // the host's
	At     time.Time
	Heater Heater
	Guard  GuardName
	Action Action
	Text   string // what was seen, what was expected, what to look at

	Acknowledged time.Time // by a person; zero: not yet
	By           string    // who that was
	Verdict      Verdict   // what that person said it was; empty: nothing
	Reason       string    // and why
}

// judged are the guards that judge a heater's readings one by one.
var judged = [...]GuardName{atTooHot: TooHot, atSensor: Sensor, atNoRise: NoRise, atSlowRise: SlowRise, atFalling: Falling, atRunaway: Runaway, atJump: Jump, atFrozen: Frozen, atGrowing: Growing}

// Where each of them stands among judged.
const (
	atTooHot = iota
	atSensor
	atNoRise
	atSlowRise
	atFalling
	atRunaway
	atJump
	atFrozen
	atGrowing
)

// Judged lists the guards that judge a heater's readings one by one.
func Judged() []GuardName { return judged[:] }

// watching are those, and the others whose alarms are of one heater.
var watching = append(slices.Clone(judged[:]), Silence, NoFlow)

// Watching lists the guards that stand in the table of a heater.
func Watching(h Heater) []GuardName {
	if _, nozzle := h.Tool(); nozzle {
		return watching
	}
	return slices.DeleteFunc(slices.Clone(watching), func(g GuardName) bool { return g == NoFlow })
}

// Most returns what a guard does at the most: as it is raised, or where turning the
// heaters off has not helped.
func Most(g GuardName) Action {
	if rules[g].rising {
		return HaltAll
	}
	return rules[g].action
}
