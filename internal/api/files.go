package api

import "time"

// File is a stored file. What its survey has not worked out yet is 0 or left out.
type File struct {
	Name              string             `json:"name" example:"dust-cap.gcode"`
	Size              int64              `json:"size" doc:"Bytes"`
	Digest            string             `json:"digest" doc:"Of its bytes: blake3- and 64 hexadecimal digits, as b3sum prints them; of a file stored by an older version, its SHA-256 in 64 digits"`
	Stored            time.Time          `json:"stored"`
	Sender            string             `json:"sender,omitempty" doc:"What sent it, by its token's name"`
	Tags              []string           `json:"tags" doc:"Words that a person has put to it"`
	History           History            `json:"history" doc:"How often these bytes were run, and how that ended"`
	Survey            Survey             `json:"survey"`
	Lines             int                `json:"lines"`
	Commands          int                `json:"commands" doc:"Lines that the printer receives"`
	Layers            int                `json:"layers"`
	LayerHeight       float64            `json:"layer_height" doc:"The commonest, mm"`
	Extent            *Extent            `json:"extent,omitempty" doc:"Of everything that lays plastic"`
	Part              *Extent            `json:"part,omitempty" doc:"Of that without the first layer, where there are others: neither priming line nor skirt"`
	FilamentMM        float64            `json:"filament_mm"`
	FilamentMM3       float64            `json:"filament_mm3" doc:"Volume, mm³"`
	FilamentG         float64            `json:"filament_g" doc:"At the density in the configuration"`
	Cost              *float64           `json:"cost,omitempty" doc:"At the price in the configuration, if there is one"`
	Currency          string             `json:"currency,omitempty"`
	Tools             []ToolUse          `json:"tools" doc:"What each tool pushes, and for how long it is in use"`
	DurationSeconds   float64            `json:"duration_seconds" doc:"Of the moves, without warming"`
	WarmingSeconds    *float64           `json:"warming_seconds,omitempty" doc:"That the heaters take before the first plastic, if it is started now, as they were learned; only when one file is asked for, and where that is known"`
	TravellingSeconds float64            `json:"travelling_seconds" doc:"Of these, in moves and waits that lay nothing"`
	Limits            string             `json:"limits" enum:"printer,setup,ordinary" doc:"Whose limits of speed and acceleration the time goes by: what the printer has told, the configuration's, or those of a common machine"`
	Setpoints         map[string]float64 `json:"setpoints" doc:"The highest asked of each heater, °C"`
	Given             []Given            `json:"given,omitempty" doc:"Setpoints as they are given; only when one file is asked for"`
	Fastest           float64            `json:"fastest" doc:"The highest speed of a move that lays plastic, mm/s"`
	Flow              float64            `json:"flow" doc:"The highest that a move asks for, mm³/s"`
	Fan               float64            `json:"fan" doc:"Part fan at the most, 0 to 1"`
	Features          []Feature          `json:"features,omitempty" doc:"What is drawn, by layer height and speed; only when one file is asked for"`
	Objects           []Object           `json:"objects,omitempty" doc:"That its lines tell apart"`
	Slots             []int              `json:"slots,omitempty" doc:"From which slot each of its tools would be printed, as it was asked for; absent: from that of its number"`
	Proposed          []int              `json:"proposed_slots,omitempty" doc:"From which slot each of its tools would best be printed, by material and colour, where that is another: a proposal, which a person takes or not"`
	Hints             Hints              `json:"hints" doc:"What its comments say that it was made for"`
	Findings          []Finding          `json:"findings,omitempty" doc:"What a person should know of its lines; only when one file is asked for"`
	Checks            []Check            `json:"checks,omitempty" doc:"What stands between it and a start now; only when one file is asked for"`
	Fine              []Fine             `json:"fine,omitempty" doc:"What was looked at and is as it should be; only when one file is asked for"`
}

// Survey is how far it is worked out what a file is.
type Survey struct {
	State  string  `json:"state" enum:"waiting,surveying,done,refused" doc:"refused: it is no G-code that a printer could carry out"`
	Share  float64 `json:"share" doc:"How much of it has been read, 0 to 1"`
	Reason string  `json:"reason,omitempty" doc:"Why it was refused"`
}

// History is how often a file was run.
type History struct {
	Runs     int        `json:"runs"`
	Finished int        `json:"finished"`
	Last     *time.Time `json:"last,omitempty" doc:"When the last run was asked for"`
	State    string     `json:"state,omitempty" doc:"How the last run stands"`
}

// ToolUse is what one tool does.
type ToolUse struct {
	Tool    int     `json:"tool" doc:"From 0"`
	Seconds float64 `json:"seconds" doc:"Of the moves, that it is in use"`
	Filament
}

// Filament is some of it. What it costs is left out where the configuration has no price.
type Filament struct {
	MM   float64  `json:"mm"`
	MM3  float64  `json:"mm3" doc:"Volume, mm³"`
	G    float64  `json:"g"`
	Cost *float64 `json:"cost,omitempty"`
}

