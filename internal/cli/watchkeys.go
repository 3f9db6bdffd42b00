package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/NimbleMarkets/ntcharts/linechart/timeserieslinechart"
	tea "github.com/charmbracelet/bubbletea"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/legible"
)

// lost says that the connection to the host has ended.
type lost struct{ err error }

// drawn says that it is time to draw what has changed.
type drawn struct{}

// did is what came of something that a key has asked for.
type did struct {
	what string
	err  error
}

// drawEvery is how often what has changed is drawn, chartEvery how often the chart is:
// a slow connection carries two kilobytes a second.
const (
	drawEvery  = time.Second
	chartEvery = 10 * time.Second
)

// view is the live view.
type view struct {
	host  *client.Client
	ctx   context.Context
	bench api.Bench
	past  map[string][]timeserieslinechart.TimePoint
	told  []string // messages
	wire  []string
	heard uint64 // the last of its lines
	away  string // why the host does not answer; empty while it does

	width, height int
	shown         string // as it was drawn last
	charted       string
	chartedAt     time.Time
	wiring        bool // the wire stands in place of the chart

	asked  *asked // a question that the next key answers
	typed  *typed // a line that is being typed
	moving bool   // the arrows move the head
	moved  time.Time
	step   float64 // mm
	said   string  // what came of the last key
}

// asked is a question before something is done.
type asked struct {
	text string
	yes  func() tea.Cmd
}

// typed is a line that is being typed.
type typed struct {
	text string // what is asked for
	line string
	done func(line string) tea.Cmd
}

func tick() tea.Cmd { return tea.Tick(drawEvery, func(time.Time) tea.Msg { return drawn{} }) }

// Init lets the view be drawn once a second.
func (v *view) Init() tea.Cmd { return tick() }

// Update takes an event, a key or a new size. What events change is drawn by the clock.
func (v *view) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.KeyMsg:
		keys := []string{m.String()}
		if m.Type == tea.KeyRunes { // over a slow connection several come at once
			keys = strings.Split(string(m.Runes), "")
		}
		var cmds []tea.Cmd
		for _, k := range keys {
			cmds = append(cmds, v.key(k))
		}
		v.shown = v.draw()
		return v, tea.Batch(cmds...)
	case tea.WindowSizeMsg:
		v.width, v.height, v.charted = m.Width, m.Height, ""
		v.shown = v.draw()
	case drawn:
		if v.moving && time.Since(v.moved) > disarmAfter {
			v.moving = false
		}
		v.shown = v.draw()
		if v.wiring {
			return v, tea.Batch(tick(), v.listen)
		}
		return v, tick()
	case api.Wire:
		v.take(m)
	case did:
		v.said = m.what
		if m.err != nil {
			v.said = words(m.err)
		}
		v.shown = v.draw()
	case lost:
		v.away = "the host does not answer; trying again"
		if m.err != nil {
			v.away = words(m.err)
		}
	case client.Event:
		v.away = ""
		v.take(m.Data)
	}
	return v, nil
}

// listen asks for what passed the wire since it was asked last.
func (v *view) listen() tea.Msg {
	ctx, cancel := context.WithTimeout(v.ctx, actWait)
	defer cancel()
	lines, err := client.Call(ctx, v.host, ops.GetWire, ops.Traffic{Since: v.heard, Limit: kept})
	if err != nil {
		return lost{err}
	}
	return lines
}

// View is what was drawn last.
func (v *view) View() string { return v.shown }

// kept is how many lines of the wire are kept.
const kept = 100

func (v *view) take(data any) {
	switch d := data.(type) {
	case api.Link:
		v.bench.Link = d
	case api.Heat:
		v.bench.Heaters, v.bench.WarmUp = d.Heaters, d.WarmUp
		for _, h := range d.Heaters {
			if h.Actual == nil || h.At == nil {
				continue
			}
			past := append(v.past[h.Heater], timeserieslinechart.TimePoint{Time: *h.At, Value: *h.Actual})
			for len(past) > 0 && past[0].Time.Before(time.Now().Add(-watched)) {
				past = past[1:]
			}
			v.past[h.Heater] = past
		}
	case api.Run:
		v.bench.Run = &d
	case api.Position:
		v.bench.Position = d
	case api.Motion:
		v.bench.Motion = d
	case api.Alarms:
		v.bench.Alarms = d.Alarms
	case api.Performance:
		v.bench.Routine = d
	case api.Message:
		v.told = append(v.told, fmt.Sprintf("%s %s: %s", d.At.Local().Format("15:04:05"), d.Kind, legible.Line(d.Text)))
		v.told = v.told[max(len(v.told)-3, 0):]
	case api.Wire:
		for _, l := range d.Lines {
			if v.heard = max(v.heard, l.Seq); l.Kind == "report" || l.Kind == "acknowledgement" {
				continue
			}
			arrow := "<"
			if l.Sent {
				arrow = ">"
			}
			v.wire = append(v.wire, l.At.Local().Format("15:04:05 ")+arrow+" "+legible.Line(l.Text[:min(len(l.Text), 300)]))
		}
		v.wire = v.wire[max(len(v.wire)-kept, 0):]
	}
}

// actWait is how long a key's wish may take.
const actWait = 65 * time.Second

// act does something without keeping the view waiting, and tells what came of it.
func (v *view) act(what string, f func(ctx context.Context) error) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, actWait)
		defer cancel()
		return did{what, f(ctx)}
	}
}

// disarmAfter is how long the arrows move the head without being used.
const disarmAfter = 30 * time.Second

