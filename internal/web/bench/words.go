package bench

import (
	"diathermon/internal/api"
	"diathermon/internal/host"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/position"
	"diathermon/internal/host/talk"
	"diathermon/internal/port"
	heatarea "diathermon/internal/web/heat"
	"diathermon/internal/web/motion"
	"diathermon/internal/web/outputs"
	"diathermon/internal/web/routines"
	"diathermon/internal/web/runs"
)

// The functions here turn what the host knows into what the contract says.

// Of says how everything is at one moment.
func Of(b host.Bench) api.Bench {
	p := b.Printer
	out := api.Bench{
		Printer:  api.Printer{Name: p.Name, Colour: p.Colour, Width: p.Width, Depth: p.Depth, Height: p.Height, Tools: p.Tools, NozzleDiameter: p.Nozzle, FilamentDiameter: p.Filament},
		Link:     linkOf(b.Link),
		Heaters:  heatarea.HeatersOf(b.Heat.Heaters),
		Position: positionOf(b.Position),
		Motion:   motion.Of(b.Motion),
		Outputs:  outputs.Of(b.Outputs).Outputs,
		Routine:  routines.Of(b.Routine),
		Alarms:   heatarea.AlarmsOf(b.Heat.Alarms).Alarms,
		WarmUp:   heatarea.WarmingUpOf(b.Heat.WarmUp),
		Bed:      bedOf(b.Bed),
		Flow:     heatarea.FlowOf(b.Heat.Flow, b.Heat.FlowWatch),
	}
	if b.Pace > 1 {
		out.Printer.Pace = b.Pace
	}
	if b.Firmware.Name != "" || b.Firmware.Capabilities != nil {
		f := b.Firmware
		out.Firmware = &api.Firmware{Name: f.Name, Machine: f.Machine, Extruders: f.Extruders, Capabilities: f.Capabilities, HaltsAtOnce: b.HaltsAtOnce, Holds: api.Holds{Bytes: b.Holds.Bytes, Lines: b.Holds.Lines, How: string(b.Holds.How)}}
	}
	if b.Run != nil {
		r := runs.NowOf(*b.Run)
		out.Run = &r
	}
	return out
}

func bedOf(b occupancy.Now) api.Bed {
	return api.Bed{State: string(b.State), Since: b.Since, Why: b.Why, By: b.By, Run: b.Run, File: b.File}
}

func linkOf(l talk.Link) api.Link {
	return api.Link{State: string(l.State), Reason: l.Reason, Device: l.Device, Baud: l.Baud, Since: l.Since.UTC()}
}

func positionOf(p position.Now) api.Position {
	return api.Position{Known: p.Known, X: p.Place[0], Y: p.Place[1], Z: p.Place[2], E: p.Place[3], Homed: motion.Homed(p.Homed), At: api.Moment(p.At)}
}

func portsOf(ports []port.Port, l talk.Link) api.Ports {
	out := api.Ports{Ports: make([]api.Port, 0, len(ports))}
	for _, p := range ports {
		out.Ports = append(out.Ports, api.Port{Path: p.Path, Device: p.Device, Maker: p.Maker, Product: p.Product, Serial: p.Serial, UsedBy: p.UsedBy, Ours: l.Device == p.Path || l.Device == p.Device})
	}
	return out
}

// Event is what everyone is told of the link, of the head and of the bed, as data of the contract;
// nil if what is another's.
func Event(what any) any {
	switch now := what.(type) {
	case talk.Link:
		return linkOf(now)
	case position.Now:
		return positionOf(now)
	case occupancy.Now:
		return bedOf(now)
	}
	return nil
}

// Events are everything as it is at one moment, as data of the contract's events, the
// link first.
func Events(b host.Bench) []any {
	bench := Of(b)
	out := []any{bench.Link, api.Heat{Heaters: bench.Heaters, WarmUp: bench.WarmUp, Flow: bench.Flow}, bench.Position, bench.Motion, api.Outputs{Outputs: bench.Outputs}, bench.Routine, api.Alarms{Alarms: bench.Alarms}, bench.Bed}
	if bench.Run != nil {
		out = append(out, *bench.Run)
	}
	return out
}
