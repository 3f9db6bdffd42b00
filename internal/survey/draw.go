package survey

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"image/png"
	"os"

	"diathermon/internal/core/layers"
	"diathermon/internal/core/picture"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/idle"
	"diathermon/internal/shelf"
)

// manner is the version of how files are drawn.
const manner = 1

// drawing is the work: the first file is read, and its layers are written to the second.
var drawing = idle.New("survey", sketch)

func init() { drawing.Serve() }

// A sheet is what it takes to draw a file.
type sheet struct {
	Known    string // digest of it
	How      toolpath.Options
	Diameter float64 // mm, of the filament
}

// sketched is what comes of it, but for the layers.
type sketched struct {
	File     toolpath.File
	Wrong    string   // with its content
	Undrawn  string   // why there are neither layers nor pictures
	Pictures [][]byte // PNG, of Sizes
}

func sketch(s sheet, files []*os.File, read func(bytes int64)) (d sketched, err error) {
	in, to := files[0], files[1]
	out := bufio.NewWriterSize(to, 256<<10)
	w := layers.NewWriter(out)
	s.How.Stroke = w.Stroke
	d.File, err = shelf.Examine(context.Background(), in, s.Known, s.How, read)
	if errors.Is(err, shelf.ErrContent) {
		d.Wrong = err.Error()
		return d, nil
	}
	if err != nil {
		return d, err
	}
	if err = errors.Join(w.Close(d.File.Marks), out.Flush()); err == nil {
		d.Pictures, err = pictures(to, s.Diameter)
	}
	if err != nil { // what it is is known all the same
		d.Undrawn = err.Error()
	}
	return d, nil
}

// pictures are those of a file of layers.
func pictures(file *os.File, diameter float64) (all [][]byte, err error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	index, err := layers.ReadIndex(file, info.Size())
	if err != nil {
		return nil, err
	}
	img, err := picture.Of(file, index, Sizes[0], diameter)
	if err != nil {
		return nil, err
	}
	for _, size := range Sizes {
		var b bytes.Buffer
		if err := png.Encode(&b, picture.Smaller(img, size)); err != nil {
			return nil, err
		}
		all = append(all, b.Bytes())
	}
	return all, nil
}
