// Package facts says in the contract's words what a file is, for the host that keeps it
// and for a command line that has no host.
package facts

import (
	"diathermon/internal/api"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
)

// State is how far it is worked out what a file is.
type State string

// The states of a survey.
const (
	Waiting   State = "waiting"
	Surveying State = "surveying"
	Done      State = "done"
	Refused   State = "refused" // it is no G-code that a printer could carry out
)

// Of is what a listing shows of a file on a printer.
func Of(f toolpath.File, p machine.Printer) api.File {
	all, section := filament(f.Filament, p), stock.Volume(1, p.Filament) // mm³ of a mm
	out := api.File{
		Name: f.Name, Size: f.Size, Digest: f.Digest, Stored: f.Stored.UTC(), Sender: f.Sender, Tags: f.Tags, Survey: surveyOf(f),
		Lines: f.Lines, Commands: f.Commands, Layers: f.Layers, LayerHeight: f.LayerSteps,
		FilamentMM: all.MM, FilamentMM3: all.MM3, FilamentG: all.G, Cost: all.Cost, Tools: []api.ToolUse{},
		DurationSeconds: f.Duration.Seconds(), TravellingSeconds: f.Travelling.Seconds(), Limits: Limits(f.LimitsOf), Setpoints: map[string]float64{},
		Fastest: f.Fastest, Flow: section * f.Flow, Fan: f.Fan,
		Hints: api.Hints(f.Hints),
	}
	if out.Tags == nil {
		out.Tags = []string{}
	}
	if all.Cost != nil {
		out.Currency = p.Currency
	}
	for tool, mm := range f.ByTool {
		if mm == 0 {
			continue
		}
		use := api.ToolUse{Tool: tool, Filament: filament(mm, p)}
		if tool < len(f.Spent) {
			use.Seconds = f.Spent[tool]
		}
		out.Tools = append(out.Tools, use)
	}
	if f.Surveyed() && f.Trouble == "" && !f.Extent.Empty {
		out.Extent = &api.Extent{Min: f.Extent.Min, Max: f.Extent.Max}
		out.Part = &api.Extent{Min: f.Part.Min, Max: f.Part.Max}
	}
	for _, o := range f.Objects {
		shown := api.Object{Key: o.Key, Name: o.Name, Filament: o.Filament, Fixed: o.Fixed}
		if !o.Extent.Empty {
			shown.Extent = &api.Extent{Min: o.Extent.Min, Max: o.Extent.Max}
		}
		out.Objects = append(out.Objects, shown)
	}
	for h, v := range f.Setpoints {
		out.Setpoints[string(h)] = v
	}
	return out
}

// filament is a length of it on a printer, in mm.
func filament(mm float64, p machine.Printer) api.Filament {
	out := api.Filament{MM: mm, MM3: stock.Volume(mm, p.Filament), G: stock.Mass(mm, p.Filament, p.Density)}
	if p.Price > 0 {
		cost := p.Price * out.G / 1000
		out.Cost = &cost
	}
	return out
}

// ByLayer is what a file is by layer, on a printer.
func ByLayer(f toolpath.File, p machine.Printer) api.FileLayers {
	out := api.FileLayers{Layers: make([]api.FileLayer, len(f.Marks))}
	if p.Price > 0 {
		out.Currency = p.Currency
	}
	for i, m := range f.Marks {
		ends, pushed := f.Duration.Seconds(), f.Filament
		if i+1 < len(f.Marks) {
			ends, pushed = f.Marks[i+1].Seconds, f.Marks[i+1].Filament
		}
		out.Layers[i] = api.FileLayer{Layer: i + 1, Z: m.Z, Begins: m.Seconds, Seconds: ends - m.Seconds, Filament: filament(pushed-m.Filament, p)}
	}
	return out
}

// Whole is all that is known of a file on a printer.
func Whole(f toolpath.File, p machine.Printer) api.File {
	out := Of(f, p)
	for _, g := range f.Given {
		out.Given = append(out.Given, api.Given{Line: g.Line, Layer: g.Layer, Heater: string(g.Heater), Setpoint: g.Setpoint})
	}
	for _, k := range f.Features {
		out.Features = append(out.Features, api.Feature{Height: k.Height, Speed: k.Speed, Seconds: k.Seconds, LengthMM: k.Length, FilamentMM: k.Filament})
	}
	out.Findings = Findings(f.Findings)
	return out
}

// Findings are what was found in a file's lines.
func Findings(found []toolpath.Finding) []api.Finding {
	var out []api.Finding
	for _, f := range found {
		out = append(out, api.Finding{Level: string(f.Level), Line: f.Line, Count: f.Count, Title: f.Title, Do: f.Do})
	}
	return out
}

// Limits says whose limits a time goes by.
func Limits(of toolpath.LimitsOf) string {
	if of == "" {
		of = toolpath.OrdinaryLimits
	}
	return string(of)
}

func surveyOf(f toolpath.File) api.Survey {
	switch {
	case !f.Surveyed():
		return api.Survey{State: string(Waiting)}
	case f.Trouble != "":
		return api.Survey{State: string(Refused), Share: 1, Reason: f.Trouble}
	}
	return api.Survey{State: string(Done), Share: 1}
}
