package e2e

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// rings writes a file of so many layers of so many moves each, circles within each
// other, and returns its size.
func rings(w io.Writer, layers, moves int) int64 {
	height := min(0.2, 200/float64(layers))
	out := bufio.NewWriterSize(w, 1<<20)
	n, _ := fmt.Fprint(out, "M140 S60\nM104 S205\nG28\nG90\nM83\nM190 S60\nM109 S205\nG92 E0\n")
	size := int64(n)
	for layer := range layers {
		n, _ := fmt.Fprintf(out, "G1 Z%.5f F600\n", height*float64(layer+1))
		size += int64(n)
		for i := range moves {
			r, a := 10+40*float64(i/200)/max(float64(moves/200), 1), float64(i%200)*math.Pi/100
			n, _ := fmt.Fprintf(out, "G1 X%.3f Y%.3f E%.5f F%d\n", 115+r*math.Cos(a), 115+r*math.Sin(a), r*0.00104, 2400+i/200%3*900)
			size += int64(n)
		}
	}
	n, _ = fmt.Fprint(out, "M104 S0\nM140 S0\nM107\n")
	out.Flush()
	return size + int64(n)
}

// BenchmarkUpload compares storing 100 MB by each door with copying the same bytes to the
// same disk and forcing them there: raw bytes and a form from this process; WebDAV from
// another's client; digest and a judged beginning included.
func BenchmarkUpload(b *testing.B) {
	var body bytes.Buffer
	rings(&body, 250, 10_000)
	s := start(b, simprinter.Config{})
	sent := filepath.Join(b.TempDir(), "sent")
	curl := func(args ...string) {
		if out, err := exec.Command("curl", append([]string{"-s", "-f", "-o", filepath.Join(s.config.Data, "answer")}, args...)...).CombinedOutput(); err != nil {
			b.Fatalf("%v %s", err, out)
		}
	}
	token := "Authorization: Bearer " + s.service.Keeper
	doors := map[string]func(name string){
		"put": func(name string) {
			if res, answer := s.raw("PUT", "/v1/shelf/"+name, bytes.NewReader(body.Bytes())); res.StatusCode != 201 {
				b.Fatal(res.StatusCode, answer)
			}
		},
		"put by curl":  func(name string) { curl("-T", sent, "-H", token, s.service.URL+"/v1/shelf/"+name) },
		"form by curl": func(name string) { curl("-F", "file=@"+sent+";filename="+name, "-H", token, s.service.URL+"/v1/shelf") },
		"dav by curl":  func(name string) { curl("-u", "maker:"+s.service.Keeper, "-T", sent, s.service.URL+"/dav/"+name) },
	}
	for b.Loop() {
		var plain, written []float64
		whole := map[string][]float64{}
		for i := range 5 {
			for door, send := range doors {
				fmt.Fprintf(&body, "; %d\n", i) // other bytes than before
				begun := time.Now()
				forced(b, bytes.NewReader(body.Bytes()), sent)
				written = append(written, time.Since(begun).Seconds())
				from, err := os.Open(sent)
				if err != nil {
					b.Fatal(err)
				}
				begun = time.Now()
				forced(b, from, filepath.Join(s.config.Data, "plain"))
				plain = append(plain, time.Since(begun).Seconds())
				from.Close()
				name := fmt.Sprintf("large-%d.gcode", i)
				begun = time.Now()
				send(name)
				whole[door] = append(whole[door], time.Since(begun).Seconds())
				client.Do(b.Context(), s.Client, ops.RemoveFile, ops.Name{Name: name})
			}
		}
		slices.Sort(plain)
		slices.Sort(written)
		b.ReportMetric(float64(body.Len())/1e6/plain[len(plain)/2], "copied-MB/s")
		b.ReportMetric(float64(body.Len())/1e6/written[len(written)/2], "written-MB/s")
		slices.Sort(whole["put"])
		b.ReportMetric(100*written[len(written)/2]/whole["put"][2], "put-of-written-%")
		for door, took := range whole {
			slices.Sort(took)
			b.ReportMetric(100*plain[len(plain)/2]/took[2], strings.ReplaceAll(door, " ", "-")+"-%")
		}
	}
}

// forced writes bytes to a file and forces them to the disk.
func forced(b *testing.B, from io.Reader, to string) {
	out, err := os.Create(to)
	if err != nil {
		b.Fatal(err)
	}
	if _, err := io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{from}, make([]byte, 1<<20)); err != nil {
		b.Fatal(err)
	}
	if err := errors.Join(out.Sync(), out.Close()); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkPrintOnArrival measures from the last byte of a 20 MB upload that is to be
