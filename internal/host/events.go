package host

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// event gives meaning to what the conversation tells.
func (h *Host) event(e wire.Event, device string) {
	switch e.Kind {
	case wire.Said:
		h.traffic.add(true, e.Text)
	case wire.Heard:
		h.traffic.add(false, e.Reply.Text)
		if !e.Own {
			h.heard(e.Reply)
		}
	case wire.Acked:
		h.taken(e)
	case wire.Lost:
		if e.Request.Lane == wire.Manual {
			h.answer(e.Request.Tag, nil, fmt.Errorf("%w: %s", ErrLost, e.Reason))
		}
	case wire.Changed:
		h.setLink(LinkState(e.State), e.Reason, device)
		if e.State == wire.Live && h.firmware.Capabilities != nil { // otherwise it is greeted next
			h.payOff()
		}
		if e.State == wire.Dead { // what it last reported no longer holds: a firmware that stops turns its heaters off
			h.interrupt(e.Reason, false)
			h.unknow()
		}
	case wire.Restarted:
		h.message(wire.Wrong, "the printer restarted")
		h.interrupt("the printer restarted in the middle of it", true)
		h.forget()
	case wire.Greeted:
		h.greeted(e)
	case wire.Measured:
		h.measured(e.Holds)
	}
}

// greeted asks a printer that has just answered for its reports.
func (h *Host) greeted(e wire.Event) {
	f := e.Firmware
	h.firmware = f
	h.told, _ = json.Marshal(f)
	h.recall()
	h.log.Info("printer", "firmware", f.Name, "machine", f.Machine, "capabilities", f.Capabilities)
	if f.Capabilities["AUTOREPORT_TEMP"] {
		h.send("M155 S1", nil)
	}
	if f.Capabilities["AUTOREPORT_POS"] {
		h.send("M154 S1", nil)
	}
	h.send("M105", nil)
	link := h.link
	h.hub.publish(Update{Link: &link})
	if !h.haltsAtOnce() {
		h.message(wire.Told, "this firmware reads an emergency stop only in its turn, behind what it has queued: keep the printer's switch in reach")
	}
	h.payOff()
	if e.Number >= 0 {
		h.step(run.Event{On: run.OnKept, Number: e.Number})
	} else {
		h.step(run.Event{On: run.OnBlank, Reason: "the printer has forgotten where it was"})
	}
}

// poll asks for what the firmware does not report by itself.
func (h *Host) poll() {
	if !h.link.Live() || h.polling || h.conv.Measuring() || time.Now().Before(h.pollHeat) {
		return
	}
	h.pollHeat = time.Now().Add(pollEvery)
	ask := func(capability, command string) {
		if !h.firmware.Capabilities[capability] {
			h.polling = true
			h.send(command, func([]string, error) { h.polling = false })
		}
	}
	ask("AUTOREPORT_TEMP", "M105")
	ask("AUTOREPORT_POS", "M114")
}

// send says a command of the host's own, or a person's, and calls answer when
// the printer has taken it; answer may be nil.
func (h *Host) send(command string, answer func(lines []string, err error)) uint64 {
	h.lastTag++
	if answer != nil {
		h.waiting[h.lastTag] = answer
	}
	state := h.point.State
	h.conv.Send(h.now(), wire.Request{Lane: wire.Manual, Command: command, Tag: h.lastTag, Takes: takes(&state, command, h.point.Speed)})
	return h.lastTag
}

// haltsAtOnce reports whether the firmware reads M112, M108 and M410 as they
// arrive, whatever is queued before them.
func (h *Host) haltsAtOnce() bool { return h.firmware.Capabilities["EMERGENCY_PARSER"] }

func (h *Host) urgent(command string) {
	h.lastTag++
	h.conv.Send(h.now(), wire.Request{Lane: wire.Manual, Command: command, Tag: h.lastTag, Urgent: true})
}

func (h *Host) answer(tag uint64, lines []string, err error) {
	if f := h.waiting[tag]; f != nil {
		delete(h.waiting, tag)
		f(lines, err)
	}
}

