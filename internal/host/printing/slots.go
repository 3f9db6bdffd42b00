package printing

import (
	"context"
	"fmt"
	"slices"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
)

// Mapped is what a file is with its tools printed from those slots, which the mapping's
// Check has seen. Heaters follow where each tool has its own.
func (p *Printing) Mapped(f toolpath.File, slots stock.Mapping) toolpath.File {
	if slots.Same() {
		return f
	}
	heater := func(h heat.Heater) heat.Heater {
		if tool, nozzle := h.Tool(); nozzle && p.cfg.Printer.Tools > 1 {
			return heat.NozzleOf(slots.Of(tool))
		}
		return h
	}
	setpoints := map[heat.Heater]float64{}
	for h, v := range f.Setpoints {
		setpoints[heater(h)] = max(setpoints[heater(h)], v)
	}
	f.Setpoints = setpoints
	f.Warming, f.Given = slices.Clone(f.Warming), slices.Clone(f.Given)
	for i := range f.Warming {
		f.Warming[i].Heater = heater(f.Warming[i].Heater)
	}
	for i := range f.Given {
		f.Given[i].Heater = heater(f.Given[i].Heater)
	}
	tools := max(f.Tools, len(f.ByTool), 1)
	most := 0
	for tool := range tools {
		most = max(most, slots.Of(tool)+1)
	}
	byTool, spent, materials, colours := make([]float64, most), make([]float64, most), make([]string, most), make([]string, most)
	for tool := range tools {
		at := slots.Of(tool)
		if tool < len(f.ByTool) && f.ByTool[tool] > 0 {
			byTool[at] += f.ByTool[tool]
			materials[at], colours[at] = f.Hints.MaterialOf(tool), f.Hints.ColourOf(tool)
		}
		if tool < len(f.Spent) {
			spent[at] += f.Spent[tool]
		}
	}
	f.ByTool, f.Spent, f.Hints.Materials, f.Hints.Colours, f.Tools = byTool, spent, materials, colours, most
	return f
}

// first is the line that chooses a file's first tool for it, where that is printed from
// another slot and the file lays plastic, or heats, before it chooses one itself; empty:
// there is no need.
func (p *Printing) first(ctx context.Context, f toolpath.File, slots stock.Mapping) (string, error) {
	if slots.Of(0) == 0 {
		return "", nil
	}
	body, err := p.cfg.Files.Open(ctx, f)
	if err != nil {
		return "", err
	}
	defer body.Close()
	next := run.Commands(body)
	var l gcode.Line
	for command, there := next(); there; command, there = next() {
		if l.Parse([]byte(command)) != nil {
			continue
		}
		if l.Letter == 'T' {
			return "", nil
		}
		_, pushes := l.Value('E')
		_, _, heats := run.Setpoint(&l, 0)
		if pushes && l.Letter == 'G' || heats && !l.Has('T') {
			break
		}
	}
	return fmt.Sprintf("T%d", slots.Of(0)), nil
}

// behind is what next tells behind a first line.
func behind(first string, next func() (string, bool)) func() (string, bool) {
	if first == "" {
		return next
	}
	told := false
	return func() (string, bool) {
		if !told {
			told = true
			return first, true
		}
		return next()
	}
}

// withSlots are a file's commands with its tools named as they are printed.
func withSlots(slots stock.Mapping, next func() (string, bool)) func() (string, bool) {
	if slots.Same() {
		return next
	}
	return func() (string, bool) {
		command, there := next()
		return slots.Line(command), there
	}
}