// started at once to its first line on the wire.
func BenchmarkPrintOnArrival(b *testing.B) {
	printer := unpaced()
	printer.Record = true
	s := start(b, printer).live()
	var body bytes.Buffer
	rings(&body, 50, 10_000)
	for b.Loop() {
		var waits []float64
		for i := range 5 {
			reader := &ended{r: bytes.NewReader(append(body.Bytes(), fmt.Sprintf("; %d\n", i)...))}
			before := len(s.executed())
			s.clear()
			res, answer := s.raw("PUT", fmt.Sprintf("/v1/shelf/now-%d.gcode?then=print", i), reader)
			if res.StatusCode != 201 || !strings.Contains(answer, `"run"`) {
				b.Fatal(res.StatusCode, answer)
			}
			s.until("its first line", func(api.Bench) bool {
				for _, e := range s.executed()[before:] {
					if strings.HasPrefix(e.Line, "M140 S60") {
						return true
					}
				}
				return false
			})
			waits = append(waits, time.Since(reader.at).Seconds()*1000)
			r := s.untilRun("warming", "running")
			client.Call(b.Context(), s.Client, ops.StopRun, ops.ID{ID: r.ID})
			s.untilRun("stopped")
		}
		slices.Sort(waits)
		b.ReportMetric(waits[len(waits)/2], "first-line-ms")
		b.ReportMetric(waits[len(waits)-1], "longest-ms")
	}
}

// BenchmarkStart measures from the request that lets the first of two hundred entries of
// the queue begin, on a bed that it says to be clear, to its first line at the printer.
func BenchmarkStart(b *testing.B) {
	printer := unpaced()
	printer.Record = true
	s := start(b, printer).live()
	var body bytes.Buffer
	rings(&body, 50, 10_000)
	s.mustSend("part.gcode", body.Bytes(), false)
	s.surveyed("part.gcode")
	for range 200 {
		if _, err := client.Call(b.Context(), s.Client, ops.AddQueueEntry, ops.Body(api.AddEntry{File: "part.gcode", Copies: 100})); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		var waits []float64
		for range 9 {
			before := len(s.executed())
			pressed := time.Now()
			r, err := client.Call(b.Context(), s.Client, ops.StartNext, ops.Body(api.StartNext{Clear: true}))
			if err != nil {
				b.Fatal(err)
			}
			for !slices.ContainsFunc(s.executed()[before:], func(e simprinter.Executed) bool { return strings.HasPrefix(e.Line, "M140 S60") }) {
				<-time.After(time.Millisecond)
			}
			waits = append(waits, time.Since(pressed).Seconds()*1000)
			client.Call(b.Context(), s.Client, ops.StopRun, ops.ID{ID: r.ID})
			s.untilRun("stopped")
		}
		slices.Sort(waits)
		b.ReportMetric(waits[len(waits)/2], "first-line-ms")
		b.ReportMetric(waits[len(waits)-1], "longest-ms")
	}
}

// ended notes when the last byte was taken.
type ended struct {
	r  io.Reader
	at time.Time
}

func (e *ended) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	if n > 0 {
		e.at = time.Now()
	}
	return n, err
}

// BenchmarkInspect measures the memory of a process that works out what a file is, with
// its layers and its picture: 500 MB, and three million layers.
func BenchmarkInspect(b *testing.B) {
	program, err := binary()
	if err != nil {
		b.Fatal(err)
	}
	for name, write := range map[string]func(io.Writer){
		"500MB":            func(w io.Writer) { rings(w, 1250, 10_000) },
		"3-million-layers": func(w io.Writer) { rings(w, 3_000_000, 2) },
	} {
		b.Run(name, func(b *testing.B) {
			path := filepath.Join(b.TempDir(), "large.gcode")
			f, err := os.Create(path)
			if err != nil {
				b.Fatal(err)
			}
			write(f)
			info, _ := f.Stat()
			f.Close()
			for b.Loop() {
				cmd := exec.Command(program, "inspect", path, "--picture", filepath.Join(b.TempDir(), "p.png"))
				cmd.Dir = b.TempDir()
				var said bytes.Buffer
				cmd.Stdout, cmd.Stderr = &said, &said
				if err := cmd.Start(); err != nil {
					b.Fatal(err)
				}
				most := 0.0
				done := make(chan error, 1)
				go func() { done <- cmd.Wait() }()
				for ended := false; !ended; {
					select {
					case err := <-done:
						if err != nil {
							b.Fatal(err, said.String())
						}
						ended = true
					case <-time.After(20 * time.Millisecond):
						most = max(most, peak(cmd.Process.Pid))
					}
				}
				b.ReportMetric(float64(info.Size())/1e6, "file-MB")
				b.ReportMetric(most, "resident-MB")
			}
		})
	}
}

