package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"go.bug.st/serial"

	"diathermon/internal/api"
	"diathermon/internal/core/gcode"
	"diathermon/internal/simprinter"
)

// unpaced is a stand-in that answers as fast as the machine goes.
func unpaced() simprinter.Config {
	c := simprinter.Vesper()
	c.Baud, c.Warp = 0, 1000
	return c
}

// benchLines is how many lines each way of streaming sends.
const benchLines = 20_000

func benchFile() []byte {
	var b bytes.Buffer
	b.WriteString("G28\n")
	for i := range benchLines - 1 {
		fmt.Fprintf(&b, "G1 X%.3f Y%.3f F18000\n", 50+float64(i%40)/10, 60+float64(i%30)/10)
	}
	return b.Bytes()
}

// bare streams a file with the least code there can be: say a line, wait for its
// ok, say the next.
func bare(b *testing.B, path string, body []byte) time.Duration {
	port, err := serial.Open(path, &serial.Mode{BaudRate: 115200})
	if err != nil {
		b.Fatal(err)
	}
	defer port.Close()
	replies := bufio.NewScanner(port)
	await := func(want string) {
		for replies.Scan() {
			if strings.HasPrefix(replies.Text(), want) {
				return
			}
		}
		b.Fatal("the port closed")
	}
	await("start")
	var out []byte
	number := 0
	say := func(command []byte) {
		out = gcode.AppendNumbered(out[:0], number, command)
		number++
		if _, err := port.Write(out); err != nil {
			b.Fatal(err)
		}
		await("ok")
	}
	say([]byte("M110 N0"))
	begun := time.Now()
	for line := range bytes.Lines(body) {
		say(bytes.TrimSpace(line))
	}
	return time.Since(begun)
}

// BenchmarkLines measures lines per second through the whole service against a
// bare loop on the same pseudo-terminal.
func BenchmarkLines(b *testing.B) {
	body := benchFile()
	for b.Loop() {
		path := filepath.Join(b.TempDir(), "bare")
		device, err := simprinter.Open(path, unpaced())
		if err != nil {
			b.Fatal(err)
		}
		alone := benchLines / bare(b, path, body).Seconds()
		device.Close()

		s := start(b, unpaced()).live()
		s.mustSend("bench.gcode", body, true)
		r := s.untilRun("finished")
		whole := benchLines / r.Ended.Sub(*r.Started).Seconds()
		b.ReportMetric(alone, "bare-lines/s")
		b.ReportMetric(whole, "service-lines/s")
		b.ReportMetric(whole/alone, "service/bare")
	}
}

// proc reads what Linux tells of a process: its resident memory in MB and the
// processor time it has used.
func proc(b *testing.B, pid int) (megabytes float64, cpu time.Duration) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		b.Fatal(err)
	}
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			megabytes = kb / 1024
		}
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		b.Fatal(err)
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+2:]))
	ticks := 0
	for _, i := range []int{11, 12} { // user and system time, in hundredths of a second
		n, _ := strconv.Atoi(fields[i])
		ticks += n
	}
	return megabytes, time.Duration(ticks) * 10 * time.Millisecond
}

// BenchmarkFootprint measures the service's own process, idle and while it
// prints at 115200 baud in real time, with one client that watches.
func BenchmarkFootprint(b *testing.B) {
	for b.Loop() {
		dir := reachable(b)
		data, address, port := filepath.Join(dir, "data"), freeAddress(b), filepath.Join(dir, "port")
		launch(b, dir, "simulate", "--port", port, "--baud", "115200", "--warp", "1").says("answers at")
		begun := time.Now()
		p := launch(b, dir, "serve", "--data", data, "--listen", address, "--device", port)
		p.says("serving")
		first := time.Since(begun)
		s := &bench{Client: dial(b, address, data), t: b}
		s.live()
		measure := func(d time.Duration) (float64, float64) {
			_, before := proc(b, p.cmd.Process.Pid)
			<-time.After(d)
			megabytes, after := proc(b, p.cmd.Process.Pid)
			return megabytes, (after - before).Seconds() / d.Seconds() * 100
		}
		idle, idleCPU := measure(10 * time.Second)
		// Circles of half-millimetre moves at 200 mm/s: more lines than the cable
		// carries.
		var body bytes.Buffer
		body.WriteString("G28\nG1 F12000\n")
		for i := range 60_000 {
			angle := float64(i) / 80
			fmt.Fprintf(&body, "G1 X%.3f Y%.3f E%.5f\n", 115+40*math.Cos(angle), 115+40*math.Sin(angle), float64(i)/100)
		}
		s.mustSend("dense.gcode", body.Bytes(), true)
		s.until("some moves", func(now api.Bench) bool { return now.Run.Taken > 200 })
		now, err := s.Bench(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		taken, at := now.Run.Taken, time.Now()
		printing, printingCPU := measure(20 * time.Second)
		if now, err = s.Bench(b.Context()); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(first.Seconds(), "first-start-s")
		b.ReportMetric(idle, "idle-MB")
		b.ReportMetric(idleCPU, "idle-CPU-%")
		b.ReportMetric(printing, "printing-MB")
		b.ReportMetric(printingCPU, "printing-CPU-%")
		b.ReportMetric(float64(now.Run.Taken-taken)/time.Since(at).Seconds(), "printing-lines/s")
		s.Control(b.Context(), now.Run.ID, "stop")
	}
}
