package rehearsal_test

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/rehearsal"
)

// shelf holds files by their names, each with its bytes as its digest.
type shelf map[string]string

func (s shelf) File(_ context.Context, name string) (toolpath.File, error) {
	text, there := s[name]
	if !there {
		return toolpath.File{}, errors.New("it has left the shelf")
	}
	facts, err := toolpath.Scan(strings.NewReader(text), toolpath.Options{Limits: motion.Ordinary})
	return toolpath.File{Name: name, Digest: text, Size: int64(len(text)), Summary: facts}, err
}

func (s shelf) Open(_ context.Context, f toolpath.File) (io.ReadCloser, error) {
	if strings.Contains(f.Digest, "for ever") {
		return io.NopCloser(endless{}), nil
	}
	return io.NopCloser(strings.NewReader(f.Digest)), nil
}

// endless is a file without an end.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	line := "G4 S60\n"
	return copy(p, strings.Repeat(line, len(p)/len(line)+1)[:len(p)/len(line)*len(line)]), nil
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
	files := shelf{"a": start + "G1 X10\n", "b": start + "G1 X20\n", "long": "G4 S1 ; for ever\n", "swapped": start + "G1 X30\n", "gone": start + "G1 X40\n"}
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
