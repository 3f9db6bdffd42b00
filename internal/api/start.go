package api

import "time"

// StartRun asks for a run.
type StartRun struct {
	File        string     `json:"file" doc:"Name on the shelf" example:"dust-cap.gcode" minLength:"1"`
	Digest      string     `json:"digest,omitempty" doc:"Of the file that was looked at: if it was replaced since, nothing begins"`
	Soak        bool       `json:"soak,omitempty" doc:"Heat the bed to the file's setpoint and hold it until its heat has spread, before the first line"`
	SoakSeconds float64    `json:"soak_seconds,omitempty" minimum:"0" maximum:"14400" doc:"For so long; 0: until the plate has settled"`
	Trim        *Trim      `json:"trim,omitempty" doc:"How its lines are to differ from the file's; takes the scope operate"`
	Seen        *[]string  `json:"seen,omitempty" doc:"Kinds of the checks that were read: if another one has come since, a block or a warning, nothing begins"`
	Overrule    []Overrule `json:"overrule,omitempty" maxItems:"20" doc:"Blocks that do not matter; takes the scope operate"`

	Slots []int `json:"slots,omitempty" maxItems:"16" doc:"From which slot each of its tools is printed, tool 0 first; absent: from that of its number"`

	Before *[]Performs `json:"before,omitempty" maxItems:"8" doc:"Routines that are performed before its first line; absent: those of every run. Takes the scope operate"`
	After  *[]Performs `json:"after,omitempty" maxItems:"8" doc:"Routines that are performed once it is finished; absent: those of every run. Takes the scope operate"`
}

// Performs is a routine that is performed before a run or after it.
type Performs struct {
	Routine string            `json:"routine" doc:"Its name"`
	Values  map[string]string `json:"values,omitempty" doc:"Of its parameters; one that is left out is as usual"`
}

// Around are the routines around every run.
type Around struct {
	Before []Performs `json:"before" maxItems:"8" doc:"Performed before the first line"`
	After  []Performs `json:"after" maxItems:"8" doc:"Performed once it is finished"`
}

// Overrule is a block of which a person says that it does not matter.
type Overrule struct {
	Kind string `json:"kind" doc:"Of the check"`
	Why  string `json:"why" maxLength:"200" doc:"A word why; it is kept with the run"`
}

// Overruled is a block of which a person has said that it did not matter.
type Overruled struct {
	Kind  string `json:"kind"`
	Title string `json:"title" doc:"What was found"`
	Why   string `json:"why"`
	By    string `json:"by"`
}

// Check is one thing found before a start.
type Check struct {
	Kind     string `json:"kind" doc:"What it is about; stable, for programs" enum:"link,run,alarm,bed,file,survey,setpoint,tool,volume,depth,travel,frame,flow,pin,nozzle,filament,slot,material,plastic,command,line,odd,sensor,guards,disk,database,clock,sleep"`
	Level    string `json:"level" enum:"block,warn,note"`
	Title    string `json:"title" doc:"What was found"`
	Expected string `json:"expected,omitempty" doc:"What was expected, where the title does not say it"`
	Do       string `json:"do" doc:"What to do about it"`
	Overrule bool   `json:"overrule,omitempty" doc:"A block of which an operator may say that it does not matter"`
}

// Fine is something that was looked at before a start and is as it should be.
type Fine struct {
	Kind  string `json:"kind" doc:"As of a check"`
	Title string `json:"title"`
}

// Bed is what is known of what lies on the bed; also the event that tells it.
type Bed struct {
	State string    `json:"state" enum:"clear,occupied,unknown" doc:"Unknown is as good as occupied"`
	Since time.Time `json:"since" doc:"As it is known since; also what to name as seen"`
	Why   string    `json:"why"`
	By    string    `json:"by,omitempty" doc:"Who has said so; absent: the host saw it"`
	Run   string    `json:"run,omitempty" doc:"ID of the run that laid on it last"`
	File  string    `json:"file,omitempty" doc:"That it printed"`
}

// SayBed says how the bed is. It takes what was told of it, with another state.
type SayBed struct {
	State string    `json:"state" enum:"clear,occupied,unknown" doc:"Clear, or occupied by something; unknown leaves it as it is"`
	Since time.Time `json:"since,omitzero" doc:"Since when it was as you saw it: if it has changed since, nothing is done"`
	Why   string    `json:"why,omitempty" doc:"As it was told; so are the rest"`
	By    string    `json:"by,omitempty"`
	Run   string    `json:"run,omitempty"`
	File  string    `json:"file,omitempty"`
}

// Slots are the places where filament is loaded.
type Slots struct {
	Slots []Slot `json:"slots"`
}

// Slot is one of them.
type Slot struct {
	Number   int        `json:"number" doc:"From 0; of a printer with a slot for each tool the tool's"`
	Loaded   bool       `json:"loaded" doc:"Somebody has said what is in it"`
	Material string     `json:"material,omitempty" example:"PLA"`
	Colour   string     `json:"colour,omitempty" doc:"#rrggbb"`
	Diameter float64    `json:"diameter_mm,omitempty"`
	Coldest  float64    `json:"coldest,omitempty" doc:"°C at which it may be printed; absent: not said"`
	Hottest  float64    `json:"hottest,omitempty"`
	By       string     `json:"by,omitempty" doc:"Who has said so"`
	Since    *time.Time `json:"since,omitempty"`
}

// LoadSlot says what is in a slot. Without a material nothing is.
type LoadSlot struct {
	Material string  `json:"material,omitempty"`
	Colour   string  `json:"colour,omitempty"`
	Diameter float64 `json:"diameter_mm,omitempty"`
	Coldest  float64 `json:"coldest,omitempty"`
	Hottest  float64 `json:"hottest,omitempty"`
}

// Changed is the event that tells that something else has changed: ask for it anew.
type Changed struct {
	What Thing `json:"what" enum:"queue,slots"`
}

// Thing is what has changed.
type Thing string

// The things.
const (
	QueueChanged Thing = "queue"
	SlotsChanged Thing = "slots"
)
