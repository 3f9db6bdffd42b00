package heat

import "time"

// MarkKind tells what a Mark is about.
type MarkKind string

// The kinds of mark.
const (
	MarkSetpoint MarkKind = "setpoint" // a heater was given another setpoint, by whomever
	MarkHold     MarkKind = "hold"     // a run was held
	MarkResume   MarkKind = "resume"   // and went on
	MarkTrim     MarkKind = "trim"     // a person let a run differ otherwise from its file
	MarkAlarm    MarkKind = "alarm"    // a guard has raised an alarm
	MarkClock    MarkKind = "clock"    // the computer's clock was moved
)

// A Mark is something that happened at one moment of the temperature log.
type Mark struct {
	At     time.Time
	Kind   MarkKind
	Heater Heater // empty where it is about none
	Text   string // in words
}