// FileLayers is what a file is by layer.
type FileLayers struct {
	Layers   []FileLayer `json:"layers" doc:"In the order in which they are drawn; those of a file with very many are drawn together"`
	Currency string      `json:"currency,omitempty"`
}

// FileLayer is one layer.
type FileLayer struct {
	Layer   int     `json:"layer" doc:"From 1"`
	Z       float64 `json:"z" doc:"mm"`
	Begins  float64 `json:"begins" doc:"Seconds that the moves before it take"`
	Seconds float64 `json:"seconds" doc:"That its own moves take"`
	Filament
}

// Given is a setpoint that a file gives.
type Given struct {
	Line     int     `json:"line"`
	Layer    int     `json:"layer" doc:"From 1; 0 before the first"`
	Heater   string  `json:"heater"`
	Setpoint float64 `json:"setpoint" doc:"°C"`
}

// Feature is what is drawn at one layer height and speed.
type Feature struct {
	Height     float64 `json:"height" doc:"Of the layer, mm"`
	Speed      float64 `json:"speed" doc:"As it is asked for, mm/s"`
	Seconds    float64 `json:"seconds"`
	LengthMM   float64 `json:"length_mm"`
	FilamentMM float64 `json:"filament_mm"`
}

// Object is one of several that a file prints.
type Object struct {
	Key      string  `json:"key" doc:"As the file's lines have it"`
	Name     string  `json:"name,omitempty"`
	Extent   *Extent `json:"extent,omitempty" doc:"Of what is laid"`
	Filament float64 `json:"filament_mm"`
	Fixed    string  `json:"fixed,omitempty" doc:"Why its lines cannot be left out; absent: they can"`
}

// Hints are what a file's comments say. Nothing that is computed goes by them.
type Hints struct {
	Material string  `json:"material,omitempty"`
	Printer  string  `json:"printer,omitempty"`
	Nozzle   float64 `json:"nozzle,omitempty" doc:"Diameter, mm"`
	Filament float64 `json:"filament,omitempty" doc:"Diameter, mm"`

	Materials []string `json:"materials,omitempty" doc:"Of each tool, where several are named"`
	Colours   []string `json:"colours,omitempty" doc:"Of each tool's filament, #rrggbb; empty: not said"`
}

// Finding is something about a file's lines.
type Finding struct {
	Level string `json:"level" enum:"block,warn,note"`
	Line  int    `json:"line" doc:"The first that it is about"`
	Count int    `json:"count" doc:"How many lines it is about"`
	Title string `json:"title" doc:"What is the matter"`
	Do    string `json:"do" doc:"What to do about it"`
}

// Extent is a box in millimetres.
type Extent struct {
	Min [3]float64 `json:"min"`
	Max [3]float64 `json:"max"`
}

// Shelf is the list of stored files, the newest first.
type Shelf struct {
	Files  []File   `json:"files"`
	Coming []Coming `json:"coming" doc:"Files that are on their way, by whichever door"`
	Disk   Disk     `json:"disk"`
}

// Disk is what the shelf takes of its disk.
type Disk struct {
	UsedBytes  int64    `json:"used_bytes" doc:"By the files, those with the same bytes once"`
	FreeBytes  int64    `json:"free_bytes"`
	TotalBytes int64    `json:"total_bytes"`
	Unused     []string `json:"unused" doc:"Files that were neither stored nor run for three months, the largest first: those to remove where room is short"`
}

// ChangeFile changes a stored file's name or tags; what is left out stays.
type ChangeFile struct {
	Name *string   `json:"name,omitempty" doc:"Its new name on the shelf"`
	Tags *[]string `json:"tags,omitempty" doc:"All of its tags: at most 12, of at most 24 characters each"`
}

// Stored answers an upload.
type Stored struct {
	File    File   `json:"file" doc:"With then=print all that is known of it, checks and findings as well: what it is started by"`
	Outcome string `json:"outcome" enum:"created,same,replaced"`

	NotTaken []string `json:"not_taken,omitempty" doc:"Other files of the same form, which were not taken: send one at a time"`

	Run   *Run     `json:"run,omitempty" doc:"With then=print: the run that has begun"`
	Place int      `json:"place,omitempty" doc:"Its place in the queue, from 1: with then=queue, and with then=print where what is in its way may pass"`
	Not   *Problem `json:"not_started,omitempty" doc:"With then=print or then=queue: why no run has begun, or it does not wait; the file is kept"`
}

// Coming is a file that is on its way.
type Coming struct {
	Name          string    `json:"name"`
	Sender        string    `json:"sender" doc:"What sends it, by its token's name"`
	ReceivedBytes int64     `json:"received_bytes"`
	Size          *int64    `json:"size,omitempty" doc:"Bytes, where that was announced"`
	Since         time.Time `json:"since"`
}

// Beginning is what is here of a file whose rest is to follow.
type Beginning struct {
	Name          string `json:"name"`
	ReceivedBytes int64  `json:"received_bytes"`
	Digest        string `json:"digest,omitempty" doc:"Of these bytes, as of a file's: whether they are the beginning of what you send"`
}
