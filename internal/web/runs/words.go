package runs

import (
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/host/printing"
)

// The functions here turn what the host knows into what the contract says.

// Of says what is kept of a run.
func Of(r run.Record) api.Run {
	return api.Run{
		ID: r.ID, File: r.File, Digest: r.Digest, State: string(r.State), Over: r.State.Final(), Going: r.State.Going(), Reason: r.Reason,
		Created: r.Created.UTC(), Started: api.Moment(r.Started), Laying: api.Moment(r.Laying), Ended: api.Moment(r.Ended),
		Commands: r.Commands, Taken: r.Taken, FilamentMM: r.Filament, EstimateSeconds: r.Estimate.Seconds(), LastedSeconds: r.Lasted(time.Now()).Seconds(),
	}
}

// NowOf says how a run stands.
func NowOf(r printing.Now) api.Run {
	out := Of(r.Record)
	out.LastedSeconds = r.Lasted.Seconds()
	out.NeedsPlan = r.Forgotten
	for _, act := range r.May {
		out.May = append(out.May, string(act))
	}
	out.Progress = &api.Progress{Share: r.Share, LeftSeconds: r.Left.Seconds(), WarmSeconds: r.Warming.Seconds(), Command: r.Command, Layer: r.Layer, Layers: r.Layers, Z: r.Z}
	return out
}

func planOf(p run.Plan, r api.Run, layers int) api.Plan {
	out := api.Plan{Run: r, Command: p.Command, Layer: p.Layer, Layers: layers, Z: p.Z, Height: p.Height}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps, api.Step{Why: s.Why, Commands: s.Commands})
	}
	return out
}

// ChecksOf says what stands between a file and its start.
func ChecksOf(checks []preflight.Check) []api.Check {
	var out []api.Check
	for _, c := range checks {
		out = append(out, api.Check{Level: string(c.Level), Title: c.Title, Do: c.Do})
	}
	return out
}

// Event is what everyone is told of a run, as data of the contract; nil if what is
// another's.
func Event(what any) any {
	if now, is := what.(*printing.Now); is {
		return NowOf(*now)
	}
	return nil
}