// peak is the most memory that a process has had resident, MB.
func peak(pid int) float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	var kilobytes float64
	fmt.Sscan(rest, &kilobytes)
	return kilobytes / 1e3
}

// BenchmarkLayerView measures, in headless Chromium without a graphics card, from
// choosing a layer of a file of a million moves to its picture, and the pictures a
// second while a layer of 20,000 moves is played on a phone whose processor is four
// times slower.
func BenchmarkLayerView(b *testing.B) {
	s := start(b, simprinter.Config{})
	var body bytes.Buffer
	rings(&body, 50, 20_000)
	s.mustSend("million.gcode", body.Bytes(), false)
	res, _ := s.drawn("/v1/shelf/million.gcode/layers", "Range", "bytes=-48")
	var size int
	fmt.Sscanf(res.Header.Get("Content-Range"), "bytes %d-%d/%d", new(int), new(int), &size)
	for b.Loop() {
		page := s.browser(1280, 800, false)
		s.visit(page, s.service.URL+"/shelf/million.gcode")
		s.do(page, chromedp.WaitVisible(`[data-layers][data-drawn="50"]`))
		var took []float64
		press := func(key string, layer int) float64 {
			return ask(s, page, chromedp.Evaluate[float64](fmt.Sprintf(`new Promise(done => {
				const begun = performance.now(), page = document.querySelector('[data-layers]')
				const see = () => page.dataset.drawn === '%d' ? done(performance.now() - begun) : requestAnimationFrame(see)
				window.dispatchEvent(new KeyboardEvent('keydown', { key: '%s' }))
				see()
			})`, layer, key), chromedp.EvalAwaitPromise))
		}
		layer := 50
		for series := range 5 { // ten layers at a time, each new to the page
			by, key := -10, "PageDown"
			if series%2 == 1 {
				by, key = 10, "PageUp"
			}
			for range 4 {
				layer += by
				took = append(took, press(key, layer))
			}
			layer--
			press("ArrowDown", layer)
		}
		slices.Sort(took)
		b.ReportMetric(took[len(took)/2], "layer-ms")
		b.ReportMetric(took[len(took)-1], "longest-ms")
		b.ReportMetric(float64(size)/(50*20_000), "bytes/move")

		s.looksLike(page, 390, 844, false)
		s.do(page, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: 4})
			return err
		}))
		s.click(page, `[data-play]`)
		b.ReportMetric(ask(s, page, chromedp.Evaluate[float64](`new Promise(done => {
			const begun = performance.now(); let n = 0
			const see = now => { n++; now - begun < 4000 ? requestAnimationFrame(see) : done(1000 * n / (now - begun)) }
			requestAnimationFrame(see)
		})`, chromedp.EvalAwaitPromise)), "pictures/s")
	}
}

// BenchmarkWirePage measures the longest picture of ten seconds of the Wire page at about
// 500 lines a second, everything shown, on a processor that is four times slower; and, in
// the same run, that of a page that draws none of it.
func BenchmarkWirePage(b *testing.B) {
	s := start(b, simprinter.Vesper()).live() // at 115200 baud
	s.mustSend("messages.gcode", []byte(strings.Repeat("M117 as files\n", 60_000)), false)
	for b.Loop() {
		page := s.browser(1280, 800, false)
		s.visit(page, s.service.URL+"/wire")
		s.shown(page, `[data-rows]`)
		s.click(page, `[data-filter="report"]`)
		if _, err := client.Call(b.Context(), s.Client, ops.StartRun, ops.Body(api.StartRun{File: "messages.gcode"})); err != nil {
			b.Fatal(err)
		}
		s.do(page, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: 4})
			return err
		}))
		s.until("the run to go on", func(now api.Bench) bool { return now.Run != nil && now.Run.Taken > 500 })
		first, err := client.Call(b.Context(), s.Client, ops.GetWire, ops.Traffic{Since: 0, Limit: 1})
		if err != nil {
			b.Fatal(err)
		}
		pictures := func() []float64 {
			return ask(s, page, chromedp.Evaluate[[]float64](`new Promise(done => {
				const begun = performance.now(), took = []; let last = begun;
				const see = now => { took.push(now - last); last = now; now - begun < 10000 ? requestAnimationFrame(see) : done(took.slice(5).sort((a, b) => a - b)) }
				requestAnimationFrame(see)
			})`, chromedp.EvalAwaitPromise))
		}
		frames := pictures()
		b.ReportMetric(ask(s, page, chromedp.Evaluate[float64](`(() => { const box = document.querySelector('[role=log]'); return (box.scrollHeight - box.scrollTop - box.clientHeight) / 24 })()`)), "rows-behind")
		last, err := client.Call(b.Context(), s.Client, ops.GetWire, ops.Traffic{Since: 0, Limit: 1})
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(last.Lines[0].Seq-first.Lines[0].Seq)/10, "lines/s")
		b.ReportMetric(frames[len(frames)-1], "longest-ms")
		b.ReportMetric(frames[len(frames)/2], "median-ms")
		s.visit(page, s.service.URL+"/setup") // which draws none of it
		s.do(page, chromedp.WaitVisible(`main`))
		quiet := pictures()
		b.ReportMetric(quiet[len(quiet)-1], "still-page-longest-ms")
	}
}

