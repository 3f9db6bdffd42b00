package run

import (
	"maps"
	"time"
)

// Habits are what a printer has shown of the time that runs take on it. The zero Habits
// are those of a printer that has shown nothing.
type Habits struct {
	Moves   Shown           // how long moves take
	Settles float64         // s from a temperature's being reached to the printer's going on
	Waits   int             // that this rests on
	Holds   int             `json:",omitempty"` // moves that it has taken and not made, at the most; 0: not known
	Takes   map[string]Took `json:",omitempty"` // commands that wait by themselves, by their codes; never changed in place
}

// Took is how long a command takes.
type Took struct {
	Seconds float64
	Times   int // that this rests on
}

// How much what was shown before weighs in a run, s of its own computed time: of a printer
// that has shown nothing, of one that has told its limits, and of one of which much is known.
const (
	firstBelief = 60
	toldBelief  = 120
	mostBelief  = 600
)

// An ordinary printer waits so long, s, for a temperature to stay.
const ordinarySettle = 10

// ordinarily is how long commands take, s, that nobody has seen yet.
var ordinarily = map[string]float64{"G28": 20, "G29": 60, "G30": 8, "G32": 60, "G34": 40}

// belief is how much what was computed weighs in a run, s; told says that the printer has
// told the limits that it was computed with.
func (h Habits) belief(told bool) float64 {
	weight := float64(firstBelief)
	if told {
		weight = toldBelief
	}
	return min(weight+h.Moves.Set.Seconds, mostBelief)
}

// With is how the moves of a run are made that has shown so much: what runs before it have
// shown counts as ten minutes of it at the most, for somebody may have changed the printer's
// speed since.
func (h Habits) With(s Shown) Making {
	return h.Moves.And(s.times(max(h.Moves.Set.Seconds/mostBelief, 1))).making(h.Moves.And(s).passes())
}

// Shown learns how long moves take.
func (h Habits) Shown(s Shown) Habits {
	h.Moves = h.Moves.And(s)
	return h
}

// Settle is how long the printer waits for a temperature to stay.
func (h Habits) Settle() time.Duration {
	s := (ordinarySettle + h.Settles*float64(h.Waits)) / float64(1+h.Waits)
	return time.Duration(s * float64(time.Second))
}

// Settled learns from one such wait.
func (h Habits) Settled(took time.Duration) Habits {
	s := min(max(took.Seconds(), 0), 120)
	h.Waits = min(h.Waits+1, 20)
	h.Settles += (s - h.Settles) / float64(h.Waits)
	return h
}

// Command is how long a command takes that waits by itself.
func (h Habits) Command(code string) time.Duration {
	s := ordinarily[code]
	if t, seen := h.Takes[code]; seen {
		s = t.Seconds
	}
	return time.Duration(s * float64(time.Second))
}

// Carried learns how long such a command took: the last few times count.
func (h Habits) Carried(code string, took time.Duration) Habits {
	takes := maps.Clone(h.Takes)
	if takes == nil {
		takes = map[string]Took{}
	}
	t := takes[code]
	t.Times = min(t.Times+1, 4)
	t.Seconds += (took.Seconds() - t.Seconds) / float64(t.Times)
	if takes[code] = t; len(takes) <= mostTakes {
		h.Takes = takes
	}
	return h
}

// mostTakes are kept of a printer.
const mostTakes = 64

// Held learns how many moves the printer took at once when it had none.
func (h Habits) Held(moves int) Habits {
	if moves >= leastHeld && moves <= mostHeld {
		h.Holds = max(h.Holds, moves)
	}
	return h
}

// What a printer's planner may hold: what is beyond was counted wrongly.
const (
	leastHeld = 4
	mostHeld  = 160
)
