package host

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// maneuver is a list of commands of the host's own, said one after another.
type maneuver struct {
	commands []string // that have not been said
	heating  []string // of all its commands those that heat
	done     func(error)
	ended    bool
}

// perform says the job's commands one after another, each when the one before it
// has been taken, and calls done at the end. A maneuver of before is broken off.
func (h *Host) perform(j *job, commands []string, done func(error)) {
	j.breakOff()
	j.maneuver = &maneuver{commands: commands, heating: slices.DeleteFunc(slices.Clone(commands), func(c string) bool { return !heats(c) }), done: done}
	h.sayNext(j.maneuver)
}

func (h *Host) sayNext(m *maneuver) {
	if len(m.commands) == 0 {
		m.ended = true
		m.done(nil)
		return
	}
	command := m.commands[0]
	m.commands = m.commands[1:]
	h.send(command, func(_ []string, err error) {
		switch {
		case m.ended:
		case err != nil:
			m.ended = true
			m.done(err)
		default:
			h.sayNext(m)
		}
	})
}

// breakOff lets a maneuver say nothing more.
func (j *job) breakOff() {
	if j.maneuver != nil {
		j.maneuver.ended = true
	}
}

// heats reports whether a command gives a heater a setpoint.
func heats(command string) bool {
	var l gcode.Line
	if l.Parse([]byte(command)) != nil {
		return false
	}
	_, _, gives := run.Setpoint(&l, 0)
	return gives
}

// parking is how far a held run has left its part.
type parking int

const (
	atPart    parking = iota // the file's lines go on
	settling                 // those under way are being taken
	leaving                  // the nozzle is on its way off the part
	parked                   // it waits there
	returning                // it heats up and comes back
	cut                      // an alarm has broken that off
	theirs                   // the printer has paused by itself and will come back by itself
)

// hold keeps the file's lines back, and takes the nozzle off the part when those
// under way are done.
func (h *Host) hold(reason string) error {
	j := h.job
	if j.parking == returning {
		j.again = reason
		return nil
	}
	if err := h.moveTo(run.Held, reason); err != nil {
		return err
	}
	h.conv.Hold(h.now(), true)
	j.parking = settling
	h.leave()
	return nil
}

// leave goes on with a hold once every line that was said has been taken.
func (h *Host) leave() {
	j := h.job
	if j == nil || j.parking != settling || j.said != j.record.Taken || j.stop != "" {
		return
	}
	j.parking = leaving
	h.perform(j, []string{"M400"}, func(err error) {
		if err != nil {
			return
		}
		j.back = h.point.Clone()
		if j.cooled != nil { // resume heats to what was, not to what an alarm made of it
			j.back.Setpoints, j.cooled = j.cooled, nil
		}
		j.drawn = h.hot() && j.back.Knows()
		h.note(run.Entry{Kind: run.Becomes, State: run.Held, Reason: j.record.Reason, Back: &j.back})
		h.perform(j, h.cfg.Parking.Hold(j.back, h.hot(), run.Part(j.file.Extent)), func(err error) {
			if err != nil {
				return
			}
			j.parking, j.parkedAt = parked, time.Now()
			h.decide("parked")
			if j.goOn {
				j.goOn = false
				h.comeBack()
			}
		})
	})
}

// hot reports whether the nozzle in use is hot enough for filament to be moved.
func (h *Host) hot() bool {
	w := h.heaters[heat.NozzleOf(h.point.Tool)]
	return w != nil && w.Last.Actual >= run.Melting
}

// carryOn lets a held run go on.
func (h *Host) carryOn() error {
	j := h.job
	if j.record.State != run.Held {
		return fmt.Errorf("%w: it is %s, not held", ErrState, j.record.State)
	}
	if len(h.alarms) > 0 {
		return fmt.Errorf("%w: %s", ErrAlarm, h.alarms[0].Text)
	}
	switch {
	case j.parking == leaving, j.parking == settling && j.cooled != nil: // heaters that were turned off are to be warm again first
		j.goOn = true
		j.record.Reason = "on its way off the part; it comes back at once"
		h.publishRun()
	case j.parking == parked:
		h.comeBack()
	case j.parking == returning:
		j.again = ""
	case j.parking == cut:
		h.goOnReturning()
	default:
		h.release()
	}
	return nil
}

// release lets the file's lines go on from where the nozzle is.
func (h *Host) release() {
	j := h.job
	j.parking, j.pace.last, j.idled, j.cooled = atPart, 0, false, nil
	err, again := h.moveTo(j.before, ""), j.again
	j.again = ""
	switch {
	case err != nil:
	case again != "":
		h.hold(again)
	default:
		h.conv.Hold(h.now(), false)
	}
}

