package runs

import (
	"context"
	"maps"
	"slices"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host/printing"
	"diathermon/internal/web/desk"
)

// The functions here turn what the host knows into what the contract says.

// Of says what is kept of a run.
func Of(r run.Record) api.Run {
	return api.Run{
		ID: r.ID, File: r.File, Digest: r.Digest, State: string(r.State), Over: r.State.Final(), Going: r.State.Going(), Reason: r.Reason,
		Created: r.Created.UTC(), Started: api.Moment(r.Started), Laying: api.Moment(r.Laying), Ended: api.Moment(r.Ended),
		Commands: r.Commands, Taken: r.Taken, FilamentMM: r.Filament, EstimateSeconds: r.Estimate.Seconds(), LastedSeconds: r.Lasted(time.Now()).Seconds(),
		Slots: r.Slots, By: r.By, Overruled: overruledOf(r.Overruled),
	}
}

// ToAround says which routines go around a run, as the host understands them.
func ToAround(a api.Around) *run.Around {
	return &run.Around{Before: performsOf(a.Before), After: performsOf(a.After)}
}

func performsOf(all []api.Performs) []run.Performs {
	out := []run.Performs{}
	for _, r := range all {
		out = append(out, run.Performs(r))
	}
	return out
}

// performed are routines as the contract says them.
func performed(all []run.Performs) []api.Performs {
	out := []api.Performs{}
	for _, r := range all {
		out = append(out, api.Performs(r))
	}
	return out
}

func overruledOf(all []run.Overruling) []api.Overruled {
	var out []api.Overruled
	for _, o := range all {
		out = append(out, api.Overruled(o))
	}
	return out
}

// NowOf says how a run stands.
func NowOf(r printing.Now) api.Run {
	out := Of(r.Record)
	out.LastedSeconds = r.Lasted.Seconds()
	out.NeedsPlan = r.Forgotten
	for _, act := range r.May {
		out.May = append(out.May, string(act))
	}
	t := trimOf(r.Trim)
	out.Trim, out.Differs, out.Origin = &t, r.Differs, map[string]float64{}
	for h, v := range r.Origin {
		out.Origin[string(h)] = v
	}
	if u := r.Until; u != nil {
		out.Until = &api.Until{End: u.End, Layer: u.Layer, By: u.By}
	}
	out.Progress = &api.Progress{Share: r.Share, LeftSeconds: r.Left.Seconds(), WarmSeconds: r.Warming.Seconds(), Command: r.Command, Layer: r.Layer, Layers: r.Layers, Z: r.Z}
	return out
}

func trimOf(t trim.Trim) api.Trim {
	return api.Trim{
		Heaters: named(t.Heaters), First: named(t.First), TrimNumbers: api.TrimNumbers(t.Numbers), Skip: skipped(t.Skip),
	}
}

func toTrim(t api.Trim) trim.Trim {
	return trim.Trim{
		Heaters: heaters(t.Heaters), First: heaters(t.First), Numbers: trim.Numbers(t.TrimNumbers), Skip: skip(nil, t.Skip),
	}
}

// skipped are objects that are left out, in the contract's words.
func skipped(keys []string) map[string]bool {
	out := map[string]bool{}
	for _, o := range keys {
		out[o] = true
	}
	return out
}

// skip is what is left out once some of it has changed.
func skip(keys []string, changed map[string]bool) []string {
	out := slices.DeleteFunc(slices.Clone(keys), func(o string) bool { leaves, said := changed[o]; return said && !leaves })
	for _, o := range slices.Sorted(maps.Keys(changed)) {
		if changed[o] && !slices.Contains(out, o) {
			out = append(out, o)
		}
	}
	return out
}

// changeOf is what is to be different about a trim.
func changeOf(c api.ChangeTrim) func(trim.Trim) trim.Trim {
	return func(t trim.Trim) trim.Trim {
		if c.AsSliced {
			t = trim.Trim{}
		}
		t.Numbers = trim.Wanted(c.TrimWanted).Of(t.Numbers)
		merge := func(old map[heat.Heater]float64, with map[string]float64) map[heat.Heater]float64 {
			out := named(old)
			maps.Copy(out, with)
			return heaters(out)
		}
		t.Skip = skip(t.Skip, c.Skip)
		t.Heaters, t.First = merge(t.Heaters, c.Heaters), merge(t.First, c.First)
		return t
	}
}

func named(m map[heat.Heater]float64) map[string]float64 {
	out := map[string]float64{}
	for h, v := range m {
		out[string(h)] = v
	}
	return out
}

func heaters(m map[string]float64) map[heat.Heater]float64 {
	out := map[heat.Heater]float64{}
	for h, v := range m {
		if v != 0 {
			out[heat.Heater(h)] = v
		}
	}
	return out
}

func planOf(p run.Plan, r api.Run, layers int) api.Plan {
	out := api.Plan{Run: r, Command: p.Command, Layer: p.Layer, Layers: layers, Z: p.Z, Height: p.Height}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps, api.Step{Why: s.Why, Commands: s.Commands})
	}
	return out
}

// orderOf is what somebody wants to be run.
func orderOf(s api.StartRun, by string, whys map[preflight.Kind]string) printing.Order {
	o := printing.Order{File: s.File, Digest: s.Digest, By: by, Overrule: whys, Slots: s.Slots}
	if s.Soak {
		o.Soak = &heat.Soak{For: api.Seconds(s.SoakSeconds)}
	}
	if s.Before != nil {
		all := performsOf(*s.Before)
		o.Before = &all
	}
	if s.After != nil {
		all := performsOf(*s.After)
		o.After = &all
	}
	if s.Trim != nil {
		o.Trim = toTrim(*s.Trim)
	}
	if s.Seen != nil {
		o.Seen = []preflight.Kind{}
		for _, kind := range *s.Seen {
			o.Seen = append(o.Seen, preflight.Kind(kind))
		}
	}
	return o
}

// Overruling is why each kind of check does not matter, if the caller may say so.
func Overruling(ctx context.Context, d *desk.Desk, all []api.Overrule) (map[preflight.Kind]string, error) {
	if len(all) == 0 {
		return nil, nil
	}
	if p := d.Lacking(ctx, access.Operate); p != nil {
		return nil, p
	}
	whys := map[preflight.Kind]string{}
	for _, o := range all {
		whys[preflight.Kind(o.Kind)] = o.Why
	}
	return whys, nil
}

// Event is what everyone is told of a run, as data of the contract; nil if what is
// another's.
func Event(what any) any {
	if now, is := what.(*printing.Now); is {
		return NowOf(*now)
	}
	return nil
}

// AroundOf says which routines go around a run.
func AroundOf(a run.Around) api.Around {
	return api.Around{Before: performed(a.Before), After: performed(a.After)}
}
