package web

import (
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
)

// The functions here turn what the host knows into what the contract says.

func benchOf(b host.Bench) api.Bench {
	p := b.Printer
	out := api.Bench{
		Printer:  api.Printer{Name: p.Name, Width: p.Width, Depth: p.Depth, Height: p.Height, Tools: p.Tools, NozzleDiameter: p.Nozzle, FilamentDiameter: p.Filament},
		Link:     linkOf(b.Link),
		Heaters:  heatersOf(b.Heaters),
		Position: positionOf(b.Position),
		Alarms:   alarmsOf(b.Alarms).Alarms,
		WarmUp:   warmingUpOf(b.WarmUp),
		Flow:     flowOf(b.Flow, b.FlowWatch),
	}
	if b.Firmware.Name != "" || b.Firmware.Capabilities != nil {
		f := b.Firmware
		out.Firmware = &api.Firmware{Name: f.Name, Machine: f.Machine, Extruders: f.Extruders, Capabilities: f.Capabilities, HaltsAtOnce: b.HaltsAtOnce, Holds: api.Holds{Bytes: b.Holds.Bytes, Lines: b.Holds.Lines, How: string(b.Holds.How)}}
	}
	if b.Run != nil {
		r := runNowOf(*b.Run)
		out.Run = &r
	}
	return out
}

func linkOf(l host.Link) api.Link {
	return api.Link{State: string(l.State), Reason: l.Reason, Device: l.Device, Baud: l.Baud, Since: l.Since.UTC()}
}

func heatersOf(heaters []host.HeaterNow) []api.Heater {
	out := make([]api.Heater, 0, len(heaters))
	for _, h := range heaters {
		a := api.Heater{Heater: string(h.Heater), State: string(h.State), Setpoint: h.Setpoint, Limit: h.Limit}
		if !h.At.IsZero() {
			a.Actual, a.At = &h.Actual, moment(h.At)
		}
		if h.HasDuty {
			a.Duty = &h.Duty
		}
		a.ReadySeconds, a.Never = h.Left.Seconds(), h.Never
		if s := h.Soaking; s != nil {
			a.Soak = &api.Soak{There: s.There, Done: s.Done, LeftSeconds: leftSeconds(s.Left)}
		}
		out = append(out, a)
	}
	return out
}

func positionOf(p host.Position) api.Position {
	homed := ""
	for i, done := range p.Homed {
		if done {
			homed += string("XYZ"[i])
		}
	}
	return api.Position{Known: p.Known, X: p.Where[0], Y: p.Where[1], Z: p.Where[2], E: p.Where[3], Homed: homed, At: moment(p.At)}
}

func runOf(r run.Record) api.Run {
	return api.Run{
		ID: r.ID, File: r.File, SHA256: r.SHA256, State: string(r.State), Over: r.State.Final(), Going: r.State.Going(), Reason: r.Reason,
		Created: r.Created.UTC(), Started: moment(r.Started), Laying: moment(r.Laying), Ended: moment(r.Ended),
		Commands: r.Commands, Taken: r.Taken, FilamentMM: r.Filament, EstimateSeconds: r.Estimate.Seconds(), LastedSeconds: r.Lasted(time.Now()).Seconds(),
	}
}

func runNowOf(r host.RunNow) api.Run {
	out := runOf(r.Record)
	out.LastedSeconds = r.Lasted.Seconds()
	out.NeedsPlan = r.Forgotten
	for _, act := range r.May {
		out.May = append(out.May, string(act))
	}
	out.Progress = &api.Progress{Share: r.Share, LeftSeconds: r.Left.Seconds(), WarmSeconds: r.Warming.Seconds(), Layer: r.Layer, Layers: r.Layers, Z: r.Z}
	return out
}

func planOf(p run.Plan, r api.Run, layers int) api.Plan {
	out := api.Plan{Run: r, Command: p.Command, Layer: p.Layer, Layers: layers, Z: p.Z, Height: p.Height}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps, api.Step{Why: s.Why, Commands: s.Commands})
	}
	return out
}

func portsOf(ports []host.Port, l host.Link) api.Ports {
	out := api.Ports{Ports: make([]api.Port, 0, len(ports))}
	for _, p := range ports {
		out.Ports = append(out.Ports, api.Port{Path: p.Path, Device: p.Device, Maker: p.Maker, Product: p.Product, Serial: p.Serial, UsedBy: p.UsedBy, Ours: l.Device == p.Path || l.Device == p.Device})
	}
	return out
}

func fileOf(f toolpath.File, p host.Printer) api.File {
	out := api.File{
		Name: f.Name, Size: f.Size, SHA256: f.SHA256, Stored: f.Stored.UTC(),
		Lines: f.Lines, Commands: f.Commands, Layers: f.Layers, LayerHeight: f.LayerSteps,
		FilamentMM: f.Filament, FilamentG: stock.Mass(f.Filament, p.Filament, p.Density),
		DurationSeconds: f.Duration.Seconds(), Setpoints: map[string]float64{},
	}
	if !f.Extent.Empty {
		out.Extent = &api.Extent{Min: f.Extent.Min, Max: f.Extent.Max}
	}
	for h, v := range f.Setpoints {
		out.Setpoints[string(h)] = v
	}
	return out
}

func checksOf(checks []preflight.Check) []api.Check {
	var out []api.Check
	for _, c := range checks {
		out = append(out, api.Check{Level: string(c.Level), Title: c.Title, Do: c.Do})
	}
	return out
}

func readingsOf(samples []heat.Sample) []api.Reading {
	out := make([]api.Reading, 0, len(samples))
	for _, s := range samples {
		r := api.Reading{At: s.At.UTC(), Heater: string(s.Heater), Actual: s.Actual}
		if s.HasSetpoint {
			r.Setpoint = &s.Setpoint
		}
		if s.HasDuty {
			r.Duty = &s.Duty
		}
		out = append(out, r)
	}
	return out
}

func wireOf(lines []host.Traffic) api.Wire {
	out := api.Wire{Lines: make([]api.Traffic, 0, len(lines))}
	for _, l := range lines {
		out.Lines = append(out.Lines, api.Traffic{Seq: l.Seq, At: l.At.UTC(), Sent: l.Sent, Text: l.Text})
	}
	return out
}

func messageOf(m wire.Message) api.Message {
	return api.Message{At: m.At.UTC(), Kind: string(m.Kind), Text: m.Text}
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}
