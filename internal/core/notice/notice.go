// Package notice says what a person would want to be told of: that a run is done, held or
// broken, an alarm, a bed that has cooled, a queue that waits for it.
//
// It promises that each thing is told once, also when the process that watches ends and
// another goes on with what was kept of its Watch, and that what a person has done by hand
// is told quietly. It leaves to others how anybody is reached.
package notice

import (
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/run"
)

// A Kind is what a notice is about. It is stable: programs go by it.
type Kind string

// The kinds.
const (
	Done        Kind = "done"        // a run is finished
	Stopped     Kind = "stopped"     // one was ended early
	Held        Kind = "held"        // one is held
	Broken      Kind = "broken"      // one cannot go on
	Interrupted Kind = "interrupted" // one can be picked up
	Alarm       Kind = "alarm"       // a guard has raised one
	Cool        Kind = "cool"        // the bed lets the part go
	Waits       Kind = "waits"       // the queue waits for the bed
	Asked       Kind = "asked"       // a routine asks a person
	Warm        Kind = "warm"        // a warm-up is done
	Trial       Kind = "trial"       // somebody tries whether notices arrive
)

// Urgent reports whether it is of something that needs a person.
func (k Kind) Urgent() bool {
	switch k {
	case Alarm, Broken, Held, Interrupted, Asked:
		return true
	}
	return false
}

// A Notice is one thing to tell.
type Notice struct {
	ID    string // in the order of their making
	At    time.Time
	Kind  Kind
	Title string
	Text  string
	Run   string // its id; empty: it is of none
	Quiet bool   // it is of a person's own making: it is kept, and nobody is called
}

// Facts are how things stand.
type Facts struct {
	At       time.Time
	Run      run.Record // that goes on, or the last one; its ID is empty where there was none
	Alarms   []Raised   // that nobody has acknowledged
	Bed      bed.State
	Reading  float64 // of the bed, °C
	Setpoint float64 // of the bed, °C; 0: it is off
	Known    bool    // the bed is read
	PartOff  float64 // °C of the bed at which a part comes off
	First    Entry   // of the queue; its ID is empty where nothing waits
	Asks     Question
	WarmUp   WarmUp
	Pace     float64 // how many times faster than ours the printer's clock runs: of a stand-in; 0 is 1
}

// Raised is an alarm.
type Raised struct{ ID, Text string }

// Entry is what waits first in the queue.
type Entry struct{ ID, File string }

// Question is what a routine asks; its ID is empty where none does.
type Question struct{ ID, Routine, Text string }

// WarmUp is how a warm-up stands; its Name is empty where there is none.
type WarmUp struct {
	Name  string
	Begun time.Time
	Ready bool
}

// A Watch is what has been told. Its zero value has seen nothing.
type Watch struct {
	Began   bool      // it has looked once
	Run     string    // the last that was looked at
	State   run.State // of that
	Since   time.Time `json:",omitzero"` // it is interrupted, and nobody was told yet; zero: it is not, or somebody was
	Alarms  []string  `json:",omitempty"`
	Cooling string    `json:",omitempty"` // a run whose part lies on a bed that is too warm still
	Entry   string    `json:",omitempty"` // that was told to wait for the bed
	Asks    string    `json:",omitempty"`
	WarmUp  time.Time // the beginning of the one that was ready
}

// Same reports whether two watches have seen the same.
func (w Watch) Same(o Watch) bool {
	return w.Began == o.Began && w.Run == o.Run && w.State == o.State && w.Since.Equal(o.Since) && slices.Equal(w.Alarms, o.Alarms) && w.Cooling == o.Cooling &&
		w.Entry == o.Entry && w.Asks == o.Asks && w.WarmUp.Equal(o.WarmUp)
}

// mends is how long an interruption lasts that somebody is told of: a cable that wiggles is
// mended by itself before.
const mends = 20 * time.Second

