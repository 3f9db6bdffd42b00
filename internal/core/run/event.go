package run

import (
	"encoding/json"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/trim"
)

// Machine is what is true of the printer as an event comes in.
type Machine struct {
	At       Point                   // where the lines that it has taken lead
	Reported map[heat.Heater]float64 // setpoints, as it tells them
	Hot      bool                    // the nozzle in use is hot enough for filament to be moved
	Live     bool                    // it answers
	Why      string                  // it does not, in words
	AtOnce   bool                    // it reads M410 as that arrives, whatever is queued before it
	Sure     bool                    // everything that was said is known to be taken
	Next     int                     // the number of the next line
	Printer  json.RawMessage         // what it says of itself, the caller's to read
	Alarm    string                  // that waits for a person; empty: none does
	Now      time.Duration           // on a clock that never jumps
	Wall     time.Time               // as the computer's clock has it
}

// On is what an event tells.
type On int

// The events. Which fields of an Event hold something depends on it.
const (
	OnBegin      On = iota // the run begins, with a Soak if that is not nil
	OnHold                 // it is to be held, because of Reason
	OnResume               // it is to go on
	OnStop                 // it is to end early, because of Reason
	OnHalt                 // the emergency stop has been said
	OnPickUp               // it is to be picked up by Plan
	OnCool                 // every heater is about to be turned off, because of Reason
	OnSaid                 // one of the file's lines is said, with Number
	OnOther                // another line is said, with Number: Text
	OnTaken                // the printer has taken one of the file's lines, with Number; Heats
	OnAsk                  // the file's next line asks for a person, because of Reason, and those before it are taken
	OnSpent                // the file has no more lines
	OnUnreadable           // the file cannot be read on, because of Reason
	OnDone                 // the printer has taken the run's own command of that Token; Where it says it is, if that was asked
	OnOff                  // it has taken that heaters and fan are off
	OnSoaked               // the soak before the first line is over
	OnPause                // the printer has paused by itself
	OnCut                  // the printer is out of reach, because of Reason
	OnReset                // it has started anew in the middle, because of Reason
	OnKept                 // it answers and has kept its place: Number is the last line it took
	OnBlank                // it answers and has forgotten everything, because of Reason
	OnReplayed             // the file has been read up to where the printer is: Lead; or not, because of Reason
	OnTime                 // time passes
	OnClock                // the computer's clock was set, By so much
	OnTrim                 // its lines are to be as Trim has them
	OnUntil                // it is to be held, or to end, at Until; nil: at its file's end
	OnThere                // every line before that place is taken
	OnPerformed            // the routine that is performed first has ended; because of Reason it was not done
	OnBack                 // the host is back, having been away in the middle of the run
)

// An Event is something that happens to a run.
type Event struct {
	On     On
	Reason string
	Number int
	Text   string
	Token  uint64
	Heats  bool // the line gives a heater a setpoint
	Soak   *time.Duration
	Plan   *Plan
	Trim   *trim.Change
	Until  *Until
	Lead   *Replayed
	Where  *gcode.Position
	By     time.Duration
}

// Do is what an Effect asks for.
type Do int

// The effects. Which fields of an Effect hold something depends on it.
const (
	DoKeep      Do = iota // write Entry into the journal
	DoShow                // the record or its reason has changed: keep it, and let everyone see it
	DoLane                // let the file's lines be said, if Open
	DoDrop                // forget the file's lines that are not said, and read no more of them
	DoSkip                // the file's line that asked is done with
	DoSay                 // say Command and tell with Token when the printer has taken it
	DoUrge                // say Command ahead of everything
	DoReplay              // read the file up to what line Number leads to, and on from there; tell what it heats behind line After
	DoPoint               // the machine is at Point
	DoOff                 // turn heaters and fan off, as soon as the printer answers, and tell when it has taken that
	DoSoak                // heat the bed and hold it there for Soak; 0: until it has settled
	DoEndSoak             // no more of that
	DoPerform             // perform Routine, and tell how that ended
	DoBreakOff            // stop what is performed, because of Text
	DoMark                // note Mark in the temperature log, with Text
	DoTell                // tell everyone Text
	DoRecording           // keep what was said of late
	DoClose               // the run is over: its journal is not needed any more
)

// An Effect is something that is to be done for a run. Effects are done in order.
type Effect struct {
	Do      Do
	Entry   Entry
	Open    bool
	Command string
	Token   uint64
	Number  int
	After   int
	Point   Point
	Soak    time.Duration
	Mark    heat.MarkKind
	Text    string
	Routine Performs
}
