package api

import "time"

// Guard is how one guard of one heater stands.
type Guard struct {
	Heater     string     `json:"heater"`
	Guard      string     `json:"guard" enum:"no-rise,slow-rise,falling,too-hot,runaway,jump,frozen,growing-need,sensor,silence,unused,no-flow"`
	Certain    bool       `json:"certain" doc:"What it claims cannot be anything else, so it needs no trial"`
	May        string     `json:"may" enum:"tell,hold,cool,halt" doc:"The most that it may do by itself now"`
	Most       string     `json:"most" enum:"tell,hold,cool,halt" doc:"The most that it ever does"`
	Next       string     `json:"next,omitempty" enum:"tell,hold,cool,halt" doc:"What it may do after next_hours more of the heater being on; absent: nothing more"`
	NextHours  float64    `json:"next_hours,omitempty"`
	QuietHours float64    `json:"quiet_hours" doc:"That the heater was on since something came near"`
	Closest    float64    `json:"closest" minimum:"0" maximum:"1" doc:"How near ordinary life has come to an alarm, of 1"`
	ClosestAt  *time.Time `json:"closest_at,omitempty"`
	Bound      string     `json:"bound,omitempty" enum:"tell,hold,cool,halt" doc:"The most that a keeper lets it do; absent: what it has earned"`
	Set        bool       `json:"set,omitempty" doc:"What it may do is set in the configuration, and not earned"`
	SeenHours  float64    `json:"seen_hours" doc:"That it has watched the heater while it was on"`
	Claimed    int        `json:"claimed" doc:"Alarms that it has raised"`
	Sound      int        `json:"sound" doc:"Of them that persons said were nothing"`
	Faults     int        `json:"faults" doc:"And that persons said were faults"`
	Blind      string     `json:"blind,omitempty" doc:"What it cannot see on this printer"`
}

// Guards is how the guards of every heater stand.
type Guards struct {
	Guards []Guard `json:"guards"`
}

// GuardBound is the most that a guard may do by itself.
type GuardBound struct {
	Bound string `json:"bound,omitempty" enum:"tell,hold,cool,halt" doc:"Absent: what it earns"`
}

// Look asks the guards to look at the log.
type Look struct {
	From time.Time `json:"from,omitempty" doc:"Default: 30 days before to"`
	To   time.Time `json:"to,omitempty" doc:"Default: now"`
}

// Hindsight is what the guards would have said.
type Hindsight struct {
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Progress float64   `json:"progress" minimum:"0" maximum:"1"`
	Ended    bool      `json:"ended"`
	Failed   string    `json:"failed,omitempty" doc:"Why it ended before its end"`
	Alarms   []Remark  `json:"alarms" doc:"The oldest first, 500 at the most"`
	More     int       `json:"more,omitempty" doc:"Alarms besides"`
}

// Remark is one thing that a guard would have said.
type Remark struct {
	At     time.Time `json:"at"`
	Heater string    `json:"heater"`
	Guard  string    `json:"guard" enum:"no-rise,slow-rise,falling,too-hot,runaway,jump,frozen,growing-need,sensor,silence,unused,no-flow"`
	Action string    `json:"action" enum:"tell,hold,cool,halt" doc:"What it would have done, with what it had earned by then"`
	Text   string    `json:"text"`
}
