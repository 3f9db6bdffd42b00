package host

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
)

// job is the run that goes on.
type job struct {
	record  run.Record
	file    toolpath.File
	lines   chan []string // what the reader has read ahead; closed at the file's end
	batch   []string
	eof     bool
	err     error  // why the reader ended before the file did; read after lines is closed
	quit    func() // lets the reader go
	before  run.State
	stop    string      // why it is being stopped; empty while it is not
	soaking bool        // the bed is heated before the first line
	dirty   bool        // something changed since it was last published
	fed     int         // of the file's commands, handed to the conversation
	ahead   gcode.State // that they lead to
	said    int         // of which said
	last    int         // the number of the last of them that was taken
	played  bool        // the moves have been made, as far as the printer's oks tell
	pace    pace
	warm    time.Duration // that the heaters still take, as computed at warmAt
	warmAt  time.Duration

	// What it takes to go on when it is cut off.
	story  run.Story
	book   Book
	unkept bool      // the book has failed, and that was told
	noted  time.Time // when the journal was last told how far it has come

	// Held.
	maneuver *maneuver
	parking  parking
	back     run.Point               // where it goes on
	drawn    bool                    // filament was drawn back
	cooled   map[heat.Heater]float64 // the setpoints before an alarm turned the heaters off; nil: none did
	goOn     bool                    // as soon as it is parked
	again    string                  // why it is to be held again as soon as it is back
	parkedAt time.Time
	idled    bool // the nozzle was let go cold

	// Interrupted.
	was       run.State // before that
	wasReason string
	away      time.Time // since then
	bed       float64   // its setpoint then, °C
	bedUntil  time.Time // until when the bed is kept hot; zero: it is not
	rejoining bool      // what had been under way is being said to a printer that kept its place
}

// batchLines is how many lines the reader hands over at once, and readAhead how
// many such batches wait.
const (
	batchLines = 64
	readAhead  = 4
)

// hungry reports whether the job wants lines from its reader.
func (j *job) hungry() bool { return len(j.batch) == 0 && !j.eof && j.stop == "" }

func (j *job) take(batch []string, more bool) {
	j.batch = batch
	if !more {
		j.eof = true
	}
}

// begin starts a run of f, whose bytes come from body.
func (h *Host) begin(f toolpath.File, body io.ReadCloser) error {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	j := &job{
		record: run.Record{
			ID: id.String(), File: f.Name, SHA256: f.SHA256, State: run.Waiting, Created: h.wall(),
			Commands: f.Commands, Filament: f.Filament, Estimate: f.Duration,
		},
		file: f,
	}
	if j.book, err = h.cfg.Journal.Begin(j.record); err != nil {
		return fmt.Errorf("%w: %w", ErrJournal, err)
	}
	j.story.Tell(run.Entry{Kind: run.Begins, Record: &j.record})
	j.ahead = h.point.State
	h.job = j
	h.counts(0)
	j.start(body, body)
	h.decide("run %s begins: %s", j.record.ID, f.Name)
	h.log.Info("run begins", "run", j.record.ID, "file", f.Name, "commands", f.Commands)
	h.cfg.Recorder.Run(j.record)
	h.publishRun()
	return nil
}

// start lets a reader read the job's file ahead.
func (j *job) start(body io.Reader, closer io.Closer) {
	quit := make(chan struct{})
	j.lines = make(chan []string, readAhead)
	j.batch, j.eof, j.err = nil, false, nil
	j.quit = sync.OnceFunc(func() { close(quit) })
	go j.read(body, closer, j.lines, quit)
}

// read reads the file ahead of the printer, so that a slow disk never makes the
// host wait.
func (j *job) read(body io.Reader, closer io.Closer, out chan<- []string, quit <-chan struct{}) {
	defer close(out)
	defer closer.Close()
	lines := bufio.NewScanner(body)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	batch := make([]string, 0, batchLines)
	hand := func() bool {
		select {
		case out <- batch:
			batch = make([]string, 0, batchLines)
			return true
		case <-quit:
			return false
		}
	}
	for lines.Scan() {
		command := gcode.Command(lines.Bytes())
		if len(command) == 0 {
			continue
		}
		if batch = append(batch, string(command)); len(batch) == batchLines && !hand() {
			return
		}
	}
	j.err = lines.Err()
	if len(batch) > 0 {
		hand()
	}
}

