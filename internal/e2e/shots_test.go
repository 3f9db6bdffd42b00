package e2e

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/samples"
)

var shots = flag.String("shots", "", "write the screenshots to this folder")

// TestScreenshots makes the pictures of docs/screenshots; 'make screenshots'
// asks for it.
func TestScreenshots(t *testing.T) {
	if *shots == "" {
		t.Skip("no -shots folder")
	}
	folder, err := filepath.Abs(*shots)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	printer := quick()
	printer.Warp, printer.Baud = 8, 115200
	b := start(t, printer)
	b.service.Close()
	b.config.Past, b.config.Unmeasured = printer.Warp, false // as the demo has it
	b.config.Printer.Colour = "#3f6f9c"
	port := filepath.Join(os.TempDir(), "vesper-port") // as it is to be read in the pictures
	os.Remove(port)
	if err := os.Symlink(b.config.Device, port); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.Remove(port) })
	b.config.Device = port
	b.up()
	b.live()
	for _, part := range samples.Parts() {
		var body bytes.Buffer
		if err := part.Write(&body); err != nil {
			t.Fatal(err)
		}
		b.mustSend(part.Name, body.Bytes(), false)
	}
	for _, part := range samples.Parts() {
		b.surveyed(part.Name)
		b.drawn("/v1/shelf/" + part.Name + "/layers")
	}
	b.until("the printer measured", func(now api.Bench) bool { return now.Firmware.Holds.How == "measured" })
	first := b.mustSend("test-coupon.gcode", coupon(t, 3), true)
	b.untilRun("finished")
	if err := client.Do(t.Context(), b.Client, ops.RemoveFile, ops.Name{Name: first.File.Name}); err != nil {
		t.Fatal(err)
	}
	b.clear()
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "finder-shoe-dovetail.gcode"})); err != nil {
		t.Fatal(err)
	}
	b.until("some layers", func(now api.Bench) bool { return now.Run.Progress.Layer >= 8 })

	b.terminals(folder)
	desk := b.browser(1280, 800, false)
	phone := b.browser(390, 844, true)
	for _, shot := range []struct{ name, path, ready string }{
		{"bench", "/bench", `[data-run-state]`},
		{"shelf", "/shelf", `[data-shelf]`},
		{"heat", "/heat", `[data-heat-chart] canvas`},
		{"wire", "/wire", `[role=log]:has(div)`},
	} {
		for suffix, page := range map[string]context.Context{"": desk, "-phone": phone} {
			if shot.name != "bench" && page == phone {
				continue
			}
			b.visit(page, b.service.URL+shot.path)
			b.do(page, chromedp.WaitVisible(shot.ready), chromedp.Sleep(1500*time.Millisecond))
			b.shoot(page, filepath.Join(folder, "console-"+shot.name+suffix+".png"))
		}
	}
	b.visit(desk, b.service.URL+"/setup")
	b.do(desk, chromedp.WaitVisible(`[data-tokens] li`))
	b.click(desk, `[data-make]`, `[data-try]`)
	b.do(desk, chromedp.WaitVisible(`[data-tried]`), chromedp.Evaluate[chromedp.Void](`document.querySelector("[data-connect-program]").scrollIntoView()`), chromedp.Sleep(time.Second))
	b.shoot(desk, filepath.Join(folder, "console-setup.png"))
	b.visit(desk, b.service.URL+"/heat")
	b.do(desk, chromedp.WaitVisible(`[data-heat-chart] canvas`))
	b.click(desk, `//span[normalize-space(.)="1 month"]`)
	b.do(desk, chromedp.WaitVisible(`[data-health] svg`), chromedp.Sleep(1500*time.Millisecond))
	b.shoot(desk, filepath.Join(folder, "console-heat-month.png"))

	b.visit(desk, b.service.URL+"/shelf")
	b.click(desk, `[data-file="focuser-knob-fluted.gcode"]`)
	b.do(desk, chromedp.WaitVisible(`[data-start]`), chromedp.Sleep(1500*time.Millisecond))
	b.shoot(desk, filepath.Join(folder, "console-start.png"))
	b.visit(desk, b.service.URL+"/shelf/focuser-knob-fluted.gcode")
	b.do(desk, chromedp.WaitVisible(`[data-layers][data-drawn="320"]`), chromedp.Sleep(time.Second))
	b.shoot(desk, filepath.Join(folder, "console-layers.png"))

	b.visit(desk, b.service.URL+"/shelf/focuser-knob-fluted.gcode/rehearsal")
	b.do(desk, chromedp.WaitVisible(`[data-rehearsal] .lengths`), chromedp.Sleep(time.Second))
	b.shoot(desk, filepath.Join(folder, "console-rehearsal.png"))

	now, err := client.Ask(t.Context(), b.Client, ops.GetBench)
	if err != nil {
		t.Fatal(err)
	}
	if now.Run.Going {
		client.Call(t.Context(), b.Client, ops.StopRun, ops.ID{ID: now.Run.ID})
	}
	b.until("the run's end", func(now api.Bench) bool { return !now.Run.Going })
	b.visit(desk, b.service.URL+"/motion")
	b.do(desk, chromedp.WaitVisible(`[data-place]`))
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(160, 70, 60))); err != nil {
		t.Fatal(err)
	}
	b.do(desk, chromedp.Sleep(300*time.Millisecond))
	b.shoot(desk, filepath.Join(folder, "console-motion.png"))
	b.until("its being there", func(now api.Bench) bool { return !now.Motion.Going })
	b.clear()
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "focuser-knob-fluted.gcode"})); err != nil {
		t.Fatal(err)
	}
	b.until("some layers", func(now api.Bench) bool { return now.Run.Progress.Layer >= 3 })
	b.restart()
	b.until("a run to be picked up", func(now api.Bench) bool { return now.Run.NeedsPlan && now.Link.State == "live" })
	b.visit(desk, b.service.URL+"/bench")
	b.do(desk, chromedp.WaitVisible(`[data-run][data-state="interrupted"]`))
	b.click(desk, `//button[contains(., "Pick up…")]`)
	b.do(desk, chromedp.WaitVisible(`[data-plan] li`), chromedp.Sleep(time.Second))
	b.shoot(desk, filepath.Join(folder, "console-pick-up.png"))
}

