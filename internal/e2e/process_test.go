package e2e

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/records/cluster"
	"diathermon/internal/simprinter"
)

// process is a service that runs as a program of its own.
type process struct {
	t    testing.TB
	cmd  *exec.Cmd
	mu   sync.Mutex
	said bytes.Buffer
	done chan struct{}
}

// launch runs the program with arguments.
func launch(t testing.TB, dir string, args ...string) *process {
	t.Helper()
	path, err := binary()
	if err != nil {
		t.Fatal(err)
	}
	p := &process{t: t, cmd: exec.Command(path, args...), done: make(chan struct{})}
	p.cmd.Dir = dir
	p.cmd.Env = []string{"HOME=" + dir, "PATH=" + os.Getenv("PATH")}
	r, w := io.Pipe()
	p.cmd.Stdout, p.cmd.Stderr = w, w
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		for s := bufio.NewScanner(r); s.Scan(); {
			p.mu.Lock()
			p.said.WriteString(s.Text() + "\n")
			p.mu.Unlock()
		}
	}()
	go func() {
		p.cmd.Wait()
		w.Close()
		<-heard
		close(p.done)
	}()
	t.Cleanup(func() {
		p.cmd.Process.Signal(syscall.SIGTERM)
		p.ended()
	})
	return p
}

func (p *process) words() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.said.String()
}

// says waits until the program has said something.
func (p *process) says(want string) {
	p.t.Helper()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); <-time.After(10 * time.Millisecond) {
		if strings.Contains(p.words(), want) {
			return
		}
	}
	p.t.Fatalf("waited in vain for %q; it said:\n%s", want, p.words())
}

// ended waits for the program's end and returns its exit code.
func (p *process) ended() int {
	p.t.Helper()
	select {
	case <-p.done:
		return p.cmd.ProcessState.ExitCode()
	case <-time.After(patience):
		p.cmd.Process.Kill()
		p.t.Fatalf("it does not end; it said:\n%s", p.words())
		return -1
	}
}

// reachable returns a folder that PostgreSQL's user may pass through.
func reachable(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "diathermon-process-")
	if err != nil {
		t.Fatal(err)
	}
	os.Chmod(dir, 0o755)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func freeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// dial returns a client of the service at address with its keeper's token.
func dial(t testing.TB, address, data string) *client.Client {
	t.Helper()
	token, err := os.ReadFile(filepath.Join(data, "keeper-token"))
	if err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(filepath.Join(data, "keeper-token")); info.Mode().Perm() != 0o600 {
		t.Errorf("the keeper's token has mode %v", info.Mode())
	}
	c, err := client.New(address, strings.TrimSpace(string(token)))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// idlers are the processes of the lowest priority that a process has started, by what they
// do.
func idlers(t testing.TB, pid int) map[string]int {
	t.Helper()
	all := map[string]int{}
	found, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		t.Fatal(err)
	}
	const parent, nice = 1, 16 // after the name
	for _, path := range found {
		stat, _ := os.ReadFile(filepath.Join(path, "stat"))
		said, _ := os.ReadFile(filepath.Join(path, "cmdline"))
		fields, args := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:])), strings.Split(string(said), "\x00")
		if len(fields) > nice && fields[parent] == strconv.Itoa(pid) && fields[nice] == "19" && len(args) > 1 {
			all[args[1]], _ = strconv.Atoi(filepath.Base(path))
		}
	}
	return all
}

// idler waits for such a process, and returns it.
func (b *bench) idler(p *process, what string) (id int) {
	b.t.Helper()
	b.until("the process of a "+what, func(api.Bench) bool {
		id = idlers(b.t, p.cmd.Process.Pid)[what]
		return id != 0
	})
	return id
}

// rehearse lets the service rehearse a file that takes for ever.
func (b *bench) rehearse() {
	b.t.Helper()
	b.mustSend("waits.gcode", bytes.Repeat([]byte("G4 S604000\n"), 100), false)
	if _, err := client.Call(b.t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "waits.gcode"}); err != nil {
		b.t.Fatal(err)
	}
}

