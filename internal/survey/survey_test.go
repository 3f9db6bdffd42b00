package survey_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/color"
	"image/png"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"diathermon/internal/core/layers"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
	"diathermon/internal/shelf"
	"diathermon/internal/survey"
)

// index is a shelf's index in memory.
type index struct {
	mu    sync.Mutex
	files map[string]toolpath.File
}

func (x *index) PutFile(_ context.Context, f toolpath.File) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.files[f.Name] = f
	return nil
}
func (x *index) File(_ context.Context, name string) (toolpath.File, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	f, ok := x.files[name]
	if !ok {
		return f, fs.ErrNotExist
	}
	return f, nil
}
func (x *index) Files(context.Context) (out []toolpath.File, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, f := range x.files {
		out = append(out, f)
	}
	return out, nil
}
func (x *index) DeleteFile(_ context.Context, name string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.files, name)
	return nil
}

// at is a shelf and its survey in a folder, whose survey works until stop is called.
func at(t *testing.T, dir string, x *index) (s *shelf.Shelf, v *survey.Survey, stop func()) {
	t.Helper()
	s, err := shelf.Open(t.Context(), filepath.Join(dir, "shelf"), x, toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		t.Fatal(err)
	}
	if v, err = survey.New(s, filepath.Join(dir, "survey"), machine.Printer{Filament: 1.75}, slog.New(slog.DiscardHandler)); err != nil {
		t.Fatal(err)
	}
	s.Tell(v.Look)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); v.Work(ctx) }()
	stop = func() { cancel(); <-done }
	t.Cleanup(stop)
	return s, v, stop
}

