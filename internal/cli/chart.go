package cli

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/NimbleMarkets/ntcharts/canvas/runes"
	"github.com/NimbleMarkets/ntcharts/linechart/timeserieslinechart"
	"github.com/charmbracelet/lipgloss"

	"diathermon/internal/api"
)

// ink is the colour of a heater's line and words.
func ink(heater string) lipgloss.Style {
	inks := map[string]string{"nozzle0": "209", "bed": "79", "chamber": "147", "nozzle1": "221"}
	if colour, ok := inks[heater]; ok {
		return lipgloss.NewStyle().Foreground(lipgloss.Color(colour))
	}
	return lipgloss.NewStyle()
}

// temperatures draws the lines of some heaters in a window, in so many columns
// and rows of a terminal.
func temperatures(past map[string][]timeserieslinechart.TimePoint, from, to time.Time, width, height int) string {
	top := 60.0
	for _, points := range past {
		for _, p := range points {
			top = max(top, p.Value)
		}
	}
	layout := "15:04"
	switch length := to.Sub(from); {
	case length > 60*24*time.Hour:
		layout = "2006-01-02"
	case length > 36*time.Hour:
		layout = "2 Jan"
	}
	c := timeserieslinechart.New(width, height,
		timeserieslinechart.WithYRange(0, top*1.1),
		timeserieslinechart.WithTimeRange(from, to),
		timeserieslinechart.WithXYSteps(4, 2),
		timeserieslinechart.WithXLabelFormatter(func(_ int, unix float64) string {
			return time.Unix(int64(unix), 0).Local().Format(layout)
		}),
		timeserieslinechart.WithYLabelFormatter(func(_ int, degrees float64) string { return fmt.Sprintf("%.0f°", degrees) }),
	)
	c.SetLineStyle(runes.ThinLineStyle)
	names := slices.Sorted(maps.Keys(past))
	for _, name := range names {
		c.SetDataSetStyle(name, ink(name))
		for _, p := range past[name] {
			c.PushDataSet(name, p)
		}
	}
	c.SetTimeRange(from, to)
	c.SetViewTimeRange(from, to)
	c.SetYRange(0, top*1.1)
	c.SetViewYRange(0, top*1.1)
	c.DrawBrailleDataSets(names)
	return c.View()
}

// curves are the readings of a chart's heaters, with both ends of each point.
func curves(traces []api.HeatTrace) map[string][]timeserieslinechart.TimePoint {
	past := map[string][]timeserieslinechart.TimePoint{}
	for _, t := range traces {
		for i, at := range t.At {
			if t.Mean[i] == nil {
				continue
			}
			when := time.UnixMilli(at)
			past[t.Heater] = append(past[t.Heater], timeserieslinechart.TimePoint{Time: when, Value: *t.Low[i]})
			if *t.High[i] != *t.Low[i] {
				past[t.Heater] = append(past[t.Heater], timeserieslinechart.TimePoint{Time: when, Value: *t.High[i]})
			}
		}
	}
	return past
}