func TestNobodyWaitsForWorkOfTheLowestPriority(t *testing.T) {
	t.Parallel()
	b, p, _, _ := apart(t)
	defer b.device.Close()
	if _, err := client.Call(t.Context(), b.Client, ops.SayBed, ops.Body(api.SayBed{State: "clear"})); err != nil {
		t.Fatal(err)
	}
	b.rehearse()
	stop := func(what string) { // it gets no processor at all
		t.Helper()
		id := b.idler(p, what)
		if err := syscall.Kill(id, syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { syscall.Kill(id, syscall.SIGKILL) })
	}
	stop("rehearsal")
	b.mustSend("large.gcode", append(bytes.Repeat([]byte("; a long word about the sky\n"), 1<<20), coupon(t, 3)...), false)
	b.until("its survey", func(api.Bench) bool {
		known, err := client.Call(t.Context(), b.Client, ops.GetFile, ops.FileFrom{Name: "large.gcode"})
		return err == nil && known.Survey.State == "surveying"
	})
	stop("survey")
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "large.gcode"})); err != nil { // what is wanted now is worked out now
		t.Fatal(err)
	}
	b.untilRun("warming")
	if known, err := client.Call(t.Context(), b.Client, ops.GetFile, ops.FileFrom{Name: "large.gcode"}); err != nil || known.Survey.State != "done" || len(idlers(t, p.cmd.Process.Pid)) != 2 {
		t.Errorf("it is started and %+v, %v, beside %v", known.Survey, err, idlers(t, p.cmd.Process.Pid))
	}
	setpoints := func() (nozzle, bed float64) {
		b.device.Do(func(board *simprinter.Board) { nozzle, bed = board.Setpoints() })
		return nozzle, bed
	}
	b.until("heat", func(api.Bench) bool { nozzle, bed := setpoints(); return nozzle+bed > 0 })
	p.cmd.Process.Signal(syscall.SIGTERM)
	if code := p.ended(); code != 0 {
		t.Errorf("SIGTERM led to exit code %d: %s", code, p.words())
	}
	if nozzle, bed := setpoints(); nozzle != 0 || bed != 0 {
		t.Errorf("it left the nozzle at %g °C and the bed at %g °C", nozzle, bed)
	}
}

func TestServeSurvivesBeingKilled(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	data, address, port := filepath.Join(dir, "data"), freeAddress(t), filepath.Join(dir, "port")
	launch(t, dir, "simulate", "--port", port, "--baud", "0", "--warp", "100").says("answers at")
	config := "device = " + quote(port) + "\n[printer]\nname = \"Vesper\"\nwidth = 230\ndepth = 230\nheight = 240\n[printer.limits]\nnozzle = 285\nbed = 110\n"
	os.WriteFile(filepath.Join(dir, "diathermon.toml"), []byte(config), 0o644)
	serve := []string{"serve", "--data", data, "--listen", address}

	first := launch(t, dir, serve...)
	first.says("serving")
	c := dial(t, address, data)
	b := &bench{Client: c, t: t}
	b.live()
	b.mustSend("long.gcode", coupon(t, 300), true)
	b.untilRun("running")

	second := launch(t, dir, serve...)
	if code := second.ended(); code != 1 || !strings.Contains(second.words(), "another Diathermon") {
		t.Errorf("a second service on the same data: exit code %d, %s", code, second.words())
	}
	third := launch(t, dir, "serve", "--data", filepath.Join(dir, "other"), "--listen", address)
	if code := third.ended(); code != 1 || !strings.Contains(third.words(), "in use by another program") {
		t.Errorf("a busy address: exit code %d, %s", code, third.words())
	}

	b.rehearse()
	rehearsal := b.idler(first, "rehearsal")
	first.cmd.Process.Kill() // its PostgreSQL runs on
	first.ended()
	again := launch(t, dir, serve...)
	again.says("serving")
	b.Client = dial(t, address, data)
	b.live()
	b.untilRun("running") // the printer kept its place
	b.until("the end of the rehearsal", func(api.Bench) bool { return syscall.Kill(rehearsal, 0) != nil })
	runs, err := client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 5})
	if err != nil || len(runs.Runs) != 1 || runs.Runs[0].State != "running" {
		t.Errorf("the run that was cut off is kept as %+v, %v", runs, err)
	}
	if shelf, err := client.Ask(t.Context(), b.Client, ops.ListFiles); err != nil || len(shelf.Files) != 2 {
		t.Errorf("the shelf holds %+v, %v", shelf, err)
	}

	again.cmd.Process.Signal(syscall.SIGTERM)
	if code := again.ended(); code != 0 {
		t.Errorf("SIGTERM led to exit code %d: %s", code, again.words())
	}
	lock := filepath.Join(data, "database", "data", "postmaster.pid")
	if _, err := os.Stat(lock); !os.IsNotExist(err) {
		t.Errorf("PostgreSQL was not stopped: %v", err)
	}
	os.WriteFile(lock, []byte("1\n/nowhere\n1\n5432\n"), 0o600) // left over, of a process that is another's
	last := launch(t, dir, serve...)
	last.says("serving")
	b.Client = dial(t, address, data)
	if shelf, err := client.Ask(t.Context(), b.Client, ops.ListFiles); err != nil || len(shelf.Files) != 2 {
		t.Errorf("after a leftover lock the shelf holds %+v, %v", shelf, err)
	}
}

