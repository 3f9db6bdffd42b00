// Package wire is the area of the serial traffic: saying a line, reading what was said.
package wire

import (
	"context"
	"net/http"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/capacity"
	"diathermon/internal/host/part"
	"diathermon/internal/host/traffic"
	"diathermon/internal/web/desk"
)

// sayWait is how long a call waits for the printer's answer. Homing takes about
// half of it.
const sayWait = 60 * time.Second

// Hand says lines that a person types.
type Hand interface {
	Say(ctx context.Context, line string) (part.Said, error)
}

// Traffic is what was said.
type Traffic interface {
	Since(seq uint64, limit int) traffic.Lines
}

// Capacity is what the printer can hold.
type Capacity interface {
	Measure(ctx context.Context) error
}

// Recorder is the flight recorder.
type Recorder interface {
	Recording(ctx context.Context) (traffic.Recording, error)
}

// Area is the area.
type Area struct {
	Hand     Hand
	Traffic  Traffic
	Capacity Capacity
	Recorder Recorder
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: bounds.ErrLine, Status: http.StatusUnprocessableEntity, Title: "this line cannot be said"},
		desk.Kind{Err: capacity.ErrMeasure, Status: http.StatusConflict, Title: "it cannot be measured now what the printer can hold"},
	)
	a.mountWire(d)
	op := desk.Archive(d.Describe(ops.GetRecording.Call))
	d.Raw(op, "", func(w http.ResponseWriter, r *http.Request) error {
		recording, err := a.Recorder.Recording(r.Context())
		if err != nil {
			return err
		}
		desk.SendArchive(w, recording.Made.Format("20060102-150405"), recording.WriteArchive)
		return nil
	})
}

func (a Area) mountWire(d *desk.Desk) {
	desk.Show(d, ops.Say, func(ctx context.Context, in *ops.With[api.SayLine]) (api.Said, error) {
		wait, cancel := context.WithTimeout(ctx, sayWait)
		defer cancel()
		said, err := a.Hand.Say(wait, in.Body.Line)
		if err != nil {
			return api.Said{}, err
		}
		reply := said.Reply
		if reply == nil {
			reply = []string{}
		}
		return api.Said{Line: said.Line, Reply: reply, Taken: said.Taken}, nil
	})

	desk.Show(d, ops.GetWire, func(_ context.Context, in *ops.Traffic) (api.Wire, error) {
		return linesOf(a.Traffic.Since(in.Since, in.Limit)), nil
	})

	desk.Show(d, ops.ListCommands, func(context.Context, *ops.Nothing) (api.Commands, error) { return commands(), nil })

	desk.Do(d, ops.MeasureWire, func(ctx context.Context, _ *ops.Nothing) error {
		return a.Capacity.Measure(ctx)
	})
}

func linesOf(lines traffic.Lines) api.Wire {
	out := api.Wire{Lines: make([]api.Traffic, 0, len(lines))}
	for _, l := range lines {
		out.Lines = append(out.Lines, api.Traffic{Seq: l.Seq, At: l.At.UTC(), Sent: l.Sent, Text: l.Text, Kind: string(l.Kind), Of: l.Of})
	}
	return out
}

// commands is the catalogue as the contract says it.
func commands() api.Commands {
	out := api.Commands{Commands: []api.Command{}}
	for _, code := range gcode.Catalogue() {
		c := api.Command{Command: code.String(), Does: code.Look().Does, Parameters: []api.CommandParameter{}, Example: code.Example(), Beware: code.Beware(), Text: code.Traits()&gcode.Text != 0}
		for _, p := range code.Parameters() {
			c.Parameters = append(c.Parameters, api.CommandParameter{Letter: string(p.Letter), Unit: string(p.Unit), Means: p.Means})
		}
		out.Commands = append(out.Commands, c)
	}
	return out
}

// Event is what everyone is told of the traffic, as data of the contract; nil if what is
// another's.
func Event(what any) any {
	switch what := what.(type) {
	case traffic.Lines:
		return linesOf(what)
	case wire.Message:
		return api.Message{At: what.At.UTC(), Kind: string(what.Kind), Text: what.Text}
	}
	return nil
}