// terminals takes pictures of the commands' output in a terminal window.
func (b *bench) terminals(folder string) {
	b.t.Helper()
	program, err := binary()
	if err != nil {
		b.t.Fatal(err)
	}
	const display = ":87"
	for _, left := range []string{"/tmp/.X11-unix/X87", "/tmp/.X87-lock"} { // by one that was killed
		os.Remove(left)
	}
	screen := exec.Command("Xvfb", display, "-screen", "0", "1106x671x24")
	if err := screen.Start(); err != nil {
		b.t.Fatalf("Xvfb: %v; 'make screenshots' installs it", err)
	}
	defer func() {
		screen.Process.Kill()
		screen.Wait()
	}()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); <-time.After(20 * time.Millisecond) {
		if _, err := os.Stat("/tmp/.X11-unix/X87"); err == nil {
			break
		}
	}
	bin := filepath.Dir(program)
	for name, commands := range map[string][]string{
		"status":   {"diathermon status", "diathermon heat", "diathermon say M115"},
		"shelf":    {"diathermon shelf", "diathermon shelf show focuser-knob-fluted.gcode", "diathermon runs --limit 8"},
		"heat":     {"diathermon heat", "diathermon heat --models", "diathermon heat --health", "diathermon heat --alarms"},
		"inspect":  {"diathermon inspect finder-shoe-dovetail.gcode | head -11", "diathermon inspect cable-clip-mount-leg.gcode --layer 20 --show"},
		"guards":   {"diathermon heat --guards"},
		"rehearse": {"diathermon rehearse focuser-knob-fluted.gcode"},
		"watch":    {"diathermon watch"},
	} {
		var script strings.Builder
		for _, c := range commands {
			fmt.Fprintf(&script, "printf '\\033[1m$ %s\\033[0m\\n'; %s; echo; ", c, c)
		}
		script.WriteString("touch " + filepath.Join(bin, name+".done") + "; sleep 600")
		window := exec.Command("xterm", "-tn", "xterm-256color", "-geometry", "120x34+0+0", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#1b1815", "-fg", "#ece6de", "-b", "12", "-e", "sh", "-c", script.String())
		window.Env = append(os.Environ(), "DISPLAY="+display, "PATH="+bin+":"+os.Getenv("PATH"), "DIATHERMON_URL="+b.service.URL, "DIATHERMON_TOKEN="+b.service.Keeper, "LC_ALL=C.UTF-8")
		window.Dir = filepath.Join(b.config.Data, "shelf")
		if err := window.Start(); err != nil {
			b.t.Fatal(err)
		}
		for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); <-time.After(50 * time.Millisecond) {
			if _, err := os.Stat(filepath.Join(bin, name+".done")); err == nil {
				break
			}
			if name == "watch" && time.Until(deadline) < 4*time.Second { // it has no end to wait for
				break
			}
		}
		if _, err := os.Stat(filepath.Join(bin, name+".done")); err != nil && name != "watch" {
			b.t.Errorf("the terminal for %s did not come to its end", name)
		}
		<-time.After(300 * time.Millisecond) // what was printed is drawn
		grab := exec.Command("import", "-display", display, "-window", "root", filepath.Join(folder, "terminal-"+name+".png"))
		if out, err := grab.CombinedOutput(); err != nil {
			b.t.Errorf("taking the picture: %v: %s", err, out)
		}
		window.Process.Kill()
		window.Wait()
	}
}
