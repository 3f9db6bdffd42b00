package idle_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/idle"
)

// A letter has a value of every sort that is handed over.
type letter struct {
	Words  map[string]float64
	Counts []int
	Waits  time.Duration
	Fault  string // "error", "panic", "exit" or none
}

// copying writes the first file to the second as often as a letter says, notes how often it
// has, and answers with the letter and the priorities of its threads.
var copying = idle.New("copying", func(l letter, files []*os.File, note func(int)) (answer, error) {
	switch l.Fault {
	case "error":
		return answer{}, errors.New("nothing comes of it")
	case "panic":
		panic("the letter is torn")
	case "exit":
		os.Exit(3)
	}
	for i := 0; i < len(l.Counts) || l.Fault == "endless"; i++ {
		note(i)
		if len(files) == 2 {
			files[0].Seek(0, io.SeekStart)
			io.Copy(files[1], files[0])
		}
	}
	threads, err := filepath.Glob("/proc/self/task/*/stat")
	a := answer{Letter: l, Threads: map[string]int{}}
	for _, path := range threads {
		a.Threads[priority(path)]++
	}
	a.OOM, _ = os.ReadFile("/proc/self/oom_score_adj")
	return a, err
})

func init() { copying.Serve() }

type answer struct {
	Letter  letter
	Threads map[string]int // by priority
	OOM     []byte
}

// priority is that of the thread whose state the kernel tells at a path.
func priority(path string) string {
	stat, _ := os.ReadFile(path)
	if fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:])); len(fields) > 16 {
		return fields[16]
	}
	return "gone"
}

// silent is for who wants no notes.
func silent(int) {}

func TestWorkIsDoneByAProcessOfTheLowestPriority(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "from"), []byte("moon\n"), 0o600)
	from, _ := os.Open(filepath.Join(dir, "from"))
	to, err := os.Create(filepath.Join(dir, "to"))
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	defer to.Close()
	sent := letter{Words: map[string]float64{"waning": 0.25, "": -1}, Counts: []int{0, 7, 0}, Waits: time.Hour}
	var notes []int
	got, err := copying.Work(t.Context(), sent, []*os.File{from, to}, func(n int) { notes = append(notes, n) })
	if err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(got.Letter) != fmt.Sprint(sent) || !slices.Equal(notes, []int{0, 1, 2}) {
		t.Errorf("%+v was asked, %+v done, %v noted", sent, got.Letter, notes)
	}
	if text, _ := os.ReadFile(to.Name()); string(text) != strings.Repeat("moon\n", 3) {
		t.Errorf("the file has %q", text)
	}
	if got.Threads["19"] == 0 || len(got.Threads) > 1 {
		t.Errorf("its threads have the priorities %v", got.Threads)
	}
	if string(got.OOM) != "500\n" {
		t.Errorf("where memory is short it counts %q", got.OOM)
	}
	if own := priority("/proc/self/stat"); own == "19" {
		t.Error("this process has become idle itself")
	}
}

func TestWhatGoesWrongIsTheProcesssOwn(t *testing.T) {
	for fault, want := range map[string]string{"error": "nothing comes of it", "panic": "broke down: panic: the letter is torn", "exit": "ended: exit status 3"} {
		if got, err := copying.Work(t.Context(), letter{Fault: fault}, nil, silent); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v; want %q", fault, got, err, want)
		}
	}
	defer func() {
		if recover() == nil {
			t.Error("a process was started that would not have known what to do")
		}
	}()
	nowhere := idle.New("nowhere", func(struct{}, []*os.File, func(int)) (int, error) { return 0, nil })
	nowhere.Work(t.Context(), struct{}{}, nil, silent)
}

// children are the processes that this one has started and that have not ended.
func children(t *testing.T) (all []string) {
	t.Helper()
	lists, err := filepath.Glob("/proc/self/task/*/children")
	if err != nil || len(lists) == 0 {
		t.Skip("this kernel does not tell a process's children")
	}
	found := map[string]bool{}
	for _, l := range lists {
		ids, _ := os.ReadFile(l)
		for id := range strings.FieldsSeq(string(ids)) {
			found[id] = true
		}
	}
	return slices.Collect(maps.Keys(found))
}

func TestWorkEndsWithItsContext(t *testing.T) {
	ctx, end := context.WithCancel(t.Context())
	defer end()
	late, before := 0, children(t)
	_, err := copying.Work(ctx, letter{Fault: "endless"}, nil, func(n int) {
		if ctx.Err() != nil {
			late++
		}
		if n == 10 {
			end()
		}
	})
	if !errors.Is(err, context.Canceled) || late > 1 {
		t.Errorf("%v, %d notes after the end", err, late)
	}
	if _, err := copying.Work(ctx, letter{}, nil, silent); !errors.Is(err, context.Canceled) {
		t.Errorf("begun after the end: %v", err)
	}
	for deadline := time.After(3 * time.Minute); len(children(t)) > len(before); { // it has to get its turn
		select {
		case <-time.After(time.Millisecond):
		case <-deadline:
			t.Fatalf("processes %v go on", children(t))
		}
	}
}
