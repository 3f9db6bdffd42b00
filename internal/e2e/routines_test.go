package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

const trial = `language 1
routine "Trial"
about "Warms the nozzle and pushes what a person wants."
button bench, motion
safe heaters off, up 10 mm

take temperature: number °C 170..nozzle0.limit = 200
take length: number mm 1..20 = 5

do
  > G28
  > G1 Z20 F600
  set "part fan" to 50 %
  heat nozzle0 to temperature
  wait until nozzle0 > temperature - 5 at most 10 min
  repeat 5 times
    > G1 E{length} F{3 * 60}
    ask "Does it come out at {nozzle0.setpoint} °C?" at most 20 min, else stop
    answer "More"
    answer "Enough"
      leave
    end
  end
  heat nozzle0 to 0
end
`

// setpoint is what the stand-in's nozzle is set to.
func (b *bench) setpoint() (nozzle float64) {
	b.device.Do(func(p *simprinter.Board) { nozzle, _ = p.Setpoints() })
	return nozzle
}

// performed waits until what is performed is in some state.
func (b *bench) performed(states ...string) (p api.Performance) {
	b.t.Helper()
	b.until("a routine that is "+strings.Join(states, ", "), func(now api.Bench) bool { p = now.Routine; return slices.Contains(states, p.State) })
	return p
}

