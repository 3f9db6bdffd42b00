// Package bed is what is known of what lies on the bed between prints.
//
// A bed is occupied from the moment in which a run lays its first plastic until a person,
// or a routine, says that it is clear. Where nobody can know it is unknown, which is as
// good as occupied for whoever wants to print. It leaves to preflight what that keeps
// from starting, and to the host to keep it over a restart.
package bed

import (
	"errors"
	"fmt"
	"time"
)

// State is what is known.
type State string

// The states.
const (
	Clear    State = "clear"
	Occupied State = "occupied"
	Unknown  State = "unknown"
)

// Errors that callers tell apart. Each comes wrapped in a text for the person.
var (
	ErrLater = errors.New("the bed is not as it was when you looked")
	ErrLaid  = errors.New("a run lies on the bed")
	ErrState = errors.New("a bed is said to be clear or occupied")
)

// A Bed is what is known of it.
type Bed struct {
	State State
	Since time.Time // as it is known since
	Why   string    // in words
	By    string    // who has said so; empty: nobody, the host saw it
	Run   string    // ID of the run that laid on it; empty: none is known
	File  string    // that it printed
}

// Kept is what is kept of it over restarts.
type Kept struct {
	Bed   Bed
	Ended bool // the service, by itself, and nothing was done since
}

// New is the bed of a printer of which nothing is known.
func New(at time.Time) Bed {
	return Bed{State: Unknown, Since: at, Why: "nobody has said yet what lies on it"}
}

// Lay is the bed on which a run has laid its first plastic.
func (b Bed) Lay(run, file string, at time.Time) Bed {
	if b.State == Occupied && b.Run == run {
		return b
	}
	return Bed{State: Occupied, Since: at, Why: file + " was printed on it", Run: run, File: file}
}

// Say is the bed of which somebody says how it is. Seen is since when it was as they saw
// it; zero: whatever it is. Lying is the file of a run that goes on and has laid plastic;
// empty: there is none.
func (b Bed) Say(s State, by string, seen time.Time, lying string, at time.Time) (Bed, error) {
	switch {
	case s != Clear && s != Occupied:
		return b, fmt.Errorf("%w, and not %q", ErrState, s)
	case lying != "":
		return b, fmt.Errorf("%w: %s is being printed on it; say so when it has ended", ErrLaid, lying)
	case s == b.State: // somebody was faster
		return b, nil
	case !seen.IsZero() && !seen.Equal(b.Since):
		return b, fmt.Errorf("%w: it is %s since then, %s; look again", ErrLater, b.State, b.Why)
	}
	out := Bed{State: s, Since: at, By: by, Why: by + " said that something lies on it"}
	if s == Clear {
		out.Why = by + " said that it is clear"
		out.Run, out.File = b.Run, b.File // what lay there last
	}
	return out, nil
}

// Found is the bed as it is known after a start of the host. A host that has not ended by
// itself, in a power cut, does not know who was at the printer meanwhile.
func (b Bed) Found(ended bool, at time.Time) Bed {
	switch {
	case b.State == "":
		return New(at)
	case b.State == Clear && !ended:
		return Bed{State: Unknown, Since: at, Why: "the host was cut off, and does not know what was done meanwhile", Run: b.Run, File: b.File}
	}
	return b
}
