package rehearsal

import (
	"context"
	"errors"
	"os"
	"slices"
	"sync"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/idle"
)

// State is where a rehearsal stands.
type State string

// The states.
const (
	Waiting    State = "waiting" // for another to be over
	Rehearsing State = "rehearsing"
	Finished   State = "finished"
	Stopped    State = "stopped" // by a person
	Broken     State = "broken"  // the file could not be read
)

// Goes reports whether something is to come of it yet.
func (s State) Goes() bool { return s == Waiting || s == Rehearsing }

// ErrNone means that a file was not rehearsed.
var ErrNone = errors.New("it was not rehearsed")

// mostKept is how many rehearsals are remembered.
const mostKept = 24

// A Rehearsal is one, as it stands.
type Rehearsal struct {
	File   string // name on the shelf when it was asked for
	Digest string
	State  State
	Reason string // why it broke
	Asked  time.Time
	Ended  time.Time // zero while it goes on
	Progress
	Report *Report // of a finished one
}

// Shelf is where the files are.
type Shelf interface {
	File(ctx context.Context, name string) (toolpath.File, error)
	Read(name string) (*os.File, error)
}

// A Stage rehearses files one after another, in the background. Make one with NewStage.
type Stage struct {
	shelf   Shelf
	printer func(context.Context) (Printer, error)
	kick    chan struct{}

	mu   sync.Mutex
	kept []*Rehearsal // the oldest first, one of each file
	stop func()       // ends the one that goes on; nil if none does
}

// NewStage returns a stage for the printer that is told as each rehearsal begins.
func NewStage(s Shelf, printer func(context.Context) (Printer, error)) *Stage {
	return &Stage{shelf: s, printer: printer, kick: make(chan struct{}, 1)}
}

// Begin asks for the rehearsal of a file, anew if there was one. One that waits or goes
// on already is returned as it stands.
func (s *Stage) Begin(f toolpath.File) Rehearsal {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.of(f.Digest); r != nil && r.State.Goes() {
		return *r
	}
	s.kept = slices.DeleteFunc(s.kept, func(r *Rehearsal) bool { return r.Digest == f.Digest })
	if over := slices.IndexFunc(s.kept, func(r *Rehearsal) bool { return !r.State.Goes() }); len(s.kept) >= mostKept && over >= 0 {
		s.kept = slices.Delete(s.kept, over, over+1)
	}
	r := &Rehearsal{File: f.Name, Digest: f.Digest, State: Waiting, Asked: time.Now().UTC()}
	s.kept = append(s.kept, r)
	select {
	case s.kick <- struct{}{}:
	default:
	}
	return *r
}

// Of is the last rehearsal of a file, or ErrNone.
func (s *Stage) Of(f toolpath.File) (Rehearsal, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.of(f.Digest); r != nil {
		return *r, nil
	}
	return Rehearsal{}, ErrNone
}

// Stop ends the rehearsal of a file, whether it waits or goes on; of one that is over
// nothing changes.
func (s *Stage) Stop(f toolpath.File) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.of(f.Digest)
	if r == nil {
		return ErrNone
	}
	switch r.State {
	case Rehearsing:
		s.stop()
		fallthrough
	case Waiting:
		r.State, r.Ended = Stopped, time.Now().UTC()
	}
	return nil
}

func (s *Stage) of(digest string) *Rehearsal {
	if i := slices.IndexFunc(s.kept, func(r *Rehearsal) bool { return r.Digest == digest }); i >= 0 {
		return s.kept[i]
	}
	return nil
}

// Work rehearses until the context ends.
func (s *Stage) Work(ctx context.Context) {
	for ctx.Err() == nil {
		if r, own, ended := s.next(ctx); r != nil {
			s.rehearse(own, r)
			ended()
			continue
		}
		select {
		case <-ctx.Done():
		case <-s.kick:
		}
	}
}

// next takes the one that has waited longest.
func (s *Stage) next(ctx context.Context) (*Rehearsal, context.Context, func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.kept, func(r *Rehearsal) bool { return r.State == Waiting })
	if i < 0 {
		return nil, nil, nil
	}
	own, cancel := context.WithCancel(ctx)
	s.kept[i].State, s.stop = Rehearsing, cancel
	return s.kept[i], own, cancel
}

func (s *Stage) rehearse(ctx context.Context, r *Rehearsal) {
	report, err := s.play(ctx, r)
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.State != Rehearsing { // it was stopped
		return
	}
	r.Ended = time.Now().UTC()
	if err != nil {
		r.State, r.Reason = Broken, err.Error()
		return
	}
	r.State, r.Report, r.Share = Finished, &report, 1
}

func (s *Stage) play(ctx context.Context, r *Rehearsal) (Report, error) {
	f, err := s.shelf.File(ctx, r.File)
	if err != nil {
		return Report{}, err
	}
	switch {
	case f.Digest != r.Digest:
		return Report{}, errors.New("another file has taken its name: rehearse that one")
	case f.Trouble != "":
		return Report{}, errors.New(f.Trouble)
	}
	body, err := s.shelf.Read(f.Name)
	if err != nil {
		return Report{}, err
	}
	defer body.Close()
	p, err := s.printer(ctx)
	if err != nil {
		return Report{}, err
	}
	return playing.Work(ctx, part{f, p, r.Asked}, []*os.File{body}, func(at Progress) {
		s.mu.Lock()
		defer s.mu.Unlock()
		r.Progress = at
	})
}

// playing is the work of rehearsing a file, which nobody waits for.
var playing = idle.New("rehearsal", func(p part, files []*os.File, note func(Progress)) (Report, error) {
	return Play(context.Background(), digest.Checked(files[0], p.Facts.Digest), p.Facts, p.Printer, p.Begins, note)
})

func init() { playing.Serve() }

// A part is what it takes to rehearse a file.
type part struct {
	Facts   toolpath.File
	Printer Printer
	Begins  time.Time
}