// Look returns what is to be told since it was looked last. What is there at the first
// look of all is told if it waits for a person, and not if it is past.
func (w *Watch) Look(f Facts) (out []Notice) {
	tell := func(k Kind, title, text string) *Notice {
		out = append(out, Notice{At: f.At, Kind: k, Title: title, Text: text})
		return &out[len(out)-1]
	}
	first := !w.Began
	w.Began = true
	r := f.Run
	if r.ID != w.Run || r.State != w.State {
		w.Since = time.Time{}
		if past := first && r.State.Final(); r.State == run.Interrupted {
			w.Since = f.At
		} else if r.ID != "" && !past {
			w.tellRun(f, tell)
		}
		w.Run, w.State = r.ID, r.State
	}
	if !w.Since.IsZero() && f.At.Sub(w.Since).Abs() >= mends {
		w.Since = time.Time{}
		w.tellRun(f, tell)
	}

	raised := make([]string, len(f.Alarms))
	for i, a := range f.Alarms {
		if raised[i] = a.ID; !slices.Contains(w.Alarms, a.ID) {
			tell(Alarm, "an alarm", a.Text)
		}
	}
	w.Alarms = raised

	switch {
	case w.Cooling == "":
	case f.Bed != bed.Occupied || r.ID != w.Cooling || f.Setpoint > 0:
		w.Cooling = ""
	case f.Known && f.Reading <= f.PartOff:
		w.Cooling = ""
		tell(Cool, fmt.Sprintf("the bed is cool enough to take %s off", r.File), fmt.Sprintf("It is at %.0f °C.", f.Reading)).Run = r.ID
	}

	switch waits := f.First.ID != "" && f.Bed != bed.Clear && f.Bed != "" && (r.ID == "" || r.State.Final()); {
	case !waits:
		w.Entry = ""
	case w.Entry == f.First.ID || w.Cooling != "":
	default:
		w.Entry = f.First.ID
		tell(Waits, f.First.File+" waits for the bed", "Take off what lies there, then say that the bed is clear.")
	}
	if f.Asks.ID != w.Asks && f.Asks.ID != "" {
		tell(Asked, f.Asks.Routine+" asks", f.Asks.Text)
	}
	w.Asks = f.Asks.ID
	if u := f.WarmUp; u.Name != "" && u.Ready && !u.Begun.Equal(w.WarmUp) {
		w.WarmUp = u.Begun
		tell(Warm, u.Name+" is warm", "It has the temperatures that were asked for.")
	}
	return out
}

// tellRun tells what has become of a run.
func (w *Watch) tellRun(f Facts, tell func(Kind, string, string) *Notice) {
	r := f.Run
	w.Cooling = ""
	var n *Notice
	switch r.State {
	case run.Finished:
		n = tell(Done, r.File+" is done", took(r, f.Pace))
	case run.Stopped:
		n = tell(Stopped, r.File+" was stopped", sentence(r.Reason))
	case run.Held:
		n = tell(Held, r.File+" is held", sentence(r.Reason))
	case run.Broken:
		n = tell(Broken, r.File+" is broken", sentence(r.Reason))
	case run.Interrupted:
		n = tell(Interrupted, r.File+" was interrupted", sentence(r.Reason))
	default:
		return
	}
	n.Run, n.Quiet = r.ID, r.ByHand()
	if r.State.Final() && f.Bed == bed.Occupied && f.Known && f.Reading > f.PartOff {
		w.Cooling = r.ID
	}
}

// took says how long a run took, against what was expected.
func took(r run.Record, pace float64) string {
	lasted := r.Lasted(r.Ended)
	text := "It took " + span(lasted)
	if r.Estimate > 0 && r.Estimate < 1000*time.Hour {
		text += "; its moves alone were computed as " + span(r.Estimate)
	}
	if pace > 1 {
		text += fmt.Sprintf(", by a clock that runs %g times slower than this stand-in's", pace)
	}
	return text + "."
}

// span is a duration in words, to the minute.
func span(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	d = d.Round(time.Minute)
	if d < time.Hour {
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h %02.0f min", float64(d/time.Hour), float64(d%time.Hour/time.Minute))
}

// sentence is a reason as a sentence.
func sentence(reason string) string {
	if reason == "" {
		return ""
	}
	return string(upper(reason[0])) + reason[1:] + "."
}

func upper(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c - 'a' + 'A'
	}
	return c
}