func TestARoutineIsWrittenPerformedAnsweredAndStopped(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	if _, err := client.Call(t.Context(), b.Client, ops.CheckRoutine, ops.Body(api.RoutineText{Text: strings.Replace(trial, "170..nozzle0.limit", "170..400", 1)})); status(err) != 422 || !strings.Contains(err.Error(), "line 14: it may heat nozzle0 to 170 to 400 °C") {
		t.Errorf("one that is too hot: %v", err)
	}
	r, err := client.Call(t.Context(), b.Client, ops.StoreRoutine, ops.ForName("Trial", api.RoutineText{Text: trial}))
	if err != nil || r.May.Heats["nozzle0"] != 285 || r.May.Pushes != 100 || !r.May.Homes || r.Safe != "heaters off, nozzle up by 10 mm" {
		t.Fatalf("%+v, %v", r, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PerformRoutine, ops.ForName("Trial", api.Perform{Values: map[string]string{"temperature": "300"}})); status(err) != 422 || !strings.Contains(err.Error(), "170 to 285 °C go") {
		t.Errorf("with too much heat: %v", err)
	}

	// From the terminal, with two answers; the second routine waits for nobody.
	p := person{t: t, home: t.TempDir(), stdin: "1\nEnough\n", env: []string{"DIATHERMON_URL=" + b.service.URL, "DIATHERMON_TOKEN=" + b.service.Keeper}}
	out := p.ok("Trial: finished", "routines", "do", "Trial", "temperature=190")
	if !strings.Contains(out, "Does it come out at 190 °C?") || !strings.Contains(out, "2  Enough") {
		t.Errorf("in the terminal: %s", out)
	}
	b.until("a cool nozzle", func(api.Bench) bool { return b.setpoint() == 0 })
	p.ok("part fan", "outputs")
	p.ok("50 %", "outputs")
	p.ok("the routine Trial", "outputs")
	p.ok("30 %", "outputs", "part fan=30")
	p.ok("keeper", "outputs")
	p.fails(2, "sets no output", "outputs", "part fan=hot")
	p.fails(5, "no such output", "outputs", "oven=on")
	p.ok("Level the bed", "routines")
	p.ok("may heat nozzle0 to at most 285 °C", "routines", "show", "Load filament")
	p.fails(5, "no such routine", "routines", "show", "Nothing")
	p.ok("Trial", "routines", "past")

	// While one is performed the machine is its own, and it is stopped into its safe state.
	began, err := client.Call(t.Context(), b.Client, ops.PerformRoutine, ops.ForName("Trial", api.Perform{Values: nil}))
	if err != nil || began.By != "keeper" {
		t.Fatalf("%+v, %v", began, err)
	}
	asking := b.performed("asking")
	if b.setpoint() != 200 {
		t.Errorf("while it asks the nozzle is set to %g", b.setpoint())
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PerformRoutine, ops.ForName("Trial", api.Perform{Values: nil})); status(err) != 409 || !strings.Contains(err.Error(), "Trial is being performed") {
		t.Errorf("a second one: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "G1 X5"})); status(err) != 409 || !strings.Contains(err.Error(), "Trial is being performed") {
		t.Errorf("a typed move: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(5, 5, 5))); status(err) != 409 {
		t.Errorf("a press: %v", err)
	}
	b.mustSend("cap.gcode", coupon(t, 2), false)
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "cap.gcode"})); status(err) != 409 || !strings.Contains(err.Error(), "Trial is being performed") {
		t.Errorf("a start: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.AnswerQuestion, ops.ForID(asking.ID, api.QuestionAnswer{Question: asking.Question.Number, Answer: "Perhaps"})); status(err) != 409 || !strings.Contains(err.Error(), "More, Enough") {
		t.Errorf("another answer: %v", err)
	}
	if err := client.Do(t.Context(), b.Client, ops.RemoveRoutine, ops.Name{Name: "Trial"}); err != nil { // it goes on
		t.Fatal(err)
	}
	z := b.place()[2]
	if _, err := client.Call(t.Context(), b.Client, ops.StopPerformance, ops.ID{ID: asking.ID}); err != nil {
		t.Fatal(err)
	}
	if ended := b.performed("stopped"); ended.Why != "stopped by keeper" || b.setpoint() != 0 {
		t.Errorf("%+v, and the nozzle is set to %g", ended, b.setpoint())
	}
	b.until("the nozzle to be lifted", func(api.Bench) bool { return b.place()[2] > z+9.9 })
	whole, err := client.Call(t.Context(), b.Client, ops.GetPerformance, ops.ID{ID: asking.ID})
	if err != nil || whole.Values["length"] != "5" {
		t.Fatalf("%+v, %v", whole, err)
	}
	for _, want := range []string{"said G1 E5 F180", "asked Does it come out at 200 °C?", "did heaters off", "ended stopped: stopped by keeper"} {
		if !slices.ContainsFunc(whole.Entries, func(e api.PerformanceEntry) bool { return e.Kind+" "+e.Text == want }) {
			t.Errorf("nothing is kept of %q: %+v", want, whole.Entries)
		}
	}
}

func TestARoutineThatIsCutOffIsMadeSafe(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	if _, err := client.Call(t.Context(), b.Client, ops.StoreRoutine, ops.ForName("Trial", api.RoutineText{Text: trial})); err != nil {
		t.Fatal(err)
	}
	perform := func() {
		t.Helper()
		if _, err := client.Call(t.Context(), b.Client, ops.PerformRoutine, ops.ForName("Trial", api.Perform{Values: nil})); err != nil {
			t.Fatal(err)
		}
		b.performed("asking")
	}
	perform()
	b.device.Do(func(p *simprinter.Board) { p.Reset() })
	if ended := b.performed("broken"); b.setpoint() != 0 {
		t.Errorf("after a reset: %+v, %g °C", ended, b.setpoint())
	}
	b.live()
	perform()
	if err := client.Do(t.Context(), b.Client, ops.Halt, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	b.performed("leaving")
	b.device.Do(func(p *simprinter.Board) { p.Reset() })
	b.until("a way to begin anew", func(api.Bench) bool { return client.Do(t.Context(), b.Client, ops.Reconnect, ops.Nothing{}) == nil })
	b.performed("broken")
	b.live()

	// The process ends in the middle of it: what was begun is on the disk.
	perform()
	file := filepath.Join(b.config.Data, "performing.json")
	kept, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	b.service.Close()
	if _, err := os.Stat(file); err == nil {
		t.Error("after a shutdown in order, something is left of it")
	}
	if err := os.WriteFile(file, kept, 0o600); err != nil {
		t.Fatal(err)
	}
	b.up()
	if ended := b.performed("broken"); ended.Why != "the host ended while it was performed" || b.setpoint() != 0 {
		t.Errorf("%+v, %g °C", ended, b.setpoint())
	}
	b.until("it to be forgotten", func(api.Bench) bool { _, err := os.Stat(file); return err != nil })
}

func TestTheConsolePerformsARoutineAndAsks(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/motion/routines")
	b.shown(page, `[data-may]`)
	b.click(page, `[data-new]`)
	write := func(text string) {
		b.do(page, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const area = document.querySelector('[data-text] textarea'); area.value = %q; area.dispatchEvent(new Event('input')) })()`, text)))
	}
	write(strings.Replace(trial, "to temperature", "to temperature + 1", 1))
	if said := b.shown(page, `[data-wrong]`); !strings.Contains(said, "line 14: it may heat nozzle0 to 171 to 286 °C") {
		t.Errorf("of what is too hot it says %q", said)
	}
	write(trial)
	b.shown(page, `[data-may]`)
	b.click(page, `[data-store]`)
	b.shown(page, `[data-choose="Trial"]`)
	b.visit(page, b.service.URL+"/motion")
	b.click(page, `[data-routine="Trial"]`)
	if said := b.shown(page, `[data-perform]`); !strings.Contains(said, "may heat nozzle0 to at most 285 °C") || !strings.Contains(said, "heaters off, nozzle up by 10 mm") {
		t.Errorf("before it begins it says %q", said)
	}
	b.click(page, `[data-begin]`)
	b.visit(page, b.service.URL+"/heat") // it asks on every page
	if said := b.shown(page, `[data-question]`); said != "Does it come out at 200 °C?" {
		t.Errorf("it asks %q", said)
	}
	b.click(page, `[data-answer="More"]`)
	b.until("the next question", func(now api.Bench) bool {
		return now.Routine.Question != nil && now.Routine.Said != "" && b.setpoint() == 200
	})
	b.click(page, `[data-answer="Enough"]`)
	b.performed("finished")
	b.until("the page to show no routine any more", func(api.Bench) bool {
		return ask(b, page, chromedp.Evaluate[bool](`!document.querySelector('[data-performing]')`))
	})
	b.visit(page, b.service.URL+"/motion")
	b.click(page, `[data-output="light"] button[aria-label="light full"]`)
	b.until("light", func(now api.Bench) bool {
		return slices.ContainsFunc(now.Outputs, func(o api.Output) bool { return o.Name == "light" && o.Level != nil && *o.Level == 100 })
	})
}

func TestTheWireIsFilteredSearchedPausedAndAsksBeforeWhatIsDangerous(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	page := b.browser(1280, 800, false)
	b.visit(page, b.service.URL+"/wire")
	say := func(keys string) {
		t.Helper()
		b.do(page, chromedp.WaitVisible(`[role=log] ~ div form input`), chromedp.Evaluate[chromedp.Void](`(() => { const field = document.querySelector('[role=log] ~ div form input'); field.value = ''; field.dispatchEvent(new Event('input')) })()`), chromedp.SendKeys(`[role=log] ~ div form input`, keys))
	}
	say("M118 the word\r")
	row := `//*[@role="log"]//*[contains(@class, "line")][contains(., "M118 the word")]`
	b.do(page, chromedp.WaitVisible(row+`[contains(., "echo:the word")]`)) // beside it
	say("M500\r")
	if said := b.shown(page, `[data-dangers]`); !strings.Contains(said, "stores the settings for good") {
		t.Errorf("before M500 it says %q", said)
	}
	b.click(page, `//button[contains(., "Leave it")]`)
	say("G1 X5 F3000\r")
	if said := b.shown(page, `[data-dangers]`); !strings.Contains(said, "where the head is is not known") {
		t.Errorf("before a blind move it says %q", said)
	}
	b.click(page, `//button[contains(., "Leave it")]`)
	say("M106")
	if said := b.shown(page, `[data-explained]`); !strings.Contains(said, "sets a fan") || !strings.Contains(said, "0-255") {
		t.Errorf("of M106 it says %q", said)
	}

	// Five hundred lines pasted, of which the third is refused.
	paste := func(lines ...string) {
		b.do(page, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const data = new DataTransfer(); data.setData('text', %q)
			document.querySelector('[role=log] ~ div form input').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })) })()`, strings.Join(lines, "\n"))))
	}
	many := append([]string{"M118 first", "M118 second ; of them", "M104 S900"}, slices.Repeat([]string{"M105"}, 497)...)
	paste(append(many, "M105")...)
	b.do(page, chromedp.WaitVisible(`//*[@role="alert"][contains(., "These are 501 lines")]`))
	b.click(page, `//button[contains(., "Dismiss")]`)
	paste(many...)
	b.click(page, `//button[contains(., "Say them")]`)
	if said := b.shown(page, `[data-batch][role="alert"]`); !strings.Contains(said, "Line 3, M104 S900") || !strings.Contains(said, "The 497 behind it are not said") {
		t.Errorf("of a paste it says %q", said)
	}

	// The newest is seen, unless the person goes back from it.
	behind := func() float64 {
		return ask(b, page, chromedp.Evaluate[float64](`(() => { const box = document.querySelector('[role=log]'); return box.scrollHeight - box.scrollTop - box.clientHeight })()`))
	}
	for range 60 { // more than there is room for
		if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M118 one of many"})); err != nil {
			t.Fatal(err)
		}
	}
	b.do(page, chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:one of many")]`))
	b.until("the newest to be seen", func(api.Bench) bool { return behind() < 2 })
	b.do(page, chromedp.Evaluate[chromedp.Void](`document.querySelector('[role=log]').scrollTop = 0`))
	b.until("the first lines to be seen", func(api.Bench) bool { return behind() > 100 }) // whichever those are that it still has
	for range 5 {                                                                         // once it has been taken to the newest, it stays there
		if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M118 behind"})); err != nil {
			t.Fatal(err)
		}
		if behind() < 2 {
			t.Fatal("whoever went back to the first lines is taken to the newest")
		}
	}
	b.do(page, chromedp.Evaluate[chromedp.Void](`(() => { const box = document.querySelector('[role=log]'); box.scrollTop = box.scrollHeight })()`))
	b.do(page, chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:behind")]`))

	// Paused, nothing is lost; what is looked for is marked.
	b.click(page, `[data-pause]`)
	if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M118 meanwhile"})); err != nil {
		t.Fatal(err)
	}
	b.do(page, chromedp.WaitVisible(`//*[@data-pause][contains(., "new")]`))
	b.click(page, `[data-pause]`)
	b.do(page, chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:meanwhile")]`))
	b.do(page, chromedp.SendKeys(`[data-find] input`, "MEANWHILE"), chromedp.WaitVisible(`[role=log] mark`))
	b.do(page, chromedp.WaitVisible(`//*[@data-hits][contains(., "found")]`))
	b.click(page, `[data-filter="ours"]`)
	b.until("its own lines to be left out", func(api.Bench) bool {
		return ask(b, page, chromedp.Evaluate[bool](`!document.querySelector('[role=log]').textContent.includes('meanwhile')`))
	})
	b.visit(page, b.service.URL+"/wire") // as it was left
	b.shown(page, `[data-rows]`)
	if shown := ask(b, page, chromedp.Evaluate[string](`document.querySelector('[data-filter="ours"]').className`)); strings.Contains(shown, "selected") {
		t.Errorf("the filter is not remembered: %s", shown)
	}
}