// feed gives the conversation the lines it wants, and ends a run that has said
// them all.
func (h *Host) feed() {
	j := h.job
	if j == nil || j.stop != "" || j.soaking || h.conv == nil || j.record.State == run.Interrupted && !j.rejoining {
		return
	}
	for n := h.conv.Wants(); n > 0; n-- {
		if len(j.batch) == 0 && !j.eof {
			select {
			case batch, more := <-j.lines:
				j.take(batch, more)
			default:
			}
		}
		if len(j.batch) == 0 {
			break
		}
		if why := pauses(j.batch[0]); why != "" {
			if j.fed == j.record.Taken && h.conv.Sure() && j.record.State != run.Held {
				h.pausedByFile(why)
			}
			break
		}
		j.fed++
		if j.record.State == run.Waiting {
			h.launch()
		}
		h.conv.Send(h.now(), wire.Request{Lane: wire.File, Command: j.batch[0], Takes: takes(&j.ahead, j.batch[0], h.point.Speed)})
		j.batch = j.batch[1:]
	}
	if !j.eof || len(j.batch) > 0 || !h.link.Live() {
		return
	}
	if j.err != nil {
		h.stop(fmt.Sprintf("the file cannot be read on: %v", j.err))
		return
	}
	if j.record.Taken >= j.record.Commands && (j.record.State == run.Running || j.record.State == run.Warming) {
		h.moveTo(run.Ending, "")
		h.send("M400", func(_ []string, err error) { j.played = err == nil })
	}
	if j.record.State == run.Ending && j.played && h.conv.Sure() {
		h.endRun(run.Finished, "")
	}
}

// pauses tells a line with which a file asks for a person, and returns what it
// says to them; the printer does not get it. M0 and M1 with a time are the
// printer's own to wait for.
func pauses(command string) string {
	var l gcode.Line
	if (command[0] != 'M' && command[0] != 'm') || l.Parse([]byte(command)) != nil {
		return ""
	}
	switch l.Number {
	case 0, 1:
		text := string(l.Text)
		if strings.HasPrefix(text, "S") || strings.HasPrefix(text, "P") {
			if _, err := strconv.ParseFloat(text[1:], 64); err == nil {
				return ""
			}
		}
		if text != "" {
			return "the file asks for it: " + text
		}
		return "the file asks for it"
	case 25, 226:
		if l.Has('P') { // wait for a pin: the printer's own
			return ""
		}
		return "the file asks for it"
	}
	return ""
}

// pausedByFile holds the run behind the line that asks for it.
func (h *Host) pausedByFile(why string) {
	j := h.job
	j.batch = j.batch[1:]
	j.fed++
	j.said++
	j.record.Taken++
	h.counts(j.record.Taken) // a command without a number
	if j.record.State == run.Waiting {
		h.launch()
	}
	h.hold(why)
}

// launch moves a waiting run on as its first line is said.
func (h *Host) launch() {
	h.job.record.Started = h.wall()
	next := run.Running
	if len(h.job.file.Setpoints) > 0 {
		next = run.Warming
	}
	h.moveTo(next, "")
}

// moveTo carries the run to another state, keeps and publishes it.
func (h *Host) moveTo(s run.State, reason string) error {
	j := h.job
	next, err := j.record.State.Next(s)
	if err != nil {
		return fmt.Errorf("%w: %v", ErrState, err)
	}
	if s == run.Held && j.record.State != run.Held && j.record.State != run.Interrupted {
		j.before = j.record.State
	}
	switch {
	case next == run.Held && j.record.State != run.Held:
		h.mark(time.Now(), heat.MarkHold, "", reason)
	case j.record.State == run.Held && next != run.Interrupted && next != run.Held:
		h.mark(time.Now(), heat.MarkResume, "", j.file.Name)
	}
	j.record.State, j.record.Reason = next, reason
	h.note(run.Entry{Kind: run.Becomes, State: next, Reason: reason})
	h.decide("%s: %s", next, reason)
	h.stayAwake()
	h.cfg.Recorder.Run(j.record)
	h.publishRun()
	return nil
}

// progress follows the run through a file line that the printer has taken.
func (h *Host) progress() {
	j := h.job
	j.record.Taken++
	j.dirty = true
	if j.record.State == run.Running {
		j.pace.note(h.now())
	}
	if j.record.Laying.IsZero() && j.file.First > 0 && j.record.Taken >= j.file.First {
		j.record.Laying = h.wall()
		switch j.record.State {
		case run.Warming:
			h.moveTo(run.Running, "")
		case run.Held:
			j.before = run.Running
		}
	}
}

