package idle

import (
	"encoding/gob"
	"io"
	"os"
	"runtime/debug"
	"strconv"

	"golang.org/x/sys/unix"

	"diathermon/internal/lean"
)

const (
	asks   = "DIATHERMON_IDLE_WORK" // in the environment of such a process: its kind of work
	lowest = 19                     // priority
	first  = "500"                  // when memory is short, such a process goes long before the host
	handed = 3                      // the descriptor of the first file
)

// init lowers the priority before anything else is made.
func init() {
	if os.Getenv(asks) != "" {
		Prioritise(lowest)
		debug.SetGCPercent(lean.Garbage)
		os.WriteFile("/proc/self/oom_score_adj", []byte(first), 0) // where that is not possible, it is as others are
	}
}

// Prioritise gives every thread of this process a priority, or the error of that. Threads get
// that of the one that makes them: it is over when none was made meanwhile.
func Prioritise(priority int) error {
	for known := 0; ; {
		threads, err := os.ReadDir("/proc/self/task")
		if err != nil || len(threads) <= known {
			return err
		}
		known = len(threads)
		for _, t := range threads {
			id, err := strconv.Atoi(t.Name())
			if err == nil {
				err = unix.Setpriority(unix.PRIO_PROCESS, id, priority)
			}
			if err != nil && err != unix.ESRCH { // one that has ended needs none
				return err
			}
		}
	}
}

// served are the kinds of work that a process of this program does.
var served = map[string]bool{}

// Serve does the work and ends the process, if it was started to do work of this kind.
// Otherwise it returns at once.
func (k Kind[Request, Note, Result]) Serve() {
	if os.Getenv(asks) != k.name {
		served[k.name] = true
		return
	}
	var told order[Request]
	if err := gob.NewDecoder(os.Stdin).Decode(&told); err != nil {
		os.Exit(1) // who asked has gone
	}
	go func() { // as this does when it goes
		io.Copy(io.Discard, os.Stdin)
		os.Exit(1)
	}()
	var files []*os.File
	for i := range told.Files {
		files = append(files, os.NewFile(uintptr(handed+i), ""))
	}
	out := gob.NewEncoder(os.Stdout)
	say := func(w word[Note, Result]) {
		if out.Encode(w) != nil {
			os.Exit(1)
		}
	}
	result, err := k.do(told.Request, files, func(n Note) { say(word[Note, Result]{Note: n}) })
	last := word[Note, Result]{Last: true, Result: result}
	if err != nil {
		last.Wrong = err.Error()
	}
	say(last)
	os.Exit(0)
}
