package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/facts"
	"diathermon/internal/inspect"
	"diathermon/internal/service"
)

// inspectCommand looks into a file without a host.
func inspectCommand() *cli.Command {
	return &cli.Command{
		Name: "inspect", Usage: "say what a file of G-code is, without a host", ArgsUsage: "FILE",
		Description: "FILE may be - for standard input. The printer is the one of the configuration file, or a common one.",
		Flags: []cli.Flag{jsonFlag,
			&cli.StringFlag{Name: "config", Usage: "take the printer from `FILE` instead of looking for " + service.ConfigFile, Sources: cli.EnvVars("DIATHERMON_CONFIG")},
			&cli.StringFlag{Name: "picture", Usage: "draw it into `FILE`, a PNG"},
			&cli.IntFlag{Name: "size", Usage: "`PIXELS` of a side of the picture", Value: 800},
			&cli.IntFlag{Name: "layer", Usage: "look at layer `N`, from 1: what it takes, and its picture from above"},
			&cli.BoolFlag{Name: "layers", Usage: "list what each layer takes"},
			&cli.BoolFlag{Name: "show", Usage: "draw it in the terminal"},
		},
		Action: inspectFile,
	}
}

// mostPixels is the largest picture that is drawn.
const mostPixels = 4096

func inspectFile(_ context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1, 1)
	if err != nil {
		return err
	}
	if size := cmd.Int("size"); size < 16 || size > mostPixels {
		return wrong("--size is %d: it must be from 16 to %d pixels", size, mostPixels)
	}
	config := service.DefaultConfig()
	if err := service.ReadConfig(cmd.String("config"), &config); err != nil {
		return err
	}
	if err := config.Check(); err != nil {
		return err
	}
	f, err := readFile(args[0], config)
	if err != nil {
		return err
	}
	defer f.Close()
	number := cmd.Int("layer")
	if cmd.IsSet("layer") && (number < 1 || number > f.Layers()) {
		return wrong("--layer is %d: the file has layers 1 to %d", number, f.Layers())
	}
	if to := cmd.String("picture"); to != "" {
		if err := drawTo(f, to, number, cmd.Int("size")); err != nil {
			return err
		}
	}
	w := cmd.Root().Writer
	out := f.Facts()
	switch {
	case cmd.Bool("layers"):
		return listLayers(cmd, f.ByLayer())
	case cmd.Bool("json"):
		return printJSON(w, out)
	}
	if cmd.Bool("show") {
		if err := show(w, f, number); err != nil {
			return err
		}
	}
	if number > 0 {
		showLayer(w, f, number)
		return nil
	}
	showFacts(w, out)
	return nil
}

// readFile reads a file, or standard input.
func readFile(path string, config service.Config) (*inspect.File, error) {
	in, name, stored := io.Reader(os.Stdin), "standard input", time.Now()
	if path != "-" {
		file, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return nil, err
		}
		if info.IsDir() {
			return nil, fmt.Errorf("%s is a folder: name a file in it", path)
		}
		in, name, stored = file, filepath.Base(path), info.ModTime()
	}
	return inspect.Read(in, name, stored, config.Printer.Printer, config.Printer.Reading())
}

func drawTo(f *inspect.File, path string, number, pixels int) error {
	img, err := f.Picture(number, pixels)
	if err != nil {
		return err
	}
	out, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(png.Encode(out, img), out.Close())
}

// columns is how wide a picture in the terminal is.
const columns = 44

// show draws in the terminal: each character is two pixels, one above the other.
func show(w io.Writer, f *inspect.File, number int) error {
	img, err := f.Small(number, columns)
	if err != nil {
		return err
	}
	first, last := columns, 0 // rows of characters with something in them
	for y := range columns {
		for x := range columns {
			if img.NRGBAAt(x, y).A > 127 {
				first, last = min(first, y/2), max(last, y/2)
			}
		}
	}
	out := bufio.NewWriter(w)
	for row := first; row <= last; row++ {
		var line strings.Builder
		for x := range columns {
			up, down := img.NRGBAAt(x, 2*row), img.NRGBAAt(x, 2*row+1)
			switch {
			case up.A > 127 && down.A > 127:
				fmt.Fprintf(&line, "\x1b[38;2;%d;%d;%d;48;2;%d;%d;%dm▀\x1b[0m", up.R, up.G, up.B, down.R, down.G, down.B)
			case up.A > 127:
				fmt.Fprintf(&line, "\x1b[38;2;%d;%d;%dm▀\x1b[0m", up.R, up.G, up.B)
			case down.A > 127:
				fmt.Fprintf(&line, "\x1b[38;2;%d;%d;%dm▄\x1b[0m", down.R, down.G, down.B)
			default:
				line.WriteByte(' ')
			}
		}
		fmt.Fprintln(out, strings.TrimRight(line.String(), " "))
	}
	return out.Flush()
}

// listLayers lists what the layers of a file take.
func listLayers(cmd *cli.Command, l api.FileLayers) error {
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, l)
	}
	rows := make([][]string, 0, len(l.Layers))
	for _, k := range l.Layers {
		rows = append(rows, []string{fmt.Sprint(k.Layer), fmt.Sprintf("%.2f mm", k.Z), clockOf(k.Begins), fmt.Sprintf("%.1f s", k.Seconds), thread(k.MM), fmt.Sprintf("%.0f mm³", k.MM3), fmt.Sprintf("%.2f g%s", k.G, costOf(k.Cost, l.Currency))})
	}
	return table(w, []string{"Layer", "Z", "Begins after", "Takes", "Filament", "", ""}, rows)
}

// clockOf is a time in seconds as hours, minutes and seconds.
func clockOf(seconds float64) string {
	s := int(math.Round(seconds))
	return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
}

