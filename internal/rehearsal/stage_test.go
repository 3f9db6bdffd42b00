package rehearsal_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/rehearsal"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// shelf holds files by their names.
type shelf map[string]string

func (s shelf) File(_ context.Context, name string) (toolpath.File, error) {
	text, there := s[name]
	if !there {
		return toolpath.File{}, errors.New("it has left the shelf")
	}
	facts, err := toolpath.Scan(strings.NewReader(text), toolpath.Options{Limits: motion.Ordinary})
	sum, size, _ := digest.Again(strings.NewReader(text), "")
	return toolpath.File{Name: name, Digest: sum, Size: size, Summary: facts}, err
}

// Read hands out a pipe that the text comes from, again and again if it is to go on for
// ever.
func (s shelf) Read(name string) (*os.File, error) {
	from, to, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	go func() {
		defer to.Close()
		for text := s[name]; ; {
			if _, err := io.WriteString(to, text); err != nil || !strings.Contains(text, "for ever") {
				return
			}
		}
	}()
	return from, nil
}

// patience bounds every wait: a rehearsal has the lowest priority, and beside programs that
// take all of the processor it gets hardly any.
const patience = 10 * time.Minute

// until waits for a condition.
func until(t *testing.T, there func() bool) {
	t.Helper()
	look := time.NewTicker(time.Millisecond)
	defer look.Stop()
	for deadline := time.After(patience); !there(); {
		select {
		case <-look.C:
		case <-deadline:
			t.Fatalf("it does not come to that in %s", patience)
		}
	}
}

func TestAStageRehearsesOneAfterAnother(t *testing.T) {
	files := shelf{"a": start + "G1 X10\n", "b": start + "G1 X20\n", "long": strings.Repeat("G4 S60 ; for ever\n", 1000), "swapped": start + "G1 X30\n", "gone": start + "G1 X40\n"}
	file := func(name string) toolpath.File {
		f, err := files.File(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	s := rehearsal.NewStage(files, func(context.Context) (rehearsal.Printer, error) { return vesper(), nil })
	if _, err := s.Of(file("a")); !errors.Is(err, rehearsal.ErrNone) {
		t.Errorf("before any: %v", err)
	}
	if err := s.Stop(file("a")); !errors.Is(err, rehearsal.ErrNone) {
		t.Errorf("nothing to stop: %v", err)
	}
	long, a, b, swapped, gone := file("long"), file("a"), file("b"), file("swapped"), file("gone")
	for _, f := range []toolpath.File{long, a, b, swapped, gone} {
		if r := s.Begin(f); r.State != rehearsal.Waiting {
			t.Errorf("%s is %s", f.Name, r.State)
		}
	}
	files["swapped"] = "G28\n"
	delete(files, "gone")
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.Work(ctx)
	}()
	state := func(f toolpath.File) rehearsal.Rehearsal {
		r, err := s.Of(f)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	until(t, func() bool { return state(long).Line > 2000 }) // it goes on, and tells how far it is
	if r := state(long); r.State != rehearsal.Rehearsing || r.Clock < time.Hour {
		t.Errorf("the long one is %+v", r)
	}
	if r := s.Begin(long); r.State != rehearsal.Rehearsing {
		t.Errorf("asked for once more it is %s", r.State)
	}
	if err := s.Stop(b); err != nil || state(b).State != rehearsal.Stopped {
		t.Errorf("one that waits: %v, %s", err, state(b).State)
	}
	if err := s.Stop(long); err != nil || state(long).State != rehearsal.Stopped || state(long).Ended.IsZero() {
		t.Errorf("one that goes on: %v, %s", err, state(long).State)
	}
	until(t, func() bool { return !state(gone).State.Goes() })
	if r := state(a); r.State != rehearsal.Finished || r.Share != 1 || r.Report == nil || r.Report.Commands != 6 || !r.Report.Begins.Equal(r.Asked) {
		t.Errorf("the next is %+v", r)
	}
	for f, want := range map[string]string{"swapped": "another file has taken its name", "gone": "it has left the shelf"} {
		r := state(map[string]toolpath.File{"swapped": swapped, "gone": gone}[f])
		if r.State != rehearsal.Broken || !strings.Contains(r.Reason, want) {
			t.Errorf("%s: %s, %q", f, r.State, r.Reason)
		}
	}
	if state(b).State != rehearsal.Stopped {
		t.Errorf("one that was stopped as it waited is %s", state(b).State)
	}
	if err := s.Stop(a); err != nil || state(a).State != rehearsal.Finished {
		t.Errorf("one that is over is %s, %v", state(a).State, err)
	}
	if r := s.Begin(b); r.State != rehearsal.Waiting || r.Report != nil {
		t.Errorf("once more: %+v", r)
	}
	end()
	<-ended
}

func TestAStageTellsAllThatComesOfIt(t *testing.T) {
	var part bytes.Buffer
	samples.Coupon(4).Write(&part)
	files := shelf{"coupon": part.String() + "M104 S300\nG1 X999\n"}
	f, err := files.File(t.Context(), "coupon")
	if err != nil {
		t.Fatal(err)
	}
	p := vesper()
	p.Heaters = learned(simprinter.Vesper())
	s := rehearsal.NewStage(files, func(context.Context) (rehearsal.Printer, error) { return p, nil })
	go s.Work(t.Context())
	asked := s.Begin(f).Asked
	until(t, func() bool { r, _ := s.Of(f); return !r.State.Goes() })
	got, _ := s.Of(f)
	want, err := rehearsal.Play(t.Context(), strings.NewReader(files["coupon"]), f, p, asked, func(rehearsal.Progress) {})
	if err != nil || got.Report == nil || len(want.Problems) == 0 || len(want.Heat) == 0 {
		t.Fatalf("%+v, %+v, %v", got, want, err)
	}
	if g, w := fmt.Sprintf("%+v", *got.Report), fmt.Sprintf("%+v", want); g != w {
		t.Errorf("it is told as\n%s\nand was\n%s", g, w)
	}

	s = rehearsal.NewStage(changed{files}, func(context.Context) (rehearsal.Printer, error) { return p, nil })
	go s.Work(t.Context())
	s.Begin(f)
	until(t, func() bool { r, _ := s.Of(f); return !r.State.Goes() })
	if r, _ := s.Of(f); r.State != rehearsal.Broken || !strings.Contains(r.Reason, "not those that were stored") {
		t.Errorf("a file that is not what is known of it: %+v", r)
	}
}

// changed is a shelf whose files have been changed by hand.
type changed struct{ shelf }

func (c changed) Read(name string) (*os.File, error) {
	return shelf{name: c.shelf[name] + "G1 X1\n"}.Read(name)
}