func quote(s string) string { return `"` + s + `"` }

func TestServeNamesWhatIsInTheWay(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		os.WriteFile(path, []byte(text), 0o644)
		return path
	}
	for what, c := range map[string]struct {
		args []string
		code int
		want string
	}{
		"a key that is none":    {[]string{"--config", file("a.toml", "devise = 'x'\n")}, 1, "devise"},
		"a file that is broken": {[]string{"--config", file("b.toml", "baud = \n")}, 1, "line 1"},
		"a missing file":        {[]string{"--config", "nowhere.toml"}, 1, "nowhere.toml"},
		"an impossible limit":   {[]string{"--config", file("c.toml", "[printer.limits]\nnozzle = 9000\n")}, 1, "printer.limits.nozzle: nozzle at most cannot be 9000 °C: it can be 1 to 550 °C"},
		"an address of none":    {[]string{"--listen", "somewhere"}, 1, "127.0.0.1:8437"},
		"a database of none":    {[]string{"--database", "mysql://x", "--listen", "127.0.0.1:0"}, 1, "postgres://"},
		"a database away":       {[]string{"--database", "postgres://x:y@127.0.0.1:1/z?connect_timeout=2", "--listen", "127.0.0.1:0"}, 1, "does not answer"},
		"a level of none":       {[]string{"--log", "loud"}, 2, "loud"},
		"an argument":           {[]string{"now"}, 2, "argument"},
	} {
		p := launch(t, dir, append([]string{"serve", "--data", filepath.Join(dir, "data")}, c.args...)...)
		if code := p.ended(); code != c.code || !strings.Contains(p.words(), c.want) {
			t.Errorf("%s: exit code %d, %q; want %d and %q", what, code, p.words(), c.code, c.want)
		}
	}
}

func TestTheDemoIsUpAgainWithItsData(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	data, address := filepath.Join(dir, "demo"), freeAddress(t)
	args := []string{"demo", "--data", data, "--listen", address, "--warp", "50"}
	first := launch(t, dir, args...)
	first.says("Ctrl-C stops everything")
	for _, want := range []string{"/sign-in#", " pair http://" + address} {
		if !strings.Contains(first.words(), want) {
			t.Errorf("it does not say %q:\n%s", want, first.words())
		}
	}
	b := &bench{Client: dial(t, address, data), t: t}
	b.live()
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "cable-clip-mount-leg.gcode"})); err != nil {
		t.Fatal(err)
	}
	b.untilRun("warming")
	first.cmd.Process.Signal(syscall.SIGINT)
	if code := first.ended(); code != 0 {
		t.Errorf("Ctrl-C led to exit code %d: %s", code, first.words())
	}
	launch(t, dir, args...).says("Ctrl-C stops everything")
	b.Client = dial(t, address, data)
	shelf, err := client.Ask(t.Context(), b.Client, ops.ListFiles)
	if err != nil || len(shelf.Files) < 3 {
		t.Errorf("the shelf holds %d files, %v", len(shelf.Files), err)
	}
	if runs, err := client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 5}); err != nil || len(runs.Runs) < 2 || runs.Runs[0].File != "cable-clip-mount-leg.gcode" || runs.Runs[0].State != "stopped" {
		t.Errorf("the runs are %+v, %v", runs, err)
	}
	b.until("a live link", func(now api.Bench) bool { return now.Link.State == "live" })
}

