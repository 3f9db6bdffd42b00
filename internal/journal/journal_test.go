package journal

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/durable"
)

func folder(t testing.TB) *Folder {
	t.Helper()
	f, err := Open(filepath.Join(t.TempDir(), "journal"))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// written returns a folder with the journal of a run that was cut off while it was
// parked, its file and the run.
func written(t testing.TB) (*Folder, string, *run.Life) {
	t.Helper()
	f := folder(t)
	record := run.Record{ID: "0198-a", File: "knob.gcode", Digest: "ab", State: run.Waiting, Created: time.Now().UTC(), Commands: 900}
	b, err := f.Begin(record)
	if err != nil {
		t.Fatal(err)
	}
	life := run.New(run.Rules{Parking: run.Ordinary([3]float64{230, 230, 240})}, run.File{Name: "knob.gcode", Commands: 900, First: 9, Setpoints: map[heat.Heater]float64{heat.Bed: 60}}, record)
	m := run.Machine{Live: true, Next: 5, Printer: []byte(`{"Name":"Stand-in"}`), At: run.Point{State: gcode.State{Modes: gcode.Modes{Feed: 40, RelativeExtruder: true}, At: gcode.Position{1, 2, 0.4, 7}, Homed: [3]bool{true, true, true}}, Setpoints: map[heat.Heater]float64{heat.Bed: 60}}}
	var token uint64
	step := func(e run.Event) {
		m.Now += time.Second
		effects, err := life.Step(e, m)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range effects {
			if e.Do == run.DoKeep {
				if err := b.Note(e.Entry); err != nil {
					t.Fatal(err)
				}
			}
			token = max(token, e.Token)
		}
	}
	step(run.Event{On: run.OnBegin})
	for n := 5; n <= 20; n++ {
		if n == 9 || n == 20 {
			step(run.Event{On: run.OnOther, Number: n, Text: "M105"})
			continue
		}
		step(run.Event{On: run.OnSaid, Number: n})
		step(run.Event{On: run.OnTaken, Number: n})
		step(run.Event{On: run.OnTime})
	}
	step(run.Event{On: run.OnHold, Reason: "held by hand"})
	for life.Stage() != run.Parked {
		step(run.Event{On: run.OnDone, Token: token})
	}
	b.Said(31)
	life.SaidBelow(31)
	b.Close(true)
	path := filepath.Join(f.dir, record.ID+suffix)
	t.Cleanup(func() { durable.RemoveCount(countName(path)) })
	return f, path, life
}

// story is what a journal keeps of a run.
func story(l *run.Life) string {
	if l == nil || l.Record().ID == "" {
		return "nothing"
	}
	r := l.Record()
	return fmt.Sprintf("%s %+v %+v %s", l.Stage(), r, l.Ledger(), l.Printer())
}

func TestARunThatWasCutOffIsFoundAsItWas(t *testing.T) {
	f, _, want := written(t)
	got, b, err := f.Unfinished()
	if err != nil || story(got) != story(want) {
		t.Fatalf("found %s, %v\nwant %s", story(got), err, story(want))
	}
	if n := got.Ledger().Commands(20); n != 14 { // 16 lines from 5 to 20, two of them not the file's
		t.Errorf("line 20 is command %d of the file, want 14", n)
	}
	b.Note(run.Entry{Kind: run.Reached, Number: 30, Command: 24})
	b.Close(true)
	if got, b, err = f.Unfinished(); err != nil || got.Record().Taken != 24 {
		t.Errorf("written on, it is %+v, %v", got, err)
	}
	b.Close(false)
	if got, _, err = f.Unfinished(); got != nil || err != nil {
		t.Errorf("a run that is over is found again: %+v, %v", got, err)
	}
}

func TestAJournalIsReadUpToWhereverItWasCutOrDamaged(t *testing.T) {
	f, path, want := written(t)
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	end := strings.IndexByte(string(whole), 0)
	first := strings.IndexByte(string(whole), '\n') + 1
	first += strings.IndexByte(string(whole[first:]), '\n') + 1
	for cut := 0; cut < end; cut += 7 { // every byte is the log's own test
		for _, damage := range []bool{false, true} {
			b := append([]byte{}, whole[:cut]...)
			if damage { // one byte is spoiled and the rest is there
				b = append(append(b, whole[cut]^0x21), whole[cut+1:]...)
			}
			os.WriteFile(path, b, 0o644)
			life, book, err := f.Unfinished()
			switch {
			case life == nil && cut >= first:
				t.Fatalf("cut at %d of %d, damaged %v: nothing is found: %v", cut, end, damage, err)
			case life == nil:
				os.Remove(path + ".unread")
				continue
			case life.Record().ID != want.Record().ID || life.Record().Taken > want.Record().Taken:
				t.Fatalf("cut at %d: found %s", cut, story(life))
			}
			book.Note(run.Entry{Kind: run.Reached, Number: 40, Command: 33})
			book.Close(true)
			if life, book, err = f.Unfinished(); err != nil || life.Record().Taken != 33 {
				t.Fatalf("cut at %d and written on: found %s, %v", cut, story(life), err)
			}
			book.Close(true)
		}
	}
}

func TestOfTwoJournalsTheNewerCounts(t *testing.T) {
	f, older, _ := written(t)
	b, err := f.Begin(run.Record{ID: "0199-b", File: "cap.gcode", State: run.Waiting})
	if err != nil {
		t.Fatal(err)
	}
	b.Close(true)
	life, book, err := f.Unfinished()
	if err != nil || life.Record().File != "cap.gcode" {
		t.Fatalf("found %s, %v", story(life), err)
	}
	book.Close(false)
	if _, err := os.Stat(older); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the older is still there: %v", err)
	}
}