func (v *view) key(k string) tea.Cmd {
	v.said = ""
	switch {
	case k == "ctrl+c":
		return tea.Quit
	case k == "!": // whatever is asked
		v.asked, v.typed, v.moving = nil, nil, false
		return v.act("The emergency stop is said.", func(ctx context.Context) error { return client.Do(ctx, v.host, ops.Halt, ops.Nothing{}) })
	case v.asked != nil:
		q := v.asked
		v.asked = nil
		if k == "y" || k == "Y" {
			return q.yes()
		}
		v.said = "Nothing is done."
		return nil
	case v.typed != nil:
		return v.letter(k)
	case v.moving:
		return v.arrow(k)
	}
	run := v.bench.Run
	going := run != nil && run.Going
	control := func(verb, what string) func() tea.Cmd {
		return func() tea.Cmd {
			id := run.ID
			return v.act(what, func(ctx context.Context) error {
				_, err := client.Call(ctx, v.host, ops.Controls[verb], ops.ID{ID: id})
				return err
			})
		}
	}
	switch k {
	case "q", "esc":
		return tea.Quit
	case "w":
		v.wiring = !v.wiring
	case "h":
		if going {
			return control("hold", "It is being held.")()
		}
		v.said = "No run goes on."
	case "r":
		if going {
			return control("resume", "It goes on.")()
		}
		v.said = "No run is held."
	case "s":
		switch {
		case going:
			v.asked = &asked{"Stop " + run.File + "? Heaters go off.", control("stop", "It is being stopped.")}
		case v.bench.Routine.ID != "" && v.bench.Routine.Ended == nil:
			id := v.bench.Routine.ID
			v.asked = &asked{"Stop " + v.bench.Routine.Routine + "? It is made safe.", func() tea.Cmd {
				return v.act("It is being stopped.", func(ctx context.Context) error {
					_, err := client.Call(ctx, v.host, ops.StopPerformance, ops.ID{ID: id})
					return err
				})
			}}
		default:
			v.said = "Nothing goes on that could be stopped."
		}
	case "t":
		v.typed = &typed{text: "Heater and °C, such as nozzle0 210 or bed 0", done: v.heat}
	case "m":
		v.moving, v.moved = true, time.Now()
	case "a":
		for _, a := range v.bench.Alarms {
			id := a.ID
			v.asked = &asked{"Have you seen to this: " + a.Text + "?", func() tea.Cmd {
				return v.act("It is seen to.", func(ctx context.Context) error {
					_, err := client.Call(ctx, v.host, ops.AcknowledgeAlarm, ops.Acknowledging{ID: id, Body: &api.Acknowledgement{}})
					return err
				})
			}}
			return nil
		}
		v.said = "No alarm waits."
	default:
		return v.answer(k)
	}
	return nil
}

// answer answers what a routine asks, by the number of the answer.
func (v *view) answer(k string) tea.Cmd {
	p := v.bench.Routine
	n, err := strconv.Atoi(k)
	if p.Question == nil || err != nil || n < 1 || n > len(p.Question.Answers) {
		return nil
	}
	a := api.QuestionAnswer{Question: p.Question.Number, Answer: p.Question.Answers[n-1]}
	return v.act("Answered: "+a.Answer, func(ctx context.Context) error {
		_, err := client.Call(ctx, v.host, ops.AnswerQuestion, ops.ForID(p.ID, a))
		return err
	})
}

// letter takes a key of a line that is being typed.
func (v *view) letter(k string) tea.Cmd {
	switch {
	case k == "esc":
		v.typed = nil
	case k == "enter":
		t := v.typed
		v.typed = nil
		return t.done(t.line)
	case k == "backspace":
		v.typed.line = v.typed.line[:max(len(v.typed.line)-1, 0)]
	case len(k) == 1 && k >= " " && len(v.typed.line) < 40:
		v.typed.line += k
	}
	return nil
}

// heat asks once more, and sets a heater.
func (v *view) heat(line string) tea.Cmd {
	name, text, _ := strings.Cut(strings.TrimSpace(line), " ")
	setpoint, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if name == "nozzle" {
		name = "nozzle0"
	}
	if err != nil || name == "" {
		v.said = fmt.Sprintf("%q is no heater and temperature; nothing is set.", line)
		return nil
	}
	set := func() tea.Cmd {
		return v.act(fmt.Sprintf("%s is set to %g °C.", name, setpoint), func(ctx context.Context) error {
			_, err := client.Call(ctx, v.host, ops.SetHeat, ops.ForHeater(name, api.SetHeat{Setpoint: setpoint}))
			return err
		})
	}
	if setpoint > 0 {
		v.asked = &asked{fmt.Sprintf("Heat %s to %g °C?", name, setpoint), set}
		return nil
	}
	return set()
}

// arrow moves the head.
func (v *view) arrow(k string) tea.Cmd {
	by, d := api.Axes{}, v.step
	minus := -d
	switch k {
	case "left":
		by.X = &minus
	case "right":
		by.X = &d
	case "up":
		by.Y = &d
	case "down":
		by.Y = &minus
	case "pgup":
		by.Z = &d
	case "pgdown":
		by.Z = &minus
	case "+":
		v.step = min(v.step*10, 10)
		return nil
	case "-":
		v.step = max(v.step/10, 0.1)
		return nil
	case "0":
		v.moved = time.Now()
		return v.act("It is homed.", func(ctx context.Context) error {
			_, err := client.Call(ctx, v.host, ops.Home, ops.Body(api.Home{Axes: ""}))
			return err
		})
	default:
		v.moving = false
		return nil
	}
	v.moved = time.Now()
	return v.act("", func(ctx context.Context) error {
		_, err := client.Call(ctx, v.host, ops.Press, ops.Body(api.Press{By: &by}))
		return err
	})
}
