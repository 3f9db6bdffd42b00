package run

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/heat"
)

// Stage is where in its life a run stands. What a person is told is its State.
type Stage uint8

// The stages of a run, in the order of a life.
const (
	Fresh     Stage = iota // nothing has been said
	Preparing              // routines are performed before the first line
	Soaking                // the bed is held hot before the first line
	Heating                // lines are said, and no plastic is laid yet
	Drawing                // the part is being laid
	Settling               // the lines under way are taken before a hold
	Leaving                // the nozzle is on its way off the part
	Parked                 // it waits beside the part
	Returning              // it heats up and comes back
	CutShort               // the way back was broken off when the heaters were turned off
	Paused                 // the printer has paused by itself
	Finishing              // every line is taken, the last moves are made
	Stopping               // heaters and fan are turned off, the nozzle leaves the part for good
	Away                   // the printer, or the host, is out of reach
	Rejoining              // the printer has kept its place, which is being compared
	Forgotten              // the printer has forgotten everything
	PickingUp              // a plan for going on is carried out
	Over                   // nothing follows
)

// words are the stages as a journal has them.
var words = [...]string{
	Fresh:     "fresh",
	Preparing: "preparing",
	Soaking:   "soaking",
	Heating:   "heating",
	Drawing:   "drawing",
	Settling:  "settling",
	Leaving:   "leaving",
	Parked:    "parked",
	Returning: "returning",
	CutShort:  "cut short",
	Paused:    "paused",
	Finishing: "finishing",
	Stopping:  "stopping",
	Away:      "away",
	Rejoining: "rejoining",
	Forgotten: "forgotten",
	PickingUp: "picking up",
	Over:      "over",
}

func (s Stage) String() string { return words[s] }

// MarshalText writes the stage's word.
func (s Stage) MarshalText() ([]byte, error) { return []byte(words[s]), nil }

// UnmarshalText reads it. A word of a later version is none.
func (s *Stage) UnmarshalText(text []byte) error {
	i := slices.Index(words[:], string(text))
	if i < 0 {
		return fmt.Errorf("there is no stage %q", text)
	}
	*s = Stage(i)
	return nil
}

// State is what a person is told of a stage; Over's is its own.
func (s Stage) State() State {
	switch s {
	case Fresh, Preparing:
		return Waiting
	case Soaking, Heating, PickingUp:
		return Warming
	case Drawing:
		return Running
	case Settling, Leaving, Parked, Returning, CutShort, Paused:
		return Held
	case Finishing, Stopping:
		return Ending
	case Away, Rejoining, Forgotten:
		return Interrupted
	}
	return ""
}

// Open reports whether the file's lines are said in this stage.
func (s Stage) Open() bool { return s == Fresh || s == Heating || s == Drawing }

// stage is a Stage with all that is true only in it. What the journal does not keep
// has no use once the process has ended.
type stage interface{ name() Stage }

// Wish is what was asked for while the run was on its way somewhere.
type Wish struct {
	To     Asked  `json:",omitempty"`
	Reason string `json:",omitempty"` // of a hold
}

// Asked is what a wish is for.
type Asked string

// What may be wished for.
const (
	Nothing  Asked = ""
	ToResume Asked = "resume"
	ToHold   Asked = "hold"
)

// held is what a hold carries from stage to stage.
type held struct {
	Soak   *time.Duration          `json:",omitempty"` // of the soak that it was held in and that begins anew; nil: none
	Cooled map[heat.Heater]float64 `json:",omitempty"` // the setpoints that were given before the heaters were turned off; nil: they were not, or Back has them
	Idled  bool                    `json:",omitempty"` // the nozzle was let go cold: its setpoint now is nobody's wish
}

// errand is commands of the run's own, said one after another.
type errand struct {
	rest    []string // the first of them is under way
	heating []string // of all its commands those that heat
	token   uint64   // of the one under way
}

