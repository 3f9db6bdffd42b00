package ops

import (
	"time"

	"diathermon/internal/api"
)

// What goes into operations. A zero value of a query parameter is one that is not sent.

// With is a body alone.
type With[B any] struct{ Body B }

// Body is With a body.
func Body[B any](b B) With[B] { return With[B]{b} }

// ForID is a body for what is called by an ID.
func ForID[B any](id string, b B) IDWith[B] { return IDWith[B]{id, b} }

// ForName is a body for what has a name.
func ForName[B any](name string, b B) NameWith[B] { return NameWith[B]{name, b} }

// ForHeater is a body for a heater.
func ForHeater[B any](heater string, b B) HeaterWith[B] { return HeaterWith[B]{heater, b} }

// ID is of a run, an entry, an alarm, a token: whatever is called by an ID.
type ID struct {
	ID string `path:"id"`
}

// IDWith is a body for what is called by an ID.
type IDWith[B any] struct {
	ID   string `path:"id"`
	Body B
}

// Name is of a file, a routine, an output, a warm-up: whatever has a name.
type Name struct {
	Name string `path:"name"`
}

// NameWith is a body for what has a name.
type NameWith[B any] struct {
	Name string `path:"name"`
	Body B
}

// Heater is one of the printer's.
type Heater struct {
	Heater string `path:"heater" doc:"nozzle0, bed or chamber" example:"nozzle0"`
}

// HeaterWith is a body for a heater.
type HeaterWith[B any] struct {
	Heater string `path:"heater" doc:"nozzle0, bed or chamber" example:"nozzle0"`
	Body   B
}

// ToGuard is what a guard of a heater may do at the most.
type ToGuard struct {
	Heater string `path:"heater"`
	Guard  string `path:"guard"`
	Body   api.GuardBound
}

// ToSlot is what is loaded in a slot.
type ToSlot struct {
	Number int `path:"number"`
	Body   api.LoadSlot
}

// FileFrom is a file as it would be printed from some slots.
type FileFrom struct {
	Name  string `path:"name"`
	Slots []int  `query:"slots" doc:"As it would be printed with its tools from these slots, tool 0 first"`
}

// Past is a page of what has been, the newest first.
type Past struct {
	Before time.Time `query:"before" doc:"Only what began before"`
	Limit  int       `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

// Traffic is a part of the recent traffic.
type Traffic struct {
	Since uint64 `query:"since" doc:"Only lines after this sequence number"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"4000" doc:"At most so many, the newest"`
}

// Window is a window of the temperature log.
type Window struct {
	From   time.Time `query:"from" doc:"Default: 15 minutes before to, or the run's beginning"`
	To     time.Time `query:"to" doc:"Default: now, or the run's end"`
	Heater []string  `query:"heater" doc:"Default: all that the printer has or had" example:"nozzle0"`
	Run    string    `query:"run" doc:"The window in which this run went on"`
}

// Chart is a window that is to be drawn.
type Chart struct {
	Window
	Points int `query:"points" default:"1000" minimum:"2" maximum:"10000" doc:"At most about so many for each heater"`
}

// HeatFormats are those of an Export, the usual one first.
var HeatFormats = []string{"csv", "json", "svg", "png"}

// Export is a window as a file.
type Export struct {
	Window
	Format string `query:"format"` // one of HeatFormats
	Width  int    `query:"width"`  // of a picture, pixels
	Height int    `query:"height"`
}

// Alarms says which alarms are wanted.
type Alarms struct {
	Waiting bool `query:"waiting" doc:"Only those that nobody has acknowledged"`
	Limit   int  `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

// Acknowledging is what a person says of an alarm, or nothing more than that it was seen.
type Acknowledging struct {
	ID   string               `path:"id"`
	Body *api.Acknowledgement `required:"false"`
}

// PickUpFrom is from where a run would be picked up.
type PickUpFrom struct {
	ID      string  `path:"id"`
	Layer   int     `query:"layer" minimum:"0" doc:"From the beginning of that layer; from 1"`
	Command int     `query:"command" minimum:"0" doc:"Or behind that many of the file's commands"`
	Height  float64 `query:"height" minimum:"0" doc:"At which the nozzle is now, mm; 0: as the run left it"`
}

// PlanOf asks for the plan of a pick-up.
func PlanOf(id string, p api.PickUp) PickUpFrom {
	in := PickUpFrom{ID: id, Layer: p.Layer, Command: p.Command}
	if p.Height != nil {
		in.Height = *p.Height
	}
	return in
}

// Ending takes something from somebody, who may have given it to others.
type Ending struct {
	ID    string      `path:"id"`
	Given api.Becomes `query:"given" enum:"end,end-all,take-over" default:"end" doc:"What becomes of what it has given: tokens and sessions end with it, and the accounts stay that were made with it; these go, too; or tokens are yours from now on"`
}

// WhichEvents says which events are wanted.
type WhichEvents struct {
	Without []string `query:"without"` // names of events that are left out
}
