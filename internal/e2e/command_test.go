package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"diathermon/internal/api"
)

// binary builds the program once and returns its path.
var binary = sync.OnceValues(func() (string, error) {
	path := filepath.Join(scratch, "bin", "diathermon")
	out, err := exec.Command("go", "build", "-o", path, "diathermon/cmd/diathermon").CombinedOutput()
	if err != nil {
		return "", errors.New(string(out))
	}
	return path, nil
})

// person runs commands with a configuration folder of its own.
type person struct {
	t     *testing.T
	home  string
	env   []string
	stdin string
}

// run runs a command and returns what it printed and its exit code.
func (p person) run(args ...string) (stdout, stderr string, code int) {
	p.t.Helper()
	path, err := binary()
	if err != nil {
		p.t.Fatal(err)
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = p.home
	cmd.Env = append([]string{"HOME=" + p.home, "XDG_CONFIG_HOME=" + p.home, "PATH=" + os.Getenv("PATH"), "TZ=UTC"}, p.env...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(p.stdin), &out, &errs
	err = cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		p.t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// ok runs a command that must succeed and say certain words.
func (p person) ok(want string, args ...string) string {
	p.t.Helper()
	out, errs, code := p.run(args...)
	if code != 0 || !strings.Contains(out, want) {
		p.t.Errorf("diathermon %s: exit code %d, %q, %q; want 0 and %q", strings.Join(args, " "), code, out, errs, want)
	}
	return out
}

// fails runs a command that must end with that exit code and words.
func (p person) fails(code int, want string, args ...string) {
	p.t.Helper()
	out, errs, got := p.run(args...)
	if got != code || !strings.Contains(errs, want) {
		p.t.Errorf("diathermon %s: exit code %d, %q, %q; want %d and %q", strings.Join(args, " "), got, out, errs, code, want)
	}
}

func TestTheCommandLinePrintsAFile(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := person{t: t, home: t.TempDir()}
	body := coupon(t, 2)
	file := filepath.Join(p.home, "clip.gcode")
	os.WriteFile(file, body, 0o644)

	p.fails(2, "no host is paired", "status")
	p.fails(4, "does not sign in", "pair", b.service.URL, "WRONG")
	p.ok("Paired with Vesper", "pair", b.service.URL, b.service.PairCode())
	if info, err := os.Stat(filepath.Join(p.home, "diathermon", "hosts.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the tokens' file is %v, %v", info, err)
	}
	p.ok("live: the printer answers", "status")
	p.ok("The shelf is empty", "shelf")
	p.ok("Nothing has been printed", "runs")
	p.ok("Stored: clip.gcode", "send", file)
	p.ok("Already there: clip.gcode", "send", file)
	p.ok("2, mostly 0.20 mm", "shelf", "show", "clip.gcode")
	p.ok("Begins after", "shelf", "show", "clip.gcode", "--layers")
	if host, alone := p.ok(`"layer": 2`, "shelf", "show", "clip.gcode", "--layers", "--json"), p.ok(`"layer": 2`, "inspect", file, "--layers", "--json"); host != alone {
		t.Errorf("by layer the host says %s, without it %s", host, alone)
	}
	p.ok("Started: clip.gcode", "print", "clip.gcode")
	b.untilRun("running", "finished")
	watched := p.ok("", "watch")
	if !strings.Contains(watched, "clip.gcode") && b.untilRun("finished").State != "finished" {
		t.Errorf("watching said %q", watched)
	}
	b.untilRun("finished")
	b.mustHavePrinted(body)
	p.ok("finished", "runs")

	var listed api.Shelf
	if err := json.Unmarshal([]byte(p.ok("", "shelf", "--json")), &listed); err != nil || len(listed.Files) != 1 {
		t.Errorf("shelf --json: %+v, %v", listed, err)
	}
	var runs api.Runs
	if err := json.Unmarshal([]byte(p.ok("", "runs", "--json")), &runs); err != nil || len(runs.Runs) != 1 {
		t.Errorf("runs --json: %+v, %v", runs, err)
	}
	p.ok(`"state": "finished"`, "runs", "--json", runs.Runs[0].ID)
	p.ok(`"link"`, "status", "--json")
	p.ok(`"heater": "bed"`, "heat", "--json")
	p.ok("Fetched", "shelf", "fetch", "clip.gcode", "-o", filepath.Join(p.home, "back.gcode"))
	if back, _ := os.ReadFile(filepath.Join(p.home, "back.gcode")); !bytes.Equal(back, body) {
		t.Errorf("%d bytes came back, want %d", len(back), len(body))
	}
	p.ok("bed: 60 °C", "heat", "bed", "60")
	p.ok("All heaters are off", "cool")
	p.ok("MACHINE_TYPE:Vesper", "say", "M115")
	p.stdin = "M115 ; who are you\n\n; nothing\nM114\n"
	if out := p.ok("X:", "say", "-"); !strings.Contains(out, "MACHINE_TYPE:Vesper") {
		t.Errorf("lines from standard input: %s", out)
	}
	p.stdin = "M105\nM104 S900\nM115\n"
	p.fails(6, "line 2 of standard input, M104 S900", "say", "-")
	p.fails(8, "something is wrong", "say", "M4711")
	p.ok("> N", "wire", "-n", "1000")
	p.ok("Removed", "shelf", "remove", "clip.gcode")

	p.ok("The bed is clear", "clear")
	p.ok("Started", "send", "--print", "--name", "long.gcode", longFile(t, p.home))
	b.untilRun("running")
	p.fails(6, "long.gcode is running", "print", "long.gcode")
	p.ok("held", "hold")
	b.untilRun("held")
	p.ok("long.gcode", "resume")
	b.untilRun("running")
	p.ok("ending", "stop")
	b.untilRun("stopped")
	p.fails(6, "no run is going on", "hold")
	p.ok("Halted", "halt")
	p.fails(7, "not answering", "say", "M105")
}

func TestTheCommandLinePicksARunUp(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := person{t: t, home: t.TempDir(), env: []string{"DIATHERMON_URL=" + b.service.URL, "DIATHERMON_TOKEN=" + b.service.Keeper}}
	r := b.interrupted(coupon(t, 12))
	p.ok("pick", "status")
	if plan := p.ok("goes on at layer 4 of 12", "resume", "--plan", "--layer", "4"); !strings.Contains(plan, "G28 X Y") || !strings.Contains(plan, "Z is not homed") {
		t.Errorf("the plan is %s", plan)
	}
	p.ok(`"layer": 4`, "resume", "--plan", "--layer", "4", "--json")
	p.fails(6, "layers 1 to 12", "resume", "--plan", "--layer", "99")
	p.fails(2, "not picked up", "resume", "--layer", "4") // nobody says yes
	recording := filepath.Join(p.home, "run.zip")
	p.ok("run.zip", "wire", "--record", recording, "--run", r.ID)
	p.fails(1, "is there already", "wire", "--record", recording)
	if said := p.ok("Resend", "wire", "--replay", recording); !strings.Contains(said, "> N") || !strings.Contains(said, "= bed") || !strings.Contains(said, "! run") {
		t.Errorf("the recording says %.2000s", said)
	}
	p.fails(1, "no file", "wire", "--replay", filepath.Join(p.home, "nowhere.zip"))
	os.WriteFile(filepath.Join(p.home, "text.zip"), []byte("no archive"), 0o644)
	p.fails(1, "is no recording", "wire", "--replay", filepath.Join(p.home, "text.zip"))
	p.ok("warming", "resume", "--yes", "--layer", "4")
	b.untilRun("finished")
	p.ok("", "status", "--ports")
	p.ok(`"ports"`, "status", "--ports", "--json")

	port := b.config.Device
	if err := b.device.Listen(); err != nil {
		t.Fatal(err)
	}
	p.ok("pull", "simulate", "--control", "help")
	p.ok("", "simulate", "--port", port, "--control", "pull 300ms")
	b.until("no link", func(now api.Bench) bool { return now.Link.State != "live" })
	b.live()
	p.fails(1, "no number of bytes", "simulate", "--port", port, "--control", "spoil much")
	p.fails(1, "these are", "simulate", "--port", port, "--control", "dance")
	p.fails(1, "no stand-in", "simulate", "--port", port+"x", "--control", "reset")
	p.fails(2, "there is no trait", "simulate", "--dialect", "polite")
}

func longFile(t *testing.T, dir string) string {
	path := filepath.Join(dir, "any.gcode")
	if err := os.WriteFile(path, coupon(t, 300), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestTheCommandLinesExitCodes(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := person{t: t, home: t.TempDir(), env: []string{"DIATHERMON_URL=" + b.service.URL, "DIATHERMON_TOKEN=" + b.service.Keeper}}
	os.WriteFile(filepath.Join(p.home, "knob.stl"), []byte("solid knob\n"), 0o644)
	p.ok("live", "status")
	p.fails(1, "no such file", "send", "nowhere.gcode")
	p.fails(2, "takes FILE", "send")
	p.fails(2, "not a temperature", "heat", "bed", "warm")
	p.fails(2, "not a temperature", "heat", "bed", "nan")
	p.fails(2, "", "status", "--nonsense")
	p.fails(5, "none.gcode", "print", "none.gcode")
	p.fails(5, "oven", "heat", "oven", "60")
	p.fails(6, "limit of 110 °C", "heat", "bed", "200")
	p.fails(6, "model (STL)", "send", "knob.stl")
	p.env[1] = "DIATHERMON_TOKEN=wrong"
	p.fails(4, "token", "status")
	p.env[0] = "DIATHERMON_URL=http://127.0.0.1:1"
	p.fails(3, "no host answers", "status")
	p.env[0] = "DIATHERMON_URL=not an address"
	p.fails(1, "not a host's address", "status")
}
