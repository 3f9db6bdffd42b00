// Package inspect looks into a file of G-code without a host: what it is, its layers, its
// picture.
//
// It leaves to facts how that is said, and to the command line how it is shown.
package inspect

import (
	"bufio"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"slices"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/layers"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/picture"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/facts"
)

// A File is one that has been read. Close it.
type File struct {
	file    toolpath.File
	printer machine.Printer
	layers  *os.File
	index   layers.Index
}

// Layer is one layer of a file.
type Layer struct {
	Z, Height     float64 // mm
	Begins, Takes float64 // s
	Strokes       int
	Filament      float64 // mm
}

// Read reads a file for a printer, in the way that how says.
func Read(in io.Reader, name string, stored time.Time, printer machine.Printer, how toolpath.Options) (*File, error) {
	tmp, err := os.CreateTemp("", "diathermon-layers-")
	if err != nil {
		return nil, err
	}
	os.Remove(tmp.Name()) // it goes with the process
	f := &File{file: toolpath.File{Name: name, Stored: stored}, printer: printer, layers: tmp}
	if err := f.read(in, how); err != nil {
		tmp.Close()
		return nil, err
	}
	return f, nil
}

func (f *File) read(in io.Reader, how toolpath.Options) (err error) {
	out := bufio.NewWriterSize(f.layers, 256<<10)
	w := layers.NewWriter(out)
	how.Stroke = w.Stroke
	sum := digest.New()
	counted := &counter{}
	if f.file.Summary, err = toolpath.Read(io.TeeReader(in, io.MultiWriter(sum, counted)), how); err != nil {
		return fmt.Errorf("%s: %w", f.file.Name, err)
	}
	f.file.Size, f.file.Digest = counted.n, sum.String()
	if err := errors.Join(w.Close(f.file.Marks), out.Flush()); err != nil {
		return err
	}
	info, err := f.layers.Stat()
	if err != nil {
		return err
	}
	f.index, err = layers.ReadIndex(f.layers, info.Size())
	return err
}

// counter counts bytes.
type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}

// Close ends it.
func (f *File) Close() error { return f.layers.Close() }

// Facts are what the file is, with the checks of a printer that answers.
func (f *File) Facts() api.File {
	out := facts.Whole(f.file, f.printer)
	report := preflight.Look(preflight.Facts{Printer: f.printer, LinkLive: true, Around: preflight.Around{Free: -1}, File: f.file.Summary})
	out.Checks = facts.Checks(report.Checks)
	return out
}

// ByLayer is what it is by layer.
func (f *File) ByLayer() api.FileLayers { return facts.ByLayer(f.file, f.printer) }

// Layers is how many layers it has.
func (f *File) Layers() int { return len(f.index.Layers) }

// Layer is one of its layers, from 1.
func (f *File) Layer(number int) Layer {
	l := f.index.Layers[number-1]
	ends, filament := f.file.Duration.Seconds(), f.file.Filament
	if number < len(f.index.Layers) {
		ends = f.index.Layers[number].Begins
	}
	marks := f.file.Marks
	first := slices.IndexFunc(marks, func(m run.Mark) bool { return m.Command >= l.Command })
	if first >= 0 && first+1 < len(marks) {
		filament = marks[first+1].Filament
	}
	if first >= 0 {
		filament -= marks[first].Filament
	}
	return Layer{Z: l.Z, Height: l.Height, Begins: l.Begins, Takes: ends - l.Begins, Strokes: l.Strokes, Filament: filament}
}

// Picture draws the part in so many pixels a side, or one of its layers, from 1; 0 is the
// part.
func (f *File) Picture(number, pixels int) (*image.NRGBA, error) {
	if f.file.Extent.Empty {
		return nil, errors.New("it lays no plastic, so there is nothing to draw")
	}
	if number > 0 {
		return picture.Layer(f.layers, f.index, number-1, pixels, f.printer.Filament)
	}
	return picture.Of(f.layers, f.index, pixels, f.printer.Filament)
}

// Small is Picture of few pixels, each the mean of several.
func (f *File) Small(number, pixels int) (*image.NRGBA, error) {
	img, err := f.Picture(number, 4*pixels)
	if err != nil {
		return nil, err
	}
	return picture.Smaller(img, pixels), nil
}
