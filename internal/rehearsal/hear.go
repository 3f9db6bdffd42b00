package rehearsal

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

const (
	mostAlarms = 40          // that are kept
	mostSpans  = 2400        // of a heater
	looks      = time.Minute // between two looks at a wait for heat
	patience   = 5           // of them in which nothing must have changed
	moved      = 0.5         // K that a heater must have moved in them
)

// hear takes what the stand-in says.
func (p *player) hear() error {
	for line := range bytes.Lines(p.board.Output()) {
		text := string(bytes.TrimRight(line, "\n"))
		unknown, isUnknown := strings.CutPrefix(text, "echo:Unknown command: ")
		fault, isFault := strings.CutPrefix(text, "Error:")
		switch {
		case text == "ok" || strings.HasPrefix(text, "ok "):
			p.owed--
		case isUnknown:
			p.unknown(strings.Trim(unknown, `"`))
		case isFault:
			p.find(bounds.Block, "the printer halts: "+fault, "slice it again without what makes it halt, or look at the heater")
			return errHalted
		case strings.Contains(text, "cold extrusion"):
			p.find(bounds.Warn, fmt.Sprintf("it pushes filament with the nozzle below %d °C: firmwares do not, and nothing comes out", coldest), "let it wait for the nozzle with M109 before")
		case strings.Contains(text, "failed"):
			p.find(bounds.Warn, "the printer says: "+text, "look at what the line is to do")
		default:
			if readings := heat.ParseReport(text); readings != nil {
				p.readings(readings)
			}
		}
	}
	return nil
}

// unknown notes a command that the stand-in does nothing on.
func (p *player) unknown(command string) {
	var l gcode.Line
	if l.Parse([]byte(command)) != nil {
		p.find(bounds.Note, "the stand-in cannot make anything of it", "see that your printer's firmware can")
		return
	}
	code := l.Code()
	meaning := code.Look()
	if p.passed[code] {
		return
	}
	p.passed[code] = true
	if meaning.Traits == 0 {
		p.find(bounds.Note, fmt.Sprintf("%s is no command that the open firmwares share: the stand-in passes over it", code), "see that your printer's firmware knows it")
		return
	}
	p.find(bounds.Note, fmt.Sprintf("the stand-in passes over %s, which %s: that was not rehearsed", code, meaning.Does), "nothing, if your printer knows it")
}

// readings takes what the stand-in reports of its heaters.
func (p *player) readings(readings []heat.Reading) {
	now := p.board.Now()
	at := p.report.Begins.Add(now)
	for _, r := range readings {
		g := p.guards[r.Heater]
		if g == nil {
			continue
		}
		p.last[r.Heater] = r
		p.spans[r.Heater].Note(heat.Sample{At: at, Reading: r})
		for _, a := range g.Note(at, now+time.Second, r, heat.Around(r.Heater, p.last)) {
			if len(p.report.Alarms) == mostAlarms {
				p.report.More++
				continue
			}
			p.report.Alarms = append(p.report.Alarms, Alarm{a, now, p.line})
		}
	}
	for _, r := range p.spans {
		if len(r.Spans) < mostSpans {
			continue
		}
		p.report.Step *= 2
		for _, r := range p.spans {
			*r = heat.Roller{Step: p.report.Step, Spans: heat.Rollup(r.Spans, p.report.Step)}
		}
		return
	}
}

// wait is a wait for heat.
type wait struct {
	looked time.Duration // when it was last looked at
	were   [][]float64   // how hot the heaters were
}

// bear looks whether a wait for heat will ever end, and breaks it off if not.
func (p *player) bear() {
	now := p.board.Now()
	if p.wait.were != nil && now-p.wait.looked < looks {
		return
	}
	nozzle, bed := p.board.Temperatures()
	p.wait.looked, p.wait.were = now, append(p.wait.were, []float64{nozzle, bed})
	if len(p.wait.were) <= patience {
		return
	}
	before := p.wait.were[len(p.wait.were)-1-patience]
	for i, t := range []float64{nozzle, bed} {
		if t-before[i] > moved || before[i]-t > moved {
			return
		}
	}
	var at []string
	wanted := map[heat.Heater]float64{}
	wanted[heat.Nozzle], wanted[heat.Bed] = p.board.Setpoints()
	for _, h := range p.heaters {
		if wanted[h] > 0 {
			at = append(at, fmt.Sprintf("the %s at %.0f of %.0f °C", h, p.last[h].Actual, wanted[h]))
		}
	}
	p.find(bounds.Block, "it waits for heat that does not come: "+strings.Join(at, ", "), "ask for a temperature that this printer reaches in its room")
	p.wait = wait{}
	p.owed++ // the line that breaks it off is acknowledged, too
	p.board.Receive([]byte("M108\n"))
}