func TestAfterAPowerCutMoreMayHaveBeenSaid(t *testing.T) {
	f, path, want := written(t)
	whole, _ := os.ReadFile(path)
	os.WriteFile(path, []byte(strings.Replace(string(whole), bootID(), "another-boot", 1)), 0o644)
	life, b, err := f.Unfinished()
	if err != nil || life.Said() != want.Said() || life.Ledger().More < 1000 {
		t.Errorf("found %s, %v", story(life), err)
	}
	b.Close(false)
}

func TestAfterAKillIsKnownWhatWasSaid(t *testing.T) {
	noMemory := func(path string) { // somebody else has something of that name there
		durable.RemoveCount(countName(path))
		if err := os.Symlink("/nowhere", filepath.Join("/dev/shm", countName(path))); err != nil {
			t.Fatal(err)
		}
	}
	for name, c := range map[string]struct {
		before, between func(path string)
		exactly         bool
	}{
		"in memory":                        {exactly: true},
		"on the disk, without such memory": {before: noMemory, exactly: true},
		"the memory is gone":               {between: func(path string) { durable.RemoveCount(countName(path)) }},
		"the memory is somebody else's":    {between: noMemory},
	} {
		t.Run(name, func(t *testing.T) {
			f := folder(t)
			path := filepath.Join(f.dir, "0198-k"+suffix)
			defer durable.RemoveCount(countName(path))
			if c.before != nil {
				c.before(path)
			}
			b, err := f.Begin(run.Record{ID: "0198-k", State: run.Waiting})
			if err != nil {
				t.Fatal(err)
			}
			for n := range 500 { // and then it is killed: nothing is closed
				b.Said(n)
			}
			if c.between != nil {
				c.between(path)
			}
			life, again, err := f.Unfinished()
			if err != nil {
				t.Fatal(err)
			}
			got, more := life.Said(), life.Ledger().More
			if c.exactly && (got != 499 || more > 0) || !c.exactly && got+more < 499+1000 {
				t.Errorf("found that %d were said, and perhaps %d more, want 499: exactly %v", got, more, c.exactly)
			}
			at := life.Said() + 7
			again.Said(at) // and is killed once more
			life, last, err := f.Unfinished()
			if err != nil {
				t.Fatal(err)
			}
			if got, more := life.Said(), life.Ledger().More; got+more < at || c.exactly && got != at {
				t.Errorf("after another kill it is %d and perhaps %d more, want %d", got, more, at)
			}
			last.Close(false)
		})
	}
}

func TestTheNewestRecordingsAreKept(t *testing.T) {
	f := folder(t)
	for i := range recordings + 5 {
		if err := f.Keep(fmt.Sprintf("run-%03d", i), func(w io.Writer) error {
			_, err := fmt.Fprint(w, i)
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.Recording("run-004"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the oldest is still there: %v", err)
	}
	r, err := f.Recording("run-024")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if b, _ := io.ReadAll(r); string(b) != "24" {
		t.Errorf("it holds %q", b)
	}
	if err := f.Keep("run-999", func(io.Writer) error { return errors.New("the disk is full") }); err == nil {
		t.Error("a recording that could not be written is no error")
	}
	if _, err := f.Recording("run-999"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("half a recording is kept: %v", err)
	}
}

// BenchmarkSaid is what the journal costs for each line of a file.
func BenchmarkSaid(b *testing.B) {
	f := folder(b)
	book, err := f.Begin(run.Record{ID: "0198-b"})
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close(false)
	n := 0
	for b.Loop() {
		n++
		book.Said(n)
	}
}

// BenchmarkNote is what an entry costs: one a second, and one for each line that
// is not the file's.
func BenchmarkNote(b *testing.B) {
	f := folder(b)
	book, err := f.Begin(run.Record{ID: "0198-c"})
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close(false)
	for b.Loop() {
		book.Note(run.Entry{Kind: run.Other, Number: 12345, Text: "M105"})
	}
}
