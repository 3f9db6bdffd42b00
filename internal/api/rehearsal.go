package api

import "time"

// Rehearsal is a file on the stand-in printer, as it stands.
type Rehearsal struct {
	File         string           `json:"file"`
	Digest       string           `json:"digest"`
	State        string           `json:"state" enum:"waiting,rehearsing,finished,stopped,broken" doc:"waiting: for another to be over; stopped: by a person; broken: the file could not be read"`
	Reason       string           `json:"reason,omitempty" doc:"Why it broke"`
	Asked        time.Time        `json:"asked"`
	Ended        *time.Time       `json:"ended,omitempty"`
	Share        float64          `json:"share" doc:"Of the file, 0 to 1"`
	Line         int              `json:"line" doc:"Of the file"`
	ClockSeconds float64          `json:"clock_seconds" doc:"That the stand-in has taken so far, by its own clock"`
	Report       *RehearsalReport `json:"report,omitempty" doc:"Once it is finished"`
}

// RehearsalReport is what came of a rehearsal. Times are the printer's own.
type RehearsalReport struct {
	Seconds         float64          `json:"seconds" doc:"From the first line to the last move"`
	LayingSeconds   float64          `json:"laying_seconds" doc:"From the first line to the first plastic; 0: none is laid"`
	States          []RehearsalState `json:"states" doc:"That the run is in"`
	HomingSeconds   float64          `json:"homing_seconds" doc:"Of running"`
	DwellingSeconds float64          `json:"dwelling_seconds" doc:"Of running, in waits for a time"`
	StarvedSeconds  float64          `json:"starved_seconds" doc:"Of running, that it takes longer because lines come too late over the cable"`
	Commands        int              `json:"commands" doc:"That were carried out"`
	Problems        []Finding        `json:"problems" doc:"What the file's survey has found, and what the stand-in says or leaves undone"`
	Alarms          []RehearsalAlarm `json:"alarms" doc:"What the guards would say, the first ones first"`
	MoreAlarms      int              `json:"more_alarms"`
	Learned         []string         `json:"learned" doc:"The heaters that behave as this printer's were learned to; others are those of a common printer"`
	Limits          string           `json:"limits" enum:"printer,setup,ordinary" doc:"Whose limits of speed and acceleration it moves by"`
	Heat            []HeatTrace      `json:"heat" doc:"How hot the heaters become, as if it had been started when the rehearsal was asked for"`
}

// RehearsalState is the time in one state.
type RehearsalState struct {
	State   string  `json:"state" enum:"waiting,warming,running,held,ending,finished,stopped,broken,interrupted"`
	Seconds float64 `json:"seconds"`
	Times   int     `json:"times" doc:"That it comes to be in it"`
}

// RehearsalAlarm is what a guard would say.
type RehearsalAlarm struct {
	Heater       string  `json:"heater"`
	Guard        string  `json:"guard" enum:"no-rise,slow-rise,falling,too-hot,runaway,jump,frozen,growing-need,sensor,silence,unused,no-flow"`
	Action       string  `json:"action" enum:"tell,hold,cool,halt" doc:"What it would do by itself"`
	Text         string  `json:"text"`
	AfterSeconds float64 `json:"after_seconds" doc:"From the first line"`
	Line         int     `json:"line" doc:"That was said last"`
}