// comeBack heats up, primes and goes back to where the run was held.
func (h *Host) comeBack() {
	j := h.job
	j.parking, h.off = returning, nil
	to := j.back.Clone()
	for heater, setpoint := range h.point.Setpoints { // what a person changed meanwhile holds
		if setpoint > 0 && !(j.idled && isNozzle(heater)) && to.Setpoints != nil {
			to.Setpoints[heater] = setpoint
		}
	}
	j.record.Reason = "heating up, priming and coming back"
	h.publishRun()
	h.perform(j, h.cfg.Parking.Resume(to, j.drawn), func(err error) {
		if err == nil {
			h.release()
		}
	})
}

// comingBack reports whether the nozzle is on its way back to the part. An
// interruption ends that, too.
func (j *job) comingBack() bool { return j.parking == returning && j.record.State != run.Interrupted }

// cutReturn breaks off the way back to the part, whose heaters an alarm turns off.
// What was not said yet waits for a person.
func (h *Host) cutReturn(reason string) {
	j, before := h.job, h.job.before
	j.breakOff()
	j.parking, j.again = cut, ""
	if j.record.State == run.Held {
		j.record.Reason = reason
		h.publishRun()
	} else if h.moveTo(run.Held, reason) == nil { // it was being picked up
		j.before = before
	}
	h.conv.Hold(h.now(), true)
}

// goOnReturning warms everything up again and goes on with what cutReturn broke
// off.
func (h *Host) goOnReturning() {
	j := h.job
	j.parking, h.off = returning, nil
	rest := slices.DeleteFunc(slices.Clone(j.maneuver.commands), heats)
	j.record.Reason = "heating up again, and coming back"
	h.publishRun()
	h.perform(j, append(slices.Clone(j.maneuver.heating), rest...), j.maneuver.done)
}

func isNozzle(h heat.Heater) bool {
	_, is := h.Tool()
	return is
}

// idle lets the nozzle of a run that is held for long go cold; the bed stays.
func (h *Host) idleNozzle() {
	j := h.job
	if j == nil || j.parking != parked || j.idled || h.cfg.IdleAfter <= 0 || time.Since(j.parkedAt) < h.cfg.IdleAfter {
		return
	}
	j.idled = true
	for heater, setpoint := range h.point.Setpoints {
		if isNozzle(heater) && setpoint > 0 {
			h.send(heat.SetCommand(heater, 0), nil)
		}
	}
	j.record.Reason += fmt.Sprintf("; the nozzle cools after %s, the bed stays hot", h.cfg.IdleAfter)
	h.decide("the nozzle idles")
	h.publishRun()
}

// stop ends the run early: nothing more of the file is said, a wait for heat and
// the moves under way are broken off, heaters and fan are turned off, and the
// nozzle leaves the part.
func (h *Host) stop(reason string) {
	j := h.job
	if j.stop != "" {
		return
	}
	j.stop = reason
	j.quit()
	j.breakOff()
	if h.conv != nil {
		h.conv.DropFile()
		h.conv.Hold(h.now(), false)
	}
	away := j.parking == parked || j.record.State == run.Interrupted
	if err := h.moveTo(run.Ending, reason); err != nil || !h.link.Live() {
		if h.link.Live() {
			h.allOff(func(error) {})
		}
		h.endRun(run.Stopped, reason)
		return
	}
	if h.haltsAtOnce() && !away {
		h.urgent("M410") // breaks off the moves that are planned
	}
	hot := h.hot()
	h.allOff(func(err error) {
		if h.job != j || err != nil {
			return
		}
		var commands []string
		if !away {
			commands = h.cfg.Parking.Stop(h.point, hot, run.Part(j.file.Extent))
		}
		h.perform(j, commands, func(err error) {
			if err == nil {
				h.endRun(run.Stopped, reason)
			}
		})
	})
}

// haltsAtOnce reports whether the firmware reads M112, M108 and M410 as they
// arrive, whatever is queued before them.
func (h *Host) haltsAtOnce() bool { return h.firmware.Capabilities["EMERGENCY_PARSER"] }

func (h *Host) urgent(command string) {
	h.lastTag++
	h.conv.Send(h.now(), wire.Request{Lane: wire.Manual, Command: command, Tag: h.lastTag, Urgent: true})
}

// asked follows a host-action comment: something at the printer wants the run
// held, resumed or stopped.
func (h *Host) asked(action string) {
	j := h.job
	if j == nil || j.stop != "" || j.record.State == run.Interrupted {
		return
	}
	going := j.record.State == run.Running || j.record.State == run.Warming
	switch {
	case action == "pause" && going:
		h.hold("the printer asks for it")
	case outOfFilament(action) && going:
		h.hold("the printer is out of filament")
	case action == "paused" && going:
		if h.moveTo(run.Held, "the printer has paused by itself") == nil {
			h.conv.Hold(h.now(), true)
			j.parking = theirs
		}
	case (action == "resume" || action == "resumed") && j.record.State == run.Held:
		h.carryOn()
	case action == "cancel":
		h.stop("the printer asks for it")
	}
}

// outOfFilament tells the spellings of that action.
func outOfFilament(action string) bool {
	return strings.HasPrefix(action, "out_of_filament") || strings.HasPrefix(action, "filament_runout")
}