// heard reads readings, positions and messages out of what the printer says.
func (h *Host) heard(r wire.Reply) {
	if t := h.tuning; t != nil && t.Ended.IsZero() && t.Note(r.Text) {
		h.message(wire.Told, r.Text)
		return
	}
	switch r.Kind {
	case wire.OK, wire.Report:
		if readings := heat.ParseReport(r.Text); readings != nil {
			h.readings(readings)
		} else if p, ok := wire.ParsePosition(r.Text); ok {
			h.position = Position{At: time.Now(), Where: p, Homed: h.point.Homed, Known: true}
			h.moved = true
			h.flight.add(markMeasured, fmt.Appendf(nil, "X %.2f Y %.2f Z %.2f E %.2f", p[0], p[1], p[2], p[3]))
		}
	case wire.Error:
		if !strings.Contains(r.Text, "Last Line:") { // which is the conversation's own upkeep
			h.message(wire.Wrong, r.Text)
		}
	case wire.Fatal:
		h.message(wire.Stopped, r.Text)
	case wire.Action:
		h.message(wire.Wanted, r.Text)
		h.asked(r.Text)
	case wire.Other:
		if len(r.Text) > 5 && r.Text[:5] == "echo:" {
			h.message(wire.Told, r.Text[5:])
		}
	}
}

func (h *Host) message(kind wire.MessageKind, text string) {
	m := wire.Message{At: time.Now(), Kind: kind, Text: printable(text)}
	h.cfg.Recorder.Message(m)
	h.hub.publish(Update{Message: &m})
}

// printable replaces what a database or a terminal could not take.
func printable(s string) string {
	out := []rune(s)
	for i, r := range out {
		if r < ' ' || r == 0x7f {
			out[i] = '\uFFFD'
		}
	}
	return string(out)
}

// readings takes what a report says of the heaters that this printer has.
func (h *Host) readings(readings []heat.Reading) {
	if h.link.State == LinkState(wire.Dead) { // it was on its way when the printer was halted
		return
	}
	at, moved := h.clock.Stamp(h.wall(), h.now())
	if moved != 0 {
		text := fmt.Sprintf("the computer's clock was moved by %s", moved.Round(time.Second))
		h.message(wire.Told, text)
		h.mark(at, heat.MarkClock, "", text)
	}
	var samples []heat.Sample
	for _, r := range readings {
		if h.cfg.Printer.Limits.Of(r.Heater) == 0 {
			continue
		}
		if tool, ok := r.Heater.Tool(); ok && tool >= h.cfg.Printer.Tools {
			continue
		}
		w := h.heaters[r.Heater]
		if w == nil {
			w = &heat.Watch{}
			h.heaters[r.Heater] = w
		}
		if before := w.Last; r.HasSetpoint && r.Setpoint != before.Setpoint {
			h.mark(at, heat.MarkSetpoint, r.Heater, fmt.Sprintf("%s from %g to %g °C", r.Heater, before.Setpoint, r.Setpoint))
		}
		w.Note(r, h.now())
		h.seen[r.Heater] = at
		h.study(at, w.Last)
		samples = append(samples, heat.Sample{At: at, Reading: r})
	}
	for _, s := range samples {
		h.flight.add(markMeasured, fmt.Appendf(nil, "%s %.2f / %.2f, duty %.2f", s.Heater, s.Actual, s.Setpoint, s.Duty))
	}
	if len(samples) > 0 {
		h.cfg.Recorder.Readings(samples)
		h.heated = true
	}
}

// mark notes what happens in the temperature log.
func (h *Host) mark(at time.Time, kind heat.MarkKind, heater heat.Heater, text string) {
	h.cfg.Recorder.Mark(heat.Mark{At: at, Kind: kind, Heater: heater, Text: text})
}

// taken follows a command that the printer has taken.
func (h *Host) taken(e wire.Event) {
	heats := false
	if h.line.Parse([]byte(e.Request.Command)) == nil {
		_, _, heats = run.Setpoint(&h.line, h.point.Tool)
		h.pushedBy(func() { h.point.Apply(&h.line) })
	}
	if e.Request.Lane == wire.Manual {
		h.answer(e.Request.Tag, e.Lines, nil)
	} else {
		h.progress(e, heats)
	}
}

// show publishes what has gathered since the last time.
func (h *Host) show() {
	if lines := h.traffic.since(h.traffic.published, queued); len(lines) > 0 {
		h.traffic.published = lines[len(lines)-1].Seq
		h.hub.publish(Update{Wire: lines})
	}
	if h.heated {
		h.heated = false
		h.hub.publish(Update{Heat: &HeatUpdate{h.heatersNow(), h.warmUpNow(), h.flow.state, h.cfg.FlowWatch}})
	}
	if h.moved {
		h.moved = false
		position := h.position
		h.hub.publish(Update{Position: &position})
	}
	if j := h.job; j != nil && j.shown != j.life.Taken() {
		j.shown = j.life.Taken()
		h.publishRun()
	}
}

func (h *Host) publishRun() {
	if now := h.runNow(); now != nil {
		h.hub.publish(Update{Run: now})
	}
}