// endRun brings the run to its final state.
func (h *Host) endRun(s run.State, reason string) {
	j := h.job
	j.quit()
	j.breakOff()
	if j.soaking {
		h.endWarmUp("its run is over")
	}
	if h.conv != nil {
		h.conv.DropFile()
		h.conv.Hold(h.now(), false)
	}
	j.record.Ended = h.wall()
	if err := h.moveTo(s, reason); err != nil { // from wherever it was, it is over
		j.record.State, j.record.Reason = s, reason
		h.cfg.Recorder.Run(j.record)
	}
	h.last = h.runNow()
	h.job = nil
	h.stayAwake()
	if j.book != nil {
		j.book.Close(false)
	}
	if s != run.Finished {
		h.keepRecording(j.record.ID)
	}
	h.publishRun()
	h.log.Info("run ended", "run", j.record.ID, "file", j.record.File, "state", s, "reason", reason, "taken", j.record.Taken, "commands", j.record.Commands)
}

// runNow tells how far the run has come; of the last one if none goes on.
func (h *Host) runNow() *RunNow {
	j := h.job
	if j == nil {
		return h.last
	}
	now := &RunNow{Record: j.record, Progress: run.Measure(j.record.Taken, j.record.Commands, j.file.Marks, j.file.Duration)}
	if now.Layer > 0 {
		now.Z = j.file.Marks[now.Layer-1].Z
	}
	now.Lasted = j.record.Lasted(h.wall())
	now.Forgotten = j.record.State == run.Interrupted && j.story.Lost
	now.Left = j.pace.left(j.file.Duration, now.Progress.Left)
	now.Warming = j.warmingTime(h)
	now.Left += now.Warming
	if j.record.State == run.Finished {
		now.Left, now.Share = 0, 1
	}
	return now
}

// warmingTime is how long the heaters will still take before the first plastic is
// laid; 0 where that is not known.
func (j *job) warmingTime(h *Host) time.Duration {
	steps := j.warmingLeft()
	if len(steps) == 0 {
		return 0
	}
	if now := h.now(); now-j.warmAt >= foreseeEvery || j.warmAt == 0 {
		j.warmAt, j.warm = now, 0
		if d, ok := heat.Remaining(steps, h.learners()); ok {
			j.warm = d
		}
	}
	return j.warm
}

// warmingLeft are the steps of the file's warm-up that the printer has not done.
func (j *job) warmingLeft() []heat.Step {
	if j.record.State != run.Waiting && j.record.State != run.Warming {
		return nil
	}
	for i, s := range j.file.Warming {
		if s.Command > j.record.Taken {
			return j.file.Warming[i:]
		}
	}
	return nil
}

// stayAwake keeps the computer from going to sleep while a run goes on.
func (h *Host) stayAwake() {
	going := h.job != nil && h.job.record.State != run.Interrupted && !h.job.record.State.Final()
	switch {
	case h.cfg.Awake == nil:
	case going && h.asleep == nil:
		h.asleep = h.cfg.Awake.Hold("printing " + h.job.file.Name)
	case !going && h.asleep != nil:
		h.asleep()
		h.asleep = nil
	}
}

// InUse reports whether the run that goes on prints the file of that name.
func (h *Host) InUse(name string) bool {
	used := false
	err := h.ask(context.Background(), func() { used = h.job != nil && h.job.file.Name == name })
	return err == nil && used
}

// pace compares how long the moves really take with how long they were computed
// to take, on this printer and at the speed a person has set.
type pace struct {
	last   time.Duration // when a line was last taken
	active time.Duration // in all, without the pauses
	begun  bool
	before time.Duration // computed time of the moves before the first noted
}

// A gap longer than pauseGap between two lines is a pause, not a move; a pace is
// believed after paceAfter.
const (
	pauseGap  = 2 * time.Minute
	paceAfter = 30 * time.Second
)

// note takes the time at which a line was taken while the run draws.
func (p *pace) note(now time.Duration) {
	if gap := now - p.last; p.last > 0 && gap < pauseGap {
		p.active += gap
	}
	p.last = now
}

// left turns the computed time left into the time that it will take.
func (p *pace) left(total, computed time.Duration) time.Duration {
	done := total - computed
	if !p.begun {
		if p.active > 0 {
			p.begun, p.before = true, done
		}
		return computed
	}
	if done -= p.before; done < paceAfter || p.active <= 0 {
		return computed
	}
	ratio := min(max(p.active.Seconds()/done.Seconds(), 0.01), 20)
	return time.Duration(float64(computed) * ratio)
}