// window is how long gaps are looked for.
const window = 20 * time.Second

// printing begins a print of short lines on a service that is a process of its own, at 115200
// baud, and returns how to measure the longest gap between two arrivals at the printer from
// when something begins.
func printing(b *testing.B) (s *bench, p *process, address, data string, gap func(name string, begin func())) {
	s, p, address, data = apart(b)
	s.mustSend("long.gcode", bytes.Repeat([]byte("G1 F12000.0000000\n"), 200_000), true)
	s.until("streaming", func(now api.Bench) bool { return now.Run.Taken > 1000 })
	return s, p, address, data, func(name string, begin func()) {
		s.device.Received()
		begin()
		<-time.After(window)
		got := s.device.Received()
		if lines := float64(got.Lines) / got.Took.Seconds(); lines < 300 {
			b.Errorf("%s: only %.0f lines a second came", name, lines)
		}
		b.ReportMetric(got.Gap.Seconds()*1000, name+"-ms")
	}
}

// BenchmarkGaps measures the longest gap between two arrivals at the printer in windows of a
// print: alone, while 500 MB arrive and are surveyed, while they are surveyed still, and while
// a file is rehearsed. What sends the file is a process of its own.
func BenchmarkGaps(b *testing.B) {
	program, err := binary()
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		large := filepath.Join(b.TempDir(), "large.gcode")
		f, err := os.Create(large)
		if err != nil {
			b.Fatal(err)
		}
		rings(f, 1250, 10_000)
		f.Close()
		s, p, address, data, gap := printing(b)
		token, err := os.ReadFile(filepath.Join(data, "keeper-token"))
		if err != nil {
			b.Fatal(err)
		}
		gap("alone", func() {})
		sending := exec.Command(program, "--url", "http://"+address, "--token", strings.TrimSpace(string(token)), "send", large)
		gap("upload", func() {
			if err := sending.Start(); err != nil {
				b.Fatal(err)
			}
		})
		if err := sending.Wait(); err != nil {
			b.Fatal(err)
		}
		gap("survey", func() {})
		if known, err := client.Call(b.Context(), s.Client, ops.GetFile, ops.FileFrom{Name: "large.gcode"}); err != nil || known.Survey.State != "surveying" {
			b.Logf("in the end it was %+v, %v", known.Survey, err)
		}
		s.until("the survey's end", func(api.Bench) bool {
			known, err := client.Call(b.Context(), s.Client, ops.GetFile, ops.FileFrom{Name: "large.gcode"})
			return err == nil && known.Survey.State == "done"
		})
		gap("rehearsal", s.rehearse)
		p.cmd.Process.Kill()
		p.ended()
		s.device.Close()
	}
}

// BenchmarkGapsOfABusyComputer measures the same while other programs take all of the
// processor: without and with a rehearsal.
func BenchmarkGapsOfABusyComputer(b *testing.B) {
	for b.Loop() {
		s, p, _, _, gap := printing(b)
		for range 2 * runtime.NumCPU() {
			busy := exec.Command("timeout", fmt.Sprint((4 * window).Seconds()), "sh", "-c", "while :; do :; done")
			if err := busy.Start(); err != nil {
				b.Fatal(err)
			}
			defer busy.Wait()
			defer busy.Process.Signal(syscall.SIGTERM)
		}
		gap("busy", func() {})
		gap("rehearsal", s.rehearse)
		p.cmd.Process.Kill()
		p.ended()
		s.device.Close()
	}
}