func TestADatabaseThatIsKilledDisturbsNothing(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	data, address, port := filepath.Join(dir, "data"), freeAddress(t), filepath.Join(dir, "port")
	launch(t, dir, "simulate", "--port", port, "--baud", "0", "--warp", "60").says("answers at")
	p := launch(t, dir, "serve", "--data", data, "--listen", address, "--device", port)
	p.says("serving")
	b := &bench{Client: dial(t, address, data), t: t}
	b.live()
	begun := time.Now()
	b.mustSend("coupon.gcode", coupon(t, 10), true)
	b.untilRun("running")
	lock, err := os.ReadFile(filepath.Join(data, "database", "data", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(strings.Split(string(lock), "\n")[0]))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	b.untilRun("finished")
	var runs api.Runs
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); <-time.After(100 * time.Millisecond) {
		if runs, err = client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 5}); err == nil && len(runs.Runs) == 1 && strings.Contains(p.words(), "the database is back") {
			break
		}
	}
	if err != nil || len(runs.Runs) != 1 || runs.Runs[0].State != "finished" {
		t.Fatalf("the runs are %+v, %v; it said\n%s", runs, err, p.words())
	}
	heard, err := client.Call(t.Context(), b.Client, ops.GetWire, ops.Traffic{Since: 0, Limit: 4000})
	if err != nil {
		t.Fatal(err)
	}
	log, err := client.Call(t.Context(), b.Client, ops.GetHeat, ops.Window{From: begun, To: time.Now(), Heater: []string{"bed"}})
	if err != nil {
		t.Fatal(err)
	}
	reports, since := 0, time.Time{}
	for _, l := range heard.Lines {
		if !l.Sent && strings.Contains(l.Text, " B:") {
			if since.IsZero() {
				since = l.At.Add(-5 * time.Millisecond)
			}
			reports++
		}
	}
	noted := 0
	for _, r := range log.Readings {
		if r.At.After(since) {
			noted++
		}
	}
	if noted < reports || reports < 20 {
		t.Errorf("the printer reported %d times and the log has %d readings of that", reports, noted)
	}
	if len(log.Readings) < 100 {
		t.Errorf("only %d readings", len(log.Readings))
	}
}

func TestRecordsOutliveADatabaseAndAProcessThatGoAway(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	own, err := cluster.Start(t.Context(), filepath.Join(dir, "database"))
	if err != nil {
		t.Fatal(err)
	}
	stop := sync.OnceFunc(func() { own.Stop() })
	t.Cleanup(func() { stop() })
	printer := quick()
	printer.Warp, printer.Dialect.Trusting = 20, true
	b := start(t, printer)
	b.service.Close()
	b.config.Database = own.URL
	b.up()
	b.live()
	b.mustSend("part.gcode", coupon(t, 3), true)
	b.untilRun("running")
	stop()
	run := b.untilRun("finished")
	b.device.Do(func(board *simprinter.Board) { board.Break(true, simprinter.HeaterFault{Kind: simprinter.Shorted}) })
	alarm := b.until("an alarm", func(now api.Bench) bool { return len(now.Alarms) > 0 }).Alarms[0]
	b.service.Close()

	if own, err = cluster.Start(t.Context(), filepath.Join(dir, "database")); err != nil {
		t.Fatal(err)
	}
	stop = sync.OnceFunc(func() { own.Stop() })
	b.config.Database = own.URL
	b.up()
	kept, err := client.Call(t.Context(), b.Client, ops.GetRun, ops.ID{ID: run.ID})
	if err != nil || kept.State != "finished" || kept.Taken != run.Taken {
		t.Errorf("the run is kept as %+v, %v", kept, err)
	}
	if now := mustBench(b); len(now.Alarms) == 0 || now.Alarms[len(now.Alarms)-1].ID != alarm.ID {
		t.Errorf("the alarms that wait are %+v, want %s", now.Alarms, alarm.ID)
	}
	chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: ops.Window{Run: run.ID}, Points: 1000})
	if err != nil || len(chart.Traces) != 2 || !slices.ContainsFunc(chart.Marks, func(m api.HeatMark) bool { return m.Kind == "setpoint" }) {
		t.Errorf("its stretch of the log has %d traces and the marks %+v, %v", len(chart.Traces), chart.Marks, err)
	}
	if _, err := os.Stat(filepath.Join(b.config.Data, "records-waiting.jsonl")); !os.IsNotExist(err) {
		t.Errorf("written, and the file is there: %v", err)
	}
}