func store(t *testing.T, s *shelf.Shelf, name string, body []byte) toolpath.File {
	t.Helper()
	f, _, err := s.Store(t.Context(), shelf.Arrival{Name: name, Body: bytes.NewReader(body), Size: int64(len(body))})
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// patience bounds every wait: a survey has the lowest priority, and beside programs that take
// all of the processor it gets hardly any.
const patience = 10 * time.Minute

// until waits for a condition.
func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for begun := time.Now(); !holds(); {
		if time.Since(begun) > patience {
			t.Fatalf("waited in vain for %s", what)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func TestAStoredFileIsWorkedOutAndDrawnOnce(t *testing.T) {
	dir, x := t.TempDir(), &index{files: map[string]toolpath.File{}}
	s, v, stop := at(t, dir, x)
	var body bytes.Buffer
	samples.Parts()[2].Write(&body) // larger than what is examined as it arrives
	f := store(t, s, "shoe.gcode", body.Bytes())
	if f.Surveyed() {
		t.Fatal("a file of that size was surveyed as it arrived")
	}
	if _, err := v.Layers(f); !errors.Is(err, survey.ErrNotYet) {
		t.Errorf("its layers before they are drawn: %v", err)
	}
	until(t, "its layers", func() bool { file, err := v.Layers(f); file.Close(); return err == nil })
	known, _ := s.Known(t.Context(), "shoe.gcode")
	if known.Layers != 110 || known.Duration < 30*time.Minute {
		t.Errorf("it has %d layers and takes %s", known.Layers, known.Duration)
	}
	plain, err := shelf.Examine(t.Context(), bytes.NewReader(body.Bytes()), "", s.Reading(), nil)
	if got, want := fmt.Sprintf("%+v", known.Summary), fmt.Sprintf("%+v", plain.Summary); err != nil || got != want {
		t.Errorf("%v; it is known as\n%.2000s\nand is\n%.2000s", err, got, want)
	}
	file, err := v.Layers(known)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	info, _ := file.Stat()
	drawn, err := layers.ReadIndex(file, info.Size())
	if err != nil || len(drawn.Layers) != known.Layers || float64(info.Size())/float64(drawn.Strokes) > 12 {
		t.Errorf("%d bytes of %d layers, %d strokes, %v", info.Size(), len(drawn.Layers), drawn.Strokes, err)
	}
	for asked, want := range map[int]int{1: 64, 64: 64, 65: 256, 800: 800, 5000: 800} {
		picture, which, err := v.Picture(known, asked)
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(picture)
		picture.Close()
		if err != nil || which != fmt.Sprint(want) || img.Bounds().Dx() != want {
			t.Errorf("asked for %d pixels: %s, %v", asked, which, err)
		}
	}
	small := store(t, s, "clip.gcode", []byte("G28\nM104 S200\nM83\nG1 Z.2\nG1 X10 E1 F3000\nG1 Y10 E1\nM104 S0\n")) // known as it arrives
	until(t, "a small file's picture", func() bool { picture, _, err := v.Picture(small, 64); picture.Close(); return err == nil })
	stop()

	// The next process surveys nothing again, and forgets what has left.
	s, again, _ := at(t, dir, x)
	if file, err := again.Layers(known); err != nil {
		t.Errorf("after a restart: %v", err)
	} else {
		file.Close()
	}
	if err := s.Remove(t.Context(), "shoe.gcode"); err != nil {
		t.Fatal(err)
	}
	until(t, "nothing to be left", func() bool { _, err := again.Layers(known); return errors.Is(err, survey.ErrNotYet) })
}

func TestAPictureBearsThePrintersSign(t *testing.T) {
	dir, x := t.TempDir(), &index{files: map[string]toolpath.File{}}
	s, v, stop := at(t, dir, x)
	f := store(t, s, "clip.gcode", []byte("G28\nM104 S200\nM83\nG1 Z.2\nG1 X10 E1 F3000\nG1 Y10 E1\nM104 S0\n"))
	until(t, "its picture", func() bool { picture, _, err := v.Picture(f, 64); picture.Close(); return err == nil })
	stop()
	seen := map[string]bool{}
	for _, p := range []machine.Printer{{}, {Name: "Vesper"}, {Name: "Vesper", Colour: "#2266cc"}, {Name: "Hesper", Colour: "#2266cc"}, {Name: strings.Repeat("Ω", 40), Colour: "#f0e0a0"}} {
		p.Filament = 1.75
		v, err := survey.New(s, filepath.Join(dir, "survey"), p, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		for _, size := range survey.Sizes {
			picture, which, err := v.Picture(f, size)
			if err != nil {
				t.Fatal(err)
			}
			img, err := png.Decode(picture)
			picture.Close()
			if err != nil || img.Bounds().Dx() != size || seen[which] {
				t.Fatalf("%s %s: %d pixels, %v; seen before: %t", p.Name, which, img.Bounds().Dx(), err, seen[which])
			}
			seen[which] = true
			colours := map[color.Color]int{}
			for x := range size {
				for y := size * 4 / 5; y < size; y++ {
					if c := img.At(x, y); x > size*98/100 && c != (color.NRGBA{}) {
						t.Fatalf("%s: something at %d, %d", p.Name, x, y)
					} else {
						colours[c]++
					}
				}
			}
			want := map[string]color.Color{"": color.NRGBA{}, "#2266cc": color.NRGBA{0x22, 0x66, 0xcc, 0xff}, "#f0e0a0": color.NRGBA{0xf0, 0xe0, 0xa0, 0xff}}[p.Colour]
			if n := colours[want]; n < size*size/1000 {
				t.Errorf("%s at %d pixels: its colour in %d of them", p.Name, size, n)
			}
			light := false
			for c := range colours {
				n, _ := c.(color.NRGBA)
				light = light || min(n.R, n.G, n.B) > 180 && n.A == 0xff
			}
			if light != (size >= 256 && p.Name != "" && p.Colour != "#f0e0a0") {
				t.Errorf("%s at %d pixels: white letters: %t", p.Name, size, light)
			}
		}
	}
	at(t, dir, x)
	until(t, "the pictures of others to be gone", func() bool {
		others, _ := filepath.Glob(filepath.Join(dir, "survey", "*", "*.*-*.png"))
		return len(others) == 0
	})
}

// restless is a shelf on which somebody renames a file while it is read.
type restless struct{ *shelf.Shelf }

func (r restless) Survey(ctx context.Context, name string, by shelf.Reader) (toolpath.File, error) {
	return r.Shelf.Survey(ctx, name, func(ctx context.Context, in *os.File, known string, how toolpath.Options) (toolpath.File, error) {
		after := "after.gcode"
		r.Change(ctx, "before.gcode", shelf.Change{Name: &after})
		return by(ctx, in, known, how)
	})
}

func TestAFileThatIsRenamedWhileItIsSurveyedIsDrawn(t *testing.T) {
	dir := t.TempDir()
	s, err := shelf.Open(t.Context(), filepath.Join(dir, "shelf"), &index{files: map[string]toolpath.File{}}, toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		t.Fatal(err)
	}
	v, err := survey.New(restless{s}, filepath.Join(dir, "survey"), machine.Printer{Filament: 1.75}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	f := store(t, s, "before.gcode", []byte("G28\nM104 S200\nM83\nG1 Z.2\nG1 X10 E1 F3000\nG1 Y10 E1\nM104 S0\n"))
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); v.Work(ctx) }()
	defer func() { cancel(); <-done }()
	until(t, "its picture", func() bool { picture, _, err := v.Picture(f, 64); picture.Close(); return err == nil })
}

func TestWhatWasNotSurveyedIsSurveyedByTheNextProcess(t *testing.T) {
	dir, x := t.TempDir(), &index{files: map[string]toolpath.File{}}
	if err := os.MkdirAll(filepath.Join(dir, "survey", "0-0"), 0o700); err != nil { // another version's
		t.Fatal(err)
	}
	s, _, stop := at(t, dir, x)
	stop()
	f := store(t, s, "tall.gcode", []byte("G28\nM104 S200\n"+strings.Repeat("; a long word about the sky\n", 160_000)+"G1 X10 Y10 E1 F3000\nG1 X20 Y20 E2\nM104 S0\n"))
	plain := store(t, s, "empty.gcode", []byte("G28\nG1 X5\n"))
	_, v, _ := at(t, dir, x)
	until(t, "its layers", func() bool { file, err := v.Layers(f); file.Close(); return err == nil })
	known, _ := s.Known(t.Context(), "tall.gcode")
	if !known.Surveyed() {
		t.Errorf("it was drawn and is not known: %+v", known.Summary)
	}
	if _, err := v.Layers(plain); !errors.Is(err, survey.ErrNothing) {
		t.Errorf("a file that lays nothing: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "survey", "0-0")); err == nil {
		t.Error("what another version drew is still there")
	}
}
