package api

import "time"

// Routines are named sequences of what a person would do at the machine.
type Routines struct {
	Routines []Routine `json:"routines"`
}

// Routine is one of them.
type Routine struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Buttons []string `json:"buttons" doc:"Where it has one: bench, motion, phone"`
	Idle    bool     `json:"idle" doc:"It can be performed while no run goes on"`
	Held    bool     `json:"held" doc:"And while one is held"`
	Safe    string   `json:"safe" doc:"What it leaves behind when it is stopped, in words"`
	Own     bool     `json:"own" doc:"The keeper has written it"`
	Ready   bool     `json:"ready" doc:"One of its name comes with the host"`
	Trouble string   `json:"trouble,omitempty" doc:"Why it cannot be performed on this printer, with the line"`

	Parameters []RoutineParameter `json:"parameters"`
	May        RoutineMay         `json:"may"`
	Sentences  []string           `json:"sentences" doc:"The same in words, and what it leaves behind when it is stopped"`
	Text       string             `json:"text"`
}

// RoutineParameter is a value that is given when a routine is performed.
type RoutineParameter struct {
	Name    string   `json:"name"`
	Type    string   `json:"type" enum:"number,choice,yes/no,heater,spool"`
	Unit    string   `json:"unit,omitempty" doc:"Of a number"`
	Low     float64  `json:"low" doc:"Of a number"`
	High    float64  `json:"high"`
	Words   []string `json:"words,omitempty" doc:"That go"`
	Default string   `json:"default,omitempty" doc:"Without one it has to be given"`
}

// RoutineMay is what a routine may do, whatever its parameters, the printer and the person
// say.
type RoutineMay struct {
	Heats          map[string]float64 `json:"heats" doc:"Heaters, and to at most what, °C"`
	To             map[string]Range   `json:"to" doc:"Of X, Y and Z: where they may be sent, mm"`
	By             map[string]Range   `json:"by" doc:"How far they may go from where they stand, mm"`
	Pushes         float64            `json:"pushes" doc:"mm of filament at most, all together"`
	Draws          float64            `json:"draws"`
	Homes          bool               `json:"homes"`
	MotorsOff      bool               `json:"motors_off"`
	SaysBed        bool               `json:"says_bed" doc:"It says how the bed is"`
	Stores         bool               `json:"stores" doc:"It writes settings that outlast a restart"`
	Tunes          bool               `json:"tunes"`
	Asks           bool               `json:"asks" doc:"It asks a person"`
	Outputs        []string           `json:"outputs"`
	LongestSeconds float64            `json:"longest_seconds" doc:"Of waiting and asking, all together; moves not counted"`
}

// Range is from one number to another.
type Range struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// RoutineText is what a routine is written as.
type RoutineText struct {
	Text string `json:"text" maxLength:"65536" doc:"In the routines' language"`
}

// Perform begins a routine.
type Perform struct {
	Values map[string]string `json:"values,omitempty" doc:"Of its parameters, as a person writes them; what is left out is as usual"`
}

// Performance is a routine that is being performed, or was.
type Performance struct {
	ID       string             `json:"id" doc:"Empty: none was performed since the host began"`
	Routine  string             `json:"routine"`
	By       string             `json:"by"`
	State    string             `json:"state" enum:"going,waiting,asking,leaving,finished,stopped,broken,none"`
	Why      string             `json:"why,omitempty" doc:"It ended"`
	Begun    time.Time          `json:"begun"`
	Ended    *time.Time         `json:"ended,omitempty"`
	Said     string             `json:"said,omitempty" doc:"What it did last"`
	Until    *time.Time         `json:"until,omitempty" doc:"When waiting or asking ends"`
	Question *Question          `json:"question,omitempty"`
	Values   map[string]string  `json:"values,omitempty"`
	Entries  []PerformanceEntry `json:"entries,omitempty"`
	LeftOut  int                `json:"left_out,omitempty" doc:"Entries that were not kept"`
}

// Question is what a performance asks.
type Question struct {
	Number    int      `json:"number"`
	Text      string   `json:"text"`
	Answers   []string `json:"answers"`
	Otherwise string   `json:"otherwise,omitempty" doc:"Is taken for the answer when nobody answers in time; empty: it is stopped"`
}

// QuestionAnswer answers it.
type QuestionAnswer struct {
	Question int    `json:"question"`
	Answer   string `json:"answer"`
}

// PerformanceEntry is one line of what a performance did.
type PerformanceEntry struct {
	AtSeconds float64 `json:"at_seconds" doc:"Since it began"`
	Kind      string  `json:"kind" enum:"said,replied,did,asked,told,ended"`
	Text      string  `json:"text"`
}

// Performances are those of before.
type Performances struct {
	Performances []Performance `json:"performances"`
}
