package cli

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/olekukonko/tablewriter"
	"github.com/olekukonko/tablewriter/renderer"
	"github.com/olekukonko/tablewriter/tw"

	"diathermon/internal/api"
)

// span puts a time in seconds into words: "45 s", "12 min", "3 h 05 min".
func span(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(math.Round(d.Minutes())))
	}
	d = d.Round(time.Minute)
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

func size(bytes int64) string { return humanize.Bytes(uint64(bytes)) }

func metres(mm float64) string { return fmt.Sprintf("%.2f m", mm/1000) }

// local puts a time into the person's own zone.
func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// degrees shows a temperature, or a dash where none is known.
func degrees(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.1f °C", *v)
}

// target shows a setpoint.
func target(v float64) string {
	if v == 0 {
		return "off"
	}
	return fmt.Sprintf("%g °C", v)
}

func percent(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", *v*100)
}

// warmingShare is told in place of a share while nothing is being drawn.
func runShare(r api.Run) string {
	switch {
	case r.Progress == nil:
		return ""
	case r.State == "warming":
		return "warming"
	}
	return fmt.Sprintf("%.1f %%", r.Progress.Share*100)
}

// table prints rows under a header, without lines.
func table(w io.Writer, header []string, rows [][]string) error {
	var out bytes.Buffer
	t := tablewriter.NewTable(&out,
		tablewriter.WithRenderer(renderer.NewBlueprint(tw.Rendition{
			Borders:  tw.BorderNone,
			Settings: tw.Settings{Separators: tw.SeparatorsNone, Lines: tw.LinesNone},
		})),
		tablewriter.WithConfig(tablewriter.Config{
			Header: tw.CellConfig{Formatting: tw.CellFormatting{AutoFormat: tw.Off}, Alignment: tw.CellAlignment{Global: tw.AlignLeft}, Padding: tw.CellPadding{Global: tw.Padding{Right: "  "}}},
			Row:    tw.CellConfig{Formatting: tw.CellFormatting{AutoWrap: tw.WrapNone}, Alignment: tw.CellAlignment{Global: tw.AlignLeft}, Padding: tw.CellPadding{Global: tw.Padding{Right: "  "}}},
		}),
	)
	t.Header(header)
	if err := t.Bulk(rows); err != nil {
		return err
	}
	if err := t.Render(); err != nil {
		return err
	}
	for line := range strings.Lines(out.String()) { // spaces at a line's end would wrap in a narrow terminal
		if _, err := fmt.Fprintln(w, strings.TrimRight(line, " \n")); err != nil {
			return err
		}
	}
	return nil
}