// showLayer says what one layer is.
func showLayer(w io.Writer, f *inspect.File, number int) {
	l := f.Layer(number)
	fmt.Fprintf(w, "Layer %d of %d: Z %.2f mm, %.2f mm high\n  begins after %s, takes %s\n  %d strokes, %s of filament\n", number, f.Layers(), l.Z, l.Height, span(l.Begins), span(l.Takes), l.Strokes, thread(l.Filament))
}

// showFacts says what a file is.
func showFacts(w io.Writer, f api.File) {
	line := func(name, format string, args ...any) {
		fmt.Fprintf(w, "  %-14s%s\n", name, fmt.Sprintf(format, args...))
	}
	fmt.Fprintf(w, "%s, %s, stored %s\n", f.Name, size(f.Size), local(f.Stored))
	switch f.Survey.State {
	case string(facts.Refused):
		line("", "it cannot be printed: %s", f.Survey.Reason)
		return
	case string(facts.Waiting), string(facts.Surveying):
		line("", "what it is, is being worked out: %.0f %%", 100*f.Survey.Share)
		return
	}
	line("moves take", "%s, by %s; %s of it lay nothing", span(f.DurationSeconds), whose(f.Limits), span(f.TravellingSeconds))
	if f.WarmingSeconds != nil {
		line("warming", "%s before, if it is started now", span(*f.WarmingSeconds))
	}
	line("filament", "%s, %.1f cm³, %.1f g%s", metres(f.FilamentMM), f.FilamentMM3/1000, f.FilamentG, costOf(f.Cost, f.Currency))
	if len(f.Tools) > 1 {
		for _, t := range f.Tools {
			line(fmt.Sprintf("  tool %d", t.Tool), "%s, %.1f cm³, %.1f g%s, in use for %s", metres(t.MM), t.MM3/1000, t.G, costOf(t.Cost, f.Currency), span(t.Seconds))
		}
	}
	line("layers", "%d, mostly %.2f mm; %d lines for the printer", f.Layers, f.LayerHeight, f.Commands)
	if e := f.Extent; e != nil {
		if p := f.Part; p != nil {
			line("part", "%.1f × %.1f × %.1f mm", p.Max[0]-p.Min[0], p.Max[1]-p.Min[1], p.Max[2])
		}
		line("lays", "X %.1f to %.1f, Y %.1f to %.1f, Z %.2f to %.2f mm", e.Min[0], e.Max[0], e.Min[1], e.Max[1], e.Min[2], e.Max[2])
	}
	line("at most", "%.0f mm/s, %.1f mm³/s, fan %.0f %%", f.Fastest, f.Flow, 100*f.Fan)
	for _, g := range f.Given {
		where := "before the first layer"
		if g.Layer > 0 {
			where = fmt.Sprintf("in layer %d", g.Layer)
		}
		line(g.Heater, "%s %s (line %d)", target(g.Setpoint), where, g.Line)
	}
	for _, o := range f.Objects {
		words := o.Name
		if words == "" {
			words = "object " + o.Key
		} else if words != o.Key {
			words += " (" + o.Key + ")"
		}
		if o.Extent != nil {
			words += fmt.Sprintf(", X %.0f to %.0f, Y %.0f to %.0f mm", o.Extent.Min[0], o.Extent.Max[0], o.Extent.Min[1], o.Extent.Max[1])
		}
		if o.Fixed != "" {
			words += ", cannot be skipped: " + o.Fixed
		}
		line("object", "%s", words)
	}
	h := f.Hints
	var said []string
	material := strings.Join(h.Materials, ", ")
	if material == "" {
		material = h.Material
	}
	for _, s := range []struct{ name, value string }{{"material", material}, {"colour", strings.Join(h.Colours, ", ")}, {"printer", h.Printer}, {"nozzle", millimetres(h.Nozzle)}, {"filament", millimetres(h.Filament)}} {
		if s.value != "" {
			said = append(said, s.name+" "+s.value)
		}
	}
	if len(said) > 0 {
		line("comments say", "%s", strings.Join(said, ", "))
	}
	if len(f.Features) > 0 {
		rows := make([][]string, 0, len(f.Features))
		for _, k := range f.Features {
			rows = append(rows, []string{fmt.Sprintf("%.2f mm", k.Height), fmt.Sprintf("%.0f mm/s", k.Speed), span(k.Seconds), thread(k.LengthMM), thread(k.FilamentMM)})
		}
		fmt.Fprintln(w)
		table(w, []string{"Layer height", "Speed", "Takes", "Drawn", "Filament"}, rows)
	}
	if len(f.Checks) > 0 {
		fmt.Fprintln(w)
	}
	for _, c := range f.Checks {
		fmt.Fprintln(w, "  "+checkLine(c))
	}
}

// whose says whose limits of speed and acceleration a time goes by.
func whose(limits string) string {
	return map[string]string{"printer": "the printer's own limits", "setup": "the configuration's limits", "ordinary": "a common machine's limits"}[limits]
}

// thread is a length, in millimetres where it is short.
func thread(mm float64) string {
	if mm < 1000 {
		return fmt.Sprintf("%.0f mm", mm)
	}
	return metres(mm)
}

// costOf is what filament costs, to go behind its mass; empty if that is not known.
func costOf(cost *float64, currency string) string {
	if cost == nil {
		return ""
	}
	return strings.TrimRight(fmt.Sprintf(", %.2f %s", math.Round(100**cost)/100, currency), " ")
}

// millimetres is a diameter; empty if there is none.
func millimetres(v float64) string {
	if v == 0 {
		return ""
	}
	return fmt.Sprintf("%g mm", v)
}
