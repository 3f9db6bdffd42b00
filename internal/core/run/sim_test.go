package run_test

import (
	"bufio"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

var (
	lives   = flag.Int("lives", 20_000, "how many seeds TestAnyLife tries")
	oneLife = flag.Int64("life", -1, "try this seed alone, and tell what happens")
)

// TestAnyLife lets one number decide a file, a printer, what persons ask, what the
// heaters' guards do, and when the cable, the printer's power and the host itself go
// away; and looks after every step whether the run keeps its promises.
func TestAnyLife(t *testing.T) {
	if *oneLife >= 0 {
		w := newWorld(*oneLife)
		w.log = t.Logf
		if err := w.live(); err != nil {
			t.Fatal(err)
		}
		return
	}
	seeds := int64(*lives)
	if testing.Short() {
		seeds = min(seeds, 1000)
	}
	defer debug.SetGCPercent(debug.SetGCPercent(800)) // what a life takes is small, and it is let go at once
	var next atomic.Int64
	var wait sync.WaitGroup
	var mu sync.Mutex
	saw := map[string]int{}
	for range 2 {
		wait.Go(func() {
			for seed := next.Add(1) - 1; seed < seeds && !t.Failed(); seed = next.Add(1) - 1 {
				w := newWorld(seed)
				if err := w.live(); err != nil {
					t.Errorf("%v\nreplay: go test ./internal/core/run -run TestAnyLife -life %d -v", err, seed)
				}
				mu.Lock()
				for what, n := range w.saw {
					saw[what] += n
				}
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	if testing.Short() { // too few seeds for everything to happen
		return
	}
	for s := range run.Over + 1 {
		if saw[s.String()] == 0 {
			t.Errorf("no seed led to %q: the simulation has lost its teeth", s)
		}
	}
	for _, what := range []string{"finished", "stopped", "broken", "picked up", "cooled", "killed", "pulled", "reset", "came back", "left", "halted", "goes on by itself"} {
		if saw[what] == 0 {
			t.Errorf("no seed led to %q: the simulation has lost its teeth", what)
		}
	}
	t.Log(saw)
}

// world is a run with everything around it, in virtual time. Where the test's host
// decides something, it does so as it is told, and no better.
type world struct {
	seed int64
	rng  *rand.Rand
	log  func(string, ...any)
	saw  map[string]int
	now  time.Duration

	file     run.File
	lines    []string     // its commands
	expected [][4]float64 // where each of them leads, by a printer that nothing disturbs
	marks    []run.Mark
	rules    run.Rules

	life    *run.Life
	shadow  *run.Life   // what the journal tells
	entries []run.Entry // of the journal
	said    int         // and how many lines it says were said

	conv     *wire.Conversation // nil while the port is gone
	gone     time.Duration      // until then
	p        *printer
	point    run.Point
	fed      int // of the file, -1 while nothing of it is to be said
	answers  map[uint64]func([]string)
	tags     uint64
	alarm    string
	owes     bool
	performs time.Duration // when a routine before the first line is done; 0: none is performed
	soaks    time.Duration // when the soak is over; 0: there is none

	index   map[int]int // of the file's lines, by the number under which they were said
	earlier int         // numbers that an earlier conversation may have used
	open    bool        // the file's lane
	drawn   int         // the file's moves that were made, and the last other command
	top     float64     // how high the part is, mm
	broken  bool        // the moves that were planned have been broken off: what is left of the file in the printer begins elsewhere
	stopped bool        // by a person or a guard, with the printer in reach until its end
	wrong   error
}

const stride = 25 * time.Millisecond

func newWorld(seed int64) *world {
	rng := rand.New(rand.NewPCG(uint64(seed), 11))
	w := &world{seed: seed, rng: rng, log: func(string, ...any) {}, saw: map[string]int{}, answers: map[uint64]func([]string){}, index: map[int]int{}, drawn: -1}
	w.write()
	w.rules = run.Rules{Parking: run.Ordinary([3]float64{200, 200, 200}), ByHand: rng.IntN(4) == 0}
	if rng.IntN(2) == 0 {
		w.rules.IdleAfter = time.Duration(1+rng.IntN(8)) * time.Second
	}
	if rng.IntN(2) == 0 {
		w.rules.KeepBed = time.Duration(1+rng.IntN(20)) * time.Second
	}
	w.p = newPrinter()
	w.p.early, w.p.atOnce = rng.IntN(2) == 0, rng.IntN(2) == 0
	w.p.moved = w.moved
	w.connect(false)
	return w
}

// write makes a file and finds out, on a printer of its own, where it leads.
func (w *world) write() {
	say := func(format string, args ...any) { w.lines = append(w.lines, fmt.Sprintf(format, args...)) }
	warm := w.rng.IntN(8) > 0
	if warm {
		say("M140 S60")
		say("M104 S150")
		say("M190 S60")
		say("M109 S200")
		w.file.Setpoints = map[heat.Heater]float64{heat.Bed: 60, heat.NozzleOf(0): 200}
	}
	say("G28")
	relative := w.rng.IntN(2) == 0
	if relative {
		say("M83")
	}
	if w.rng.IntN(2) == 0 {
		say("M106 S128")
	}
	layers, e := 1+w.rng.IntN(3), 0.0
	w.file.Part = run.Part{Min: [3]float64{80, 80, 0.2}, Max: [3]float64{120, 120, 0.2 * float64(layers)}}
	for layer := range layers {
		say("G1 Z%.1f F600", 0.2*float64(layer+1))
		w.marks = append(w.marks, run.Mark{Command: len(w.lines), Seconds: float64(len(w.lines)), Z: 0.2 * float64(layer+1)})
		for range 3 + w.rng.IntN(8) {
			x, y := 80+w.rng.Float64()*40, 80+w.rng.Float64()*40
			if !warm {
				say("G0 X%.1f Y%.1f F6000", x, y)
				continue
			}
			if e += 1; relative {
				say("G1 X%.1f Y%.1f E1 F6000", x, y)
			} else {
				say("G1 X%.1f Y%.1f E%.1f F6000", x, y, e)
			}
			if w.file.First == 0 {
				w.file.First = len(w.lines)
			}
		}
		if w.rng.IntN(6) == 0 {
			say("M0 change the filament")
		}
	}
	say("M107")
	say("M400")
	say("M104 S0")
	say("M140 S0")
	w.file.Name, w.file.Commands = "knob.gcode", len(w.lines)
	p := newPrinter()
	p.early = true
	p.moved = func(m move, _ [4]float64) { w.expected[m.number] = m.to }
	w.expected = make([][4]float64, len(w.lines))
	now := time.Duration(0)
	toTheEnd := func() {
		for len(p.queue)+len(p.moves) > 0 {
			now += time.Minute
			p.pass(now, time.Minute)
		}
	}
	for i, l := range w.lines {
		toTheEnd()
		w.expected[i] = p.head
		if !strings.HasPrefix(l, "M0 ") {
			p.queue = append(p.queue, order{i, l})
		}
	}
	toTheEnd()
	for i := range w.lines {
		if i > 0 && !strings.HasPrefix(w.lines[i], "G0") && !strings.HasPrefix(w.lines[i], "G1") && w.lines[i] != "G28" {
			w.expected[i] = w.expected[i-1]
		}
	}
}

func (w *world) fail(format string, args ...any) {
	if w.wrong == nil {
		w.wrong = fmt.Errorf("seed %d at %s, %s: %s", w.seed, w.now, w.stage(), fmt.Sprintf(format, args...))
	}
}

func (w *world) stage() run.Stage {
	if w.life == nil {
		return run.Over
	}
	return w.life.Stage()
}

// connect opens the port.
func (w *world) connect(resets bool) {
	if resets {
		w.p.reset()
	}
	cfg := wire.Config{Buffer: 128, Slots: 4}
	if w.life != nil && w.life.Record().State == run.Interrupted && !w.life.Lost() {
		l := w.life.Ledger()
		cfg.Earlier = wire.Earlier{Others: l.Others, Taken: l.Taken, Said: min(l.Said, l.Number+w.file.Commands-l.Before+len(l.Others))}
		cfg.Earlier.Firmware = wire.Firmware{Name: "Model 1", Machine: "Vesper"}
	}
	w.earlier = cfg.Earlier.Said
	w.conv, w.gone, w.point = wire.New(cfg, w.now), 0, run.Point{}
	w.p.out = nil
}

// lose closes the port for a while.
func (w *world) lose(d time.Duration) {
	w.conv, w.gone = nil, w.now+d
	clear(w.answers)
	w.step(run.Event{On: run.OnCut, Reason: "the port is gone"})
	w.point = run.Point{}
}

// kill ends the host's process and begins another one, which knows the journal.
func (w *world) kill() {
	w.saw["killed"]++
	clear(w.answers)
	w.conv, w.gone, w.point, w.fed, w.soaks, w.performs = nil, w.now+time.Duration(w.rng.IntN(3000))*time.Millisecond, run.Point{}, -1, 0, 0
	l := &run.Life{}
	for _, e := range w.entries {
		again, err := run.ParseEntry(e.Encode())
		if err != nil {
			w.fail("an entry cannot be read: %v", err)
		}
		l.Tell(again)
	}
	l.SaidBelow(w.said)
	l.Equip(w.rules, w.file)
	w.life = l
	w.step(run.Event{On: run.OnBack})
}

func (w *world) live() error {
	disturbances := w.rng.IntN(7)
	begun := false
	for end := 10 * time.Minute; w.now < end && w.wrong == nil; {
		w.now += stride
		if w.conv == nil && w.gone > 0 && w.now >= w.gone {
			w.connect(w.rng.IntN(3) == 0)
		}
		if w.conv != nil && w.conv.State() == wire.Live && !begun {
			begun = true
			w.begin()
		}
		w.turn()
		if w.life != nil && disturbances > 0 && w.rng.IntN(80) == 0 {
			disturbances--
			w.disturb()
		}
		if w.life != nil && w.now%(250*time.Millisecond) == 0 {
			w.step(run.Event{On: run.OnTime})
			w.lead(disturbances == 0)
		}
		if begun && w.life == nil && w.conv != nil && w.conv.Sure() && len(w.p.queue)+len(w.p.moves) == 0 {
			w.atTheEnd()
			return w.wrong
		}
	}
	if w.wrong == nil {
		w.fail("it does not come to an end: %+v", w.life.Record())
	}
	return w.wrong
}

func (w *world) begin() {
	record := run.Record{ID: "a", File: w.file.Name, Commands: w.file.Commands, State: run.Waiting, Created: w.wall()}
	for range w.rng.IntN(4) / 2 * 2 {
		record.Before = append(record.Before, run.Performs{Routine: "Level"})
	}
	w.life, w.shadow = run.New(w.rules, w.file, record), &run.Life{}
	w.journal(run.Entry{Kind: run.Begins, Record: &record})
	e := run.Event{On: run.OnBegin}
	if w.file.Setpoints != nil && w.rng.IntN(4) == 0 {
		d := time.Duration(w.rng.IntN(5)) * time.Second
		e.Soak = &d
	}
	w.fed = 0
	w.step(e)
	if w.rng.IntN(50) == 0 {
		w.lose(time.Second)
	}
}

func (w *world) wall() time.Time { return time.Unix(1_000_000, 0).Add(w.now).UTC() }

// turn carries bytes and events back and forth.
func (w *world) turn() {
	w.p.pass(w.now, stride)
	if w.conv == nil {
		return
	}
	if len(w.p.out) > 0 {
		out := w.p.out
		w.p.out = nil
		w.conv.Receive(w.now, out)
	}
	if due := w.conv.Deadline(); due > 0 && w.now >= due {
		w.conv.Tick(w.now)
	}
	for w.conv != nil && w.wrong == nil {
		w.feed()
		out, events := w.conv.Take()
		w.jot(events)
		w.p.receive(out)
		if len(events) == 0 {
			return
		}
		for _, e := range events {
			w.event(e)
		}
	}
}

// feed hands the file's lines over.
func (w *world) feed() {
	if w.life == nil || w.fed < 0 {
		return
	}
	for n := w.conv.Wants(); n > 0 && w.fed < len(w.lines); n-- {
		if strings.HasPrefix(w.lines[w.fed], "M0 ") {
			if w.fed == w.life.Record().Taken && w.conv.Sure() {
				w.step(run.Event{On: run.OnAsk, Reason: "the file asks for it"})
			}
			break
		}
		w.fed++
		w.conv.Send(w.now, wire.Request{Lane: wire.File, Command: w.lines[w.fed-1], Tag: uint64(w.fed - 1)})
	}
	if w.life != nil && w.fed == len(w.lines) && w.conv.State() == wire.Live {
		w.step(run.Event{On: run.OnSpent})
	}
}

func (w *world) jot(events []wire.Event) {
	for _, e := range events {
		if e.Kind != wire.Said || e.Again || e.Number < 0 || e.Number >= w.conv.Said() || w.life == nil {
			continue
		}
		if e.Request.Lane == wire.File && !e.Own {
			w.index[e.Number] = int(e.Request.Tag)
			if stage := w.stage(); e.Number >= w.earlier && !stage.Open() {
				w.fail("%q is said while it is %s", e.Request.Command, stage)
			}
			w.step(run.Event{On: run.OnSaid, Number: e.Number})
		} else {
			delete(w.index, e.Number)
			w.step(run.Event{On: run.OnOther, Number: e.Number, Text: e.Request.Command})
		}
		w.said = max(w.said, e.Number+1)
	}
}

func (w *world) event(e wire.Event) {
	switch e.Kind {
	case wire.Acked:
		var l gcode.Line
		heats := false
		if l.Parse([]byte(e.Request.Command)) == nil {
			_, _, heats = run.Setpoint(&l, w.point.Tool)
			w.point.Apply(&l)
		}
		if e.Request.Lane == wire.File {
			w.step(run.Event{On: run.OnTaken, Number: e.Number, Heats: heats})
		} else if f := w.answers[e.Request.Tag]; f != nil {
			delete(w.answers, e.Request.Tag)
			f(e.Lines)
		}
	case wire.Changed:
		if e.State == wire.Dead {
			w.step(run.Event{On: run.OnCut, Reason: e.Reason})
			w.conv, w.gone = nil, w.now+time.Second
		}
	case wire.Restarted:
		clear(w.answers)
		w.step(run.Event{On: run.OnReset, Reason: "the printer restarted"})
		w.point = run.Point{}
	case wire.Greeted:
		if w.owes {
			w.owes = false
			w.off(func() {})
		}
		if e.Number >= 0 {
			w.step(run.Event{On: run.OnKept, Number: e.Number})
		} else {
			w.step(run.Event{On: run.OnBlank, Reason: "the printer has forgotten where it was"})
		}
	}
}

func (w *world) machine() run.Machine {
	m := run.Machine{At: w.point, Hot: w.p.actual[0] >= run.Melting, AtOnce: w.p.atOnce, Alarm: w.alarm, Now: w.now, Wall: w.wall()}
	if w.stage() == run.Rejoining {
		m.Reported = map[heat.Heater]float64{heat.NozzleOf(0): w.p.set[0], heat.Bed: w.p.set[1]}
	}
	if w.conv != nil {
		m.Live, m.Sure, m.Next = w.conv.State() == wire.Live, w.conv.Sure(), w.conv.Said()
	}
	return m
}

// step lets an event happen and does what comes of it.
func (w *world) step(e run.Event) error {
	if w.life == nil {
		return nil
	}
	w.stopped = w.stopped && e.On != run.OnCut && e.On != run.OnReset && e.On != run.OnBack
	effects, err := w.life.Step(e, w.machine())
	w.saw[w.stage().String()]++
	if e.On != run.OnSaid && e.On != run.OnTaken && e.On != run.OnTime && e.On != run.OnSpent {
		w.log("%8s %-9s on %d %s %v, at %.1f, %.0f of %.0f °C", w.now, w.stage(), e.On, e.Reason, err, w.p.head, w.p.actual, w.p.set)
	}
	life, kept := w.life, false
	for _, e := range effects {
		kept = kept || e.Do == run.DoKeep && e.Entry.Kind != run.Other && e.Entry.Kind != run.Reached
		w.do(e)
	}
	if w.life == life {
		w.look(kept)
	}
	return err
}

func (w *world) do(e run.Effect) {
	switch e.Do {
	case run.DoKeep:
		w.journal(e.Entry)
	case run.DoLane:
		w.open = e.Open
		if w.conv != nil {
			w.conv.Hold(w.now, !e.Open)
		}
	case run.DoDrop:
		w.fed = -1
		if w.conv != nil {
			w.conv.DropFile()
		}
	case run.DoSkip:
		w.fed++
	case run.DoSay:
		w.say(e.Command, func(lines []string) {
			if e.Token == 0 {
				return
			}
			done := run.Event{On: run.OnDone, Token: e.Token}
			for _, l := range lines {
				if at, is := wire.ParsePosition(l); is {
					done.Where = (*gcode.Position)(&at)
				}
			}
			w.step(done)
		})
	case run.DoUrge:
		w.tags++
		w.broken = w.broken || e.Command == "M410"
		w.conv.Send(w.now, wire.Request{Lane: wire.Manual, Command: e.Command, Tag: w.tags, Urgent: true})
	case run.DoReplay:
		ledger := w.life.Ledger()
		lead, err := ledger.Replay(run.Commands(strings.NewReader(strings.Join(w.lines, "\n"))), e.Number, e.After)
		if err != nil {
			w.fail("replaying up to line %d: %v", e.Number, err)
		}
		w.fed = w.life.Record().Taken
		w.step(run.Event{On: run.OnReplayed, Lead: &lead})
	case run.DoPoint:
		w.point = e.Point
	case run.DoOff:
		life := w.life
		if w.conv == nil || w.conv.State() != wire.Live {
			w.owes = true
		} else {
			w.off(func() {
				if w.life == life {
					w.step(run.Event{On: run.OnOff})
				}
			})
		}
	case run.DoSoak:
		w.say("M140 S60", func([]string) {})
		w.soaks = w.now + max(e.Soak, time.Second)
	case run.DoEndSoak:
		w.soaks = 0
	case run.DoPerform:
		w.say("M105", func([]string) {})
		w.performs = w.now + time.Duration(1+w.rng.IntN(3000))*time.Millisecond
	case run.DoBreakOff:
		w.performs = 0
	case run.DoTell:
		w.saw["goes on by itself"]++
	case run.DoClose:
		w.saw[string(w.life.Record().State)]++
		w.life = nil
	}
}

func (w *world) say(command string, answer func([]string)) {
	w.tags++
	w.answers[w.tags] = answer
	w.conv.Send(w.now, wire.Request{Lane: wire.Manual, Command: command, Tag: w.tags})
}

// off turns heaters and fan off, and breaks off a wait for heat.
func (w *world) off(done func()) {
	if w.p.atOnce {
		w.tags++
		w.conv.Send(w.now, wire.Request{Lane: wire.Manual, Command: "M108", Tag: w.tags, Urgent: true})
	}
	w.say("M104 S0", func([]string) {})
	w.say("M140 S0", func([]string) {})
	w.say("M107", func([]string) { done() })
}

// journal keeps an entry, reads it again and tells it to a run that knows nothing
// else: whenever an entry is kept, both are the same.
func (w *world) journal(e run.Entry) {
	w.entries = append(w.entries, e)
	if e.Kind == run.Other || e.Kind == run.Reached { // which are read again when a host is killed
		w.shadow.Tell(e)
		return
	}
	again, err := run.ParseEntry(e.Encode())
	if err != nil {
		w.fail("an entry cannot be read: %v", err)
		return
	}
	w.shadow.Tell(again)
}

// look is what holds after every step.
func (w *world) look(kept bool) {
	if got, want := w.shadow.Record(), w.life.Record(); got.State != want.State || got.Reason != want.Reason || !got.Started.Equal(want.Started) || !got.Laying.Equal(want.Laying) {
		w.fail("the journal tells %+v\nand the run is %+v", got, want)
	}
	if kept {
		if got, want := run.Kept(w.shadow), run.Kept(w.life); got != want {
			w.fail("the journal tells %s\nand the run is %s", got, want)
		}
	}
	if w.open && !w.stage().Open() {
		w.fail("the file's lane is open")
	}
}

// moved looks at every move that the printer makes.
func (w *world) moved(m move, from [4]float64) {
	k, ours := w.index[m.number]
	if m.number < 0 {
		ours = false
	}
	filament := m.to[3] - from[3]
	if filament > 1e-9 && w.p.actual[0] < run.Melting-5 {
		w.fail("filament is pushed at %.0f °C by %q", w.p.actual[0], m.text)
	}
	if ours {
		w.drew(k, m, from)
		if filament > 0 {
			w.top = max(w.top, m.to[2])
		}
		return
	}
	// The run's own ways keep off the part.
	part := w.file.Part
	over := m.to[0] > part.Min[0]-2 && m.to[0] < part.Max[0]+2 && m.to[1] > part.Min[1]-2 && m.to[1] < part.Max[1]+2
	top := w.top
	across := math.Hypot(m.to[0]-from[0], m.to[1]-from[1]) > 0.01
	if top > 0 && over && m.to[2] < top-0.001 {
		w.fail("%q goes down to %.2f into a part that is %.2f high", m.text, m.to[2], top)
	}
	if top > 0 && across && m.to[2] < top+5 {
		w.fail("%q goes across the part, %.2f high, at %.2f", m.text, top, m.to[2])
	}
	if m.to[2] > top+5 {
		w.saw["left"]++
	}
}

// drew looks at a move of the file's: it begins where the one before it ended.
func (w *world) drew(k int, m move, from [4]float64) {
	if w.broken {
		return
	}
	want, to := w.expected[k], m.to
	if k > 0 {
		before := w.expected[k-1]
		for i := range 3 {
			if math.Abs(from[i]-before[i]) > 0.011 {
				w.fail("%q, command %d, begins at %.3f instead of %.3f", m.text, k, from, before)
				return
			}
		}
	}
	for i := range 3 {
		if math.Abs(to[i]-want[i]) > 0.011 {
			w.fail("%q, command %d, leads to %.3f instead of %.3f", m.text, k, to, want)
			return
		}
	}
	if k > 0 && math.Abs((to[3]-from[3])-(w.expected[k][3]-w.expected[k-1][3])) > 0.011 {
		w.fail("%q, command %d, pushes %.3f mm of filament", m.text, k, to[3]-from[3])
	}
	if k <= w.drawn {
		w.fail("command %d, %q, is carried out after command %d", k, m.text, w.drawn)
	}
	w.drawn = k
}

// disturb lets something happen that nobody expects.
func (w *world) disturb() {
	switch w.rng.IntN(12) {
	case 0, 1:
		w.step(run.Event{On: run.OnHold, Reason: "held by hand"})
	case 2:
		w.step(run.Event{On: run.OnResume})
	case 3:
		w.cool("an alarm", true)
	case 4:
		if s := w.life.Record().State; s == run.Held || s == run.Interrupted {
			w.cool("everything was cooled by hand", false)
		}
	case 5, 6:
		if w.conv != nil {
			w.saw["pulled"]++
			w.lose(time.Duration(w.rng.IntN(4000)) * time.Millisecond)
		}
	case 7:
		if w.conv != nil {
			w.saw["reset"]++
			w.p.reset()
		}
	case 8:
		w.kill()
	case 9:
		w.step(run.Event{On: run.OnPause})
	case 10:
		if w.rng.IntN(3) == 0 {
			w.stop()
		}
	case 11:
		if w.conv != nil && w.conv.State() == wire.Live && w.rng.IntN(6) == 0 {
			w.saw["halted"]++
			w.conv.Halt(w.now)
			out, _ := w.conv.Take()
			w.p.receive(out)
			w.step(run.Event{On: run.OnHalt})
			w.conv, w.gone = nil, w.now+time.Second
			w.p.reset()
		}
	}
}

func (w *world) stop() {
	if err := w.step(run.Event{On: run.OnStop, Reason: "stopped by hand"}); err == nil && w.conv != nil && w.conv.State() == wire.Live {
		w.stopped = true
	}
}

// cool turns everything off, as a guard or a person wants it.
func (w *world) cool(reason string, alarm bool) {
	w.saw["cooled"]++
	w.step(run.Event{On: run.OnCool, Reason: reason})
	if alarm {
		w.alarm, w.soaks = "it is too hot", 0
	}
	if w.conv != nil && w.conv.State() == wire.Live {
		w.off(func() {})
	}
}

// lead does what a person would who wants the part, once nothing disturbs it any more.
func (w *world) lead(calm bool) {
	if w.performs > 0 && w.now >= w.performs {
		w.performs = 0
		performed := run.Event{On: run.OnPerformed}
		if w.rng.IntN(10) == 0 {
			performed.Reason = "nobody answered"
		}
		w.step(performed)
	}
	if w.life == nil {
		return
	}
	if w.soaks > 0 && w.now >= w.soaks && w.p.actual[1] >= 59 {
		w.soaks = 0
		w.step(run.Event{On: run.OnSoaked})
	}
	if w.life == nil || !calm || w.rng.IntN(8) > 0 || w.conv == nil || w.conv.State() != wire.Live {
		return
	}
	if w.alarm != "" {
		if w.stage() == run.Parked || w.stage() == run.CutShort {
			if err := w.step(run.Event{On: run.OnResume}); err == nil {
				w.fail("it goes on although an alarm waits")
			}
		}
		w.alarm = ""
	}
	switch w.stage() {
	case run.Parked, run.CutShort, run.Paused:
		w.saw["came back"]++
		w.step(run.Event{On: run.OnResume})
	case run.Soaking:
		if w.soaks == 0 {
			w.step(run.Event{On: run.OnSoaked})
		}
	case run.Forgotten:
		w.pickUp()
	}
}

// pickUp picks the run up where a person would, or gives it up.
func (w *world) pickUp() {
	command := 0
	for _, m := range w.marks { // they look how high the part is
		if m.Z <= w.top+0.01 {
			command = m.Command
		}
	}
	in := bufio.NewReader(strings.NewReader(strings.Join(w.lines, "\n")))
	at, err := run.Replay(run.Commands(in), command)
	if err != nil {
		w.fail("replaying %d commands: %v", command, err)
	}
	plan, err := w.rules.Parking.PickUp(command, run.Measure(command, len(w.lines), w.marks, run.Course{}, time.Minute).Layer, at, w.p.head[2], w.file.Part)
	if err != nil { // nothing was laid yet, or it is cold by now
		w.stop()
		return
	}
	if w.step(run.Event{On: run.OnPickUp, Plan: &plan}) != nil {
		return
	}
	w.saw["picked up"]++
	w.fed = command
	w.drawn = command - 1
	w.index = map[int]int{}
}

// atTheEnd is what every end promises.
func (w *world) atTheEnd() {
	if w.owes || w.p.dead {
		return
	}
	if w.p.set != [2]float64{} {
		w.fail("its end leaves the heaters at %v", w.p.set)
	}
	if w.stopped && w.p.fan != 0 {
		w.fail("a stop leaves the fan on")
	}
	if top := w.top; w.stopped && w.p.homed && top > 0 && w.p.head[2] < top+5 {
		w.fail("a stop leaves the nozzle at %.2f, on a part that is %.2f high", w.p.head[2], top)
	}
}