type (
	fresh     struct{}
	preparing struct {
		Done int            // of the routines
		Soak *time.Duration `json:",omitempty"` // that follows
	}
	soaking  struct{ For time.Duration }
	heating  struct{}
	drawing  struct{}
	settling struct {
		held
		Wish Wish
	}
	leaving struct {
		held
		Wish  Wish
		Back  *Point `json:",omitempty"` // where it goes on; nil until every move has been made
		Drawn bool   `json:",omitempty"` // filament is drawn back
		errand
	}
	parked struct {
		held
		Back   Point
		Drawn  bool          `json:",omitempty"`
		Coming bool          `json:",omitempty"` // it was on its way back as it was cut off, and goes on with that
		There  bool          `json:",omitempty"` // it waits at the part, where it was found, and not beside it
		since  time.Duration // on the clock that never jumps
	}
	returning struct {
		held
		Wish    Wish
		Back    Point
		Drawn   bool `json:",omitempty"`
		Picking bool `json:",omitempty"` // what is being carried on is a pick-up: the lines do not tell yet where the machine is
		errand
	}
	cutShort  returning
	paused    struct{ held }
	finishing struct {
		errand
		played bool // the moves have been made, as far as the printer's oks tell
	}
	stopping struct {
		Aside bool // the nozzle is off the part already
		Hot   bool // filament could be moved as it began
		errand
	}
	// absent is what is kept of a run that the printer, or the host, is out of reach
	// for.
	absent struct {
		Was    kept // what it was before, and is again
		Reason string
		Bed    float64 // setpoint that the bed had, °C
		Lost   bool    // the printer has forgotten everything
		After  *int    `json:",omitempty"` // the last line of which was known that it was taken, as the printer was first found again; nil: it was not yet
		since  time.Duration
	}
	away      struct{ absent }
	rejoining struct {
		absent
		heats    map[heat.Heater]float64 // setpoints of the file's lines that were taken meanwhile
		cool     string                  // why the heaters were turned off since; empty: they were not
		cooled   map[heat.Heater]float64 // the setpoints before that, once they are known
		replayed bool                    // it is known where the lines lead
		errand
	}
	forgotten struct {
		absent
		bedUntil time.Duration // the bed is kept hot until then; 0: it is not
	}
	pickingUp struct {
		Layer int
		Wish  Wish
		errand
	}
	over struct{ State State }
)

func (fresh) name() Stage     { return Fresh }
func (preparing) name() Stage { return Preparing }
func (soaking) name() Stage   { return Soaking }
func (heating) name() Stage   { return Heating }
func (drawing) name() Stage   { return Drawing }
func (settling) name() Stage  { return Settling }
func (leaving) name() Stage   { return Leaving }
func (parked) name() Stage    { return Parked }
func (returning) name() Stage { return Returning }
func (cutShort) name() Stage  { return CutShort }
func (paused) name() Stage    { return Paused }
func (finishing) name() Stage { return Finishing }
func (stopping) name() Stage  { return Stopping }
func (away) name() Stage      { return Away }
func (rejoining) name() Stage { return Rejoining }
func (forgotten) name() Stage { return Forgotten }
func (pickingUp) name() Stage { return PickingUp }
func (over) name() Stage      { return Over }

// kept is a stage as the journal keeps it.
type kept struct{ stage }

type written struct {
	Stage Stage           `json:"stage"`
	Data  json.RawMessage `json:"data,omitempty"`
}

// MarshalJSON writes the stage's name and what is kept of it.
func (k kept) MarshalJSON() ([]byte, error) {
	data, err := json.Marshal(k.stage)
	if err != nil {
		return nil, err
	}
	return json.Marshal(written{k.name(), data})
}

// UnmarshalJSON reads what MarshalJSON has written.
func (k *kept) UnmarshalJSON(text []byte) error {
	var w written
	if json.Unmarshal(text, &w) != nil {
		return nil // of a later version: the state tells
	}
	s, err := readers[w.Stage](w.Data)
	k.stage = s
	return err
}

func reader[S stage](data json.RawMessage) (stage, error) {
	var s S
	err := json.Unmarshal(data, &s)
	return s, err
}

// readers read every stage.
var readers = map[Stage]func(json.RawMessage) (stage, error){
	Fresh: reader[fresh], Preparing: reader[preparing], Soaking: reader[soaking], Heating: reader[heating], Drawing: reader[drawing],
	Settling: reader[settling], Leaving: reader[leaving], Parked: reader[parked], Returning: reader[returning],
	CutShort: reader[cutShort], Paused: reader[paused], Finishing: reader[finishing], Stopping: reader[stopping],
	Away: reader[away], Rejoining: reader[rejoining], Forgotten: reader[forgotten], PickingUp: reader[pickingUp], Over: reader[over],
}

// before is the stage that a run goes on in that was cut off in s: without what was
// asked for meanwhile, and without what was being said.
func before(s stage) stage {
	switch s := s.(type) {
	case leaving:
		if s.Back != nil {
			return parked{held: s.held, Back: *s.Back, Drawn: s.Drawn}
		}
		return settling{held: s.held}
	case settling:
		return settling{held: s.held}
	case returning:
		return s.before()
	case cutShort:
		s.Wish.To = ToHold
		return returning(s).before()
	case pickingUp:
		return pickingUp{Layer: s.Layer}
	case finishing:
		return drawing{} // and it ends again from there
	case away:
		return s.Was.stage
	case rejoining:
		return s.Was.stage
	case forgotten:
		return s.Was.stage
	}
	return s
}

func (s returning) before() stage {
	if s.Picking {
		return pickingUp{}
	}
	return parked{held: s.held, Back: s.Back, Drawn: s.Drawn, Coming: s.Wish.To == Nothing}
}