func TestOneFieldFindsEverything(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("finder-shoe.gcode", coupon(t, 2), false)
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/heat")
	for words, want := range map[string]string{"shoe": "File\nfinder-shoe.gcode", "level": "Routine\nLevel the bed", "certificate": "Setting\nCertificate", "homes": "G-code\nG28"} {
		b.click(page, `[data-find-all]`)
		b.do(page, chromedp.WaitVisible(`[data-find-words] input`), chromedp.SendKeys(`[data-find-words] input`, words))
		b.until(want, func(api.Bench) bool {
			return strings.Contains(ask(b, page, chromedp.Evaluate[string](`document.querySelector('[data-found]')?.innerText ?? ''`)), want)
		})
		b.do(page, chromedp.SendKeys(`[data-find-words] input`, "\r"))
	}
	b.visit(page, b.service.URL+"/motion")
	b.shown(page, `[data-place]`)
	b.visit(page, b.service.URL+"/") // opens what was open last
	b.shown(page, `[data-place]`)
	b.do(page, chromedp.KeyEvent("2"))
	b.shown(page, `[data-file], [data-shelf] li`)
	b.do(page, chromedp.KeyEvent("?"))
	b.shown(page, `[data-keys]`)
}

func TestOneTouchWarmsUpAndTellsWhenItIsDone(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	if _, err := client.Call(t.Context(), b.Client, ops.PutWarmUp, ops.ForName("Amber, bed only", api.WarmUp{Spool: "Amber", Setpoints: map[string]float64{"bed": 45}, Order: "together"})); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(api.BeginWarmUp{Spool: "Cobalt"})); status(err) != 404 {
		t.Errorf("for a spool that has none: %v", err)
	}
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/bench")
	b.click(page, `[data-set="Amber, bed only"]`)
	b.visit(page, b.service.URL+"/wire") // told on every page
	b.until("its being ready", func(now api.Bench) bool { return now.WarmUp != nil && now.WarmUp.Done })
	b.until("the page to say so", func(api.Bench) bool {
		return strings.Contains(ask(b, page, chromedp.Evaluate[string](`document.querySelector('[data-warming]')?.innerText ?? ''`)), "ready")
	})
}
