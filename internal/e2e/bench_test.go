package e2e

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"go.bug.st/serial"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/gcode"
	"diathermon/internal/records/cluster"
	"diathermon/internal/simprinter"
)

// unpaced is a stand-in that answers as fast as the machine goes.
func unpaced() simprinter.Config {
	c := simprinter.Vesper()
	c.Baud, c.Warp = 0, 1000
	c.Dialect.Telling = true
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

// BenchmarkCable measures the share of the cable's bytes that the file's lines
// take, 30 bytes a line with number and checksum, one line at a time, with the window
// that the firmware tells, and with the one that is measured where it tells nothing,
// through the whole service.
func BenchmarkCable(b *testing.B) {
	const seconds = 3
	for _, baud := range []int{115200, 250000, 1000000} {
		for _, latency := range []time.Duration{time.Millisecond, 16 * time.Millisecond} {
			for _, buffer := range []int{128, 4096} {
				b.Run(fmt.Sprintf("baud=%d/latency=%s/buffer=%d", baud, latency, buffer), func(b *testing.B) {
					for b.Loop() {
						for _, window := range []string{"single", "auto", "measured"} {
							printer := simprinter.Vesper()
							printer.Baud, printer.Latency, printer.ReceiveBuffer, printer.CommandSlots = baud, latency, buffer, 8
							if window != "measured" {
								printer.Dialect = simprinter.MustDialect("telling,naming=full")
							}
							s := start(b, printer)
							s.service.Close()
							s.config.Baud, s.config.Unmeasured = baud, window != "measured"
							if window == "single" {
								s.config.Wire.Window = window
							}
							s.up()
							s.live()
							if window == "measured" {
								s.until("its measure", func(now api.Bench) bool { return now.Firmware != nil && now.Firmware.Holds.How == "measured" })
							}
							lines := baud / 10 * seconds / 30
							if window == "single" { // which takes longer for each
								lines /= 8
							}
							var body bytes.Buffer
							for range lines {
								body.WriteString("G1 F12000.0000000\n")
							}
							stored := s.mustSend("feeds.gcode", body.Bytes(), false)
							s.device.Received()
							if _, err := client.Call(b.Context(), s.Client, ops.StartRun, ops.Body(api.StartRun{File: stored.File.Name})); err != nil {
								b.Fatal(err)
							}
							s.until("half of the file", func(now api.Bench) bool { return now.Run.Taken > lines/4 })
							s.device.Received() // the middle of the file is measured
							s.until("most of the file", func(now api.Bench) bool { return now.Run.Taken > lines*3/4 })
							got := s.device.Received()
							s.untilRun("finished")
							s.service.Close()
							s.device.Close()
							name := map[string]string{"single": "single-%", "auto": "told-%", "measured": "measured-%"}[window]
							b.ReportMetric(float64(got.Bytes)/(got.Took.Seconds()*float64(baud)/10)*100, name)
						}
					}
				})
			}
		}
	}
}

// BenchmarkPlanner measures how fast the printer draws half-millimetre moves at
// 60 mm/s, 120 a second, less than the cable carries: a planner that is short of
// moves slows down, and one that has none stands still.
func BenchmarkPlanner(b *testing.B) {
	for b.Loop() {
		for _, window := range []string{"single", "auto"} {
			printer := simprinter.Vesper()
			printer.Latency, printer.CommandSlots = 16*time.Millisecond, 8
			printer.Dialect = simprinter.MustDialect("telling,naming=full")
			s := start(b, printer)
			s.service.Close()
			s.config.Wire.Window = window
			s.up()
			s.live()
			s.mustSend("circles.gcode", circles(3600, 1500), true)
			s.until("the first moves", func(now api.Bench) bool { return now.Run.Taken > 100 })
			var before, after time.Duration
			s.device.Do(func(board *simprinter.Board) { before = board.Starved() })
			first, err := client.Ask(b.Context(), s.Client, ops.GetBench)
			if err != nil {
				b.Fatal(err)
			}
			begun := time.Now()
			last := s.until("the last moves", func(now api.Bench) bool { return now.Run.Taken > 1300 })
			took := time.Since(begun)
			s.device.Do(func(board *simprinter.Board) { after = board.Starved() })
			s.service.Close()
			s.device.Close()
			b.ReportMetric(float64(last.Run.Taken-first.Run.Taken)/took.Seconds(), window+"-moves/s")
			b.ReportMetric((after-before).Seconds()/took.Seconds()*100, window+"-without-moves-%")
		}
	}
}

// circles is a file of so many half-millimetre moves at that feed, mm/min.
func circles(feed, moves int) []byte {
	var body bytes.Buffer
	fmt.Fprintf(&body, "G28\nG1 F%d\nG1 X155 Y115\n", feed)
	for i := range moves {
		angle := float64(i) / 80
		fmt.Fprintf(&body, "G1 X%.3f Y%.3f E%.5f\n", 115+40*math.Cos(angle), 115+40*math.Sin(angle), float64(i)/100)
	}
	return body.Bytes()
}

// BenchmarkHalt measures the time from the arrival of a halt's request at the
// service's socket to its bytes on the wire, while a file is streamed, 200 MB are
// uploaded again and again and 50 clients follow the events. The service is a
// process of its own, as is what loads it.
func BenchmarkHalt(b *testing.B) {
	const halts = 100
	for b.Loop() {
		s, p, address, data := apart(b)
		load := exec.Command(os.Args[0])
		load.Env = append(os.Environ(), loadEnv+"="+address+" "+filepath.Join(data, "keeper-token"))
		if err := load.Start(); err != nil {
			b.Fatal(err)
		}
		s.mustSend("long.gcode", bytes.Repeat([]byte("G1 F12000.0000000\n"), 100_000), false)
		var took []time.Duration
		token, err := os.ReadFile(filepath.Join(data, "keeper-token"))
		if err != nil {
			b.Fatal(err)
		}
		request := fmt.Sprintf("POST /v1/halt HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", address, strings.TrimSpace(string(token)))
		for range halts {
			s.live()
			if _, err := client.Call(b.Context(), s.Client, ops.SayBed, ops.Body(api.SayBed{State: "clear"})); err != nil {
				b.Fatal(err)
			}
			if _, err := client.Call(b.Context(), s.Client, ops.StartRun, ops.Body(api.StartRun{File: "long.gcode"})); err != nil {
				b.Fatal(err)
			}
			s.until("streaming", func(now api.Bench) bool { return now.Run != nil && now.Run.Taken > 60 })
			begun := arrive(b, address, request)
			s.until("the halt at the printer", func(api.Bench) (halted bool) {
				s.device.Do(func(board *simprinter.Board) { halted = board.Halted() })
				return halted
			})
			took = append(took, s.written(b).Sub(begun))
			if err := client.Do(b.Context(), s.Client, ops.Reconnect, ops.Nothing{}); err != nil {
				b.Fatal(err)
			}
			s.until("a new greeting", func(now api.Bench) bool { return now.Link.State != "dead" })
		}
		load.Process.Kill()
		load.Wait()
		slices.Sort(took)
		b.ReportMetric(took[halts/2].Seconds()*1000, "median-ms")
		b.ReportMetric(took[halts*99/100-1].Seconds()*1000, "p99-ms")
		b.ReportMetric(took[halts-1].Seconds()*1000, "longest-ms")
		p.cmd.Process.Kill()
		p.ended()
		s.device.Close()
	}
}

// apart is a service that is a process of its own, with a stand-in at 115200 baud, where
// it listens and its data folder.
func apart(b testing.TB) (s *bench, p *process, address, data string) {
	dir := reachable(b)
	data, address = filepath.Join(dir, "data"), freeAddress(b)
	port, printer := filepath.Join(dir, "port"), simprinter.Vesper()
	printer.Dialect.Telling = true
	device, err := simprinter.Open(port, printer)
	if err != nil {
		b.Fatal(err)
	}
	p = launch(b, dir, "serve", "--data", data, "--listen", address, "--device", port, "--baud", "115200", "--database", freshDatabase(b))
	p.says("serving")
	s = &bench{Client: dial(b, address, data), t: b, device: device}
	return s.live(), p, address, data
}

// loadEnv makes the test program load a service instead of testing anything: its
// address, and the file with its token.
const loadEnv = "DIATHERMON_TEST_LOAD"

// load uploads 200 MB again and again and follows the events 50 times, until it
// is killed.
func load(address, tokenFile string) error {
	token, err := os.ReadFile(tokenFile)
	if err != nil {
		return err
	}
	c, err := client.New("http://"+address, strings.TrimSpace(string(token)))
	if err != nil {
		return err
	}
	ctx := context.Background()
	for range 50 {
		go c.Events(ctx, func(client.Event) {})
	}
	part := bytes.Repeat([]byte("G1 X10 Y10 E1 F3000\nG1 X20 Y20 E2 F3000\n"), 200<<20/40)
	for i := 0; ; i++ {
		name := fmt.Sprintf("large-%d.gcode", i)
		if _, err := c.Send(ctx, client.Sending{Name: name, Body: bytes.NewReader(part), Size: int64(len(part))}); err != nil {
			return err
		}
		if err := client.Do(ctx, c, ops.RemoveFile, ops.Name{Name: name}); err != nil {
			return err
		}
	}
}

// written is when the service wrote its last halt to the port, as its flight
// recorder tells.
func (b *bench) written(tb *testing.B) (at time.Time) {
	path := filepath.Join(tb.TempDir(), "now.zip")
	for at.IsZero() {
		file, err := os.Create(path)
		if err != nil {
			tb.Fatal(err)
		}
		if err := errors.Join(b.recording(file), file.Close()); err != nil {
			tb.Fatal(err)
		}
		halted := time.Time{}
		if err := client.ReadRecording(path, func(e client.Recorded) error {
			if rest, is := strings.CutPrefix(e.Text, "the halt was written at "); is {
				micros, _ := strconv.ParseInt(rest, 10, 64)
				at = time.UnixMicro(micros)
			} else if e.Mark == '>' && strings.Contains(e.Text, "M112") {
				halted, at = e.At, time.Time{}
			}
			return nil
		}); err != nil || halted.IsZero() {
			tb.Fatalf("the recording has no halt: %v", err)
		}
	}
	return at
}

// arrive sends a request by hand and returns when it was at the socket.
func arrive(b *testing.B, address, request string) time.Time {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close()
	<-time.After(20 * time.Millisecond) // the service has taken the connection
	if _, err := io.WriteString(conn, request); err != nil {
		b.Fatal(err)
	}
	at := time.Now()
	if answer, err := io.ReadAll(conn); err != nil || !bytes.HasPrefix(answer, []byte("HTTP/1.1 204")) {
		b.Fatalf("the halt was answered %q, %v", answer, err)
	}
	return at
}

// BenchmarkDatabaseAway measures the longest gap in the sending at 115200 baud,
// with PostgreSQL there all the time and with it stopped and started meanwhile.
func BenchmarkDatabaseAway(b *testing.B) {
	for b.Loop() {
		for _, away := range []bool{false, true} {
			private, err := cluster.Start(b.Context(), filepath.Join(reachable(b), "database"))
			if err != nil {
				b.Fatal(err)
			}
			printer := simprinter.Vesper()
			printer.Dialect.Telling = true
			s := start(b, printer)
			s.service.Close()
			s.config.Database = private.URL
			s.up()
			s.live()
			var body bytes.Buffer
			for range 384 * 12 {
				body.WriteString("G1 F12000.0000000\n")
			}
			s.mustSend("feeds.gcode", body.Bytes(), true)
			s.until("streaming", func(now api.Bench) bool { return now.Run.Taken > 200 })
			s.device.Received()
			if away {
				private.Stop()
				<-time.After(2 * time.Second)
			}
			s.until("most of the file", func(now api.Bench) bool { return now.Run.Taken > 384*10 })
			gap := s.device.Received().Gap
			s.service.Close()
			s.device.Close()
			name := "there-gap-ms"
			if away {
				name = "away-gap-ms"
			} else {
				private.Stop()
			}
			b.ReportMetric(gap.Seconds()*1000, name)
		}
	}
}

// footprint reads what Linux tells of a process: its resident memory in MB and the
// processor time it has used.
func footprint(b testing.TB, pid int) (megabytes float64, cpu time.Duration) {
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

// BenchmarkFootprint measures the service's own process, idle, in the first seconds of a
// run and a while later, at 115200 baud in real time. The file has 200,000 lines, more
// than the cable carries, and is sent just before it is printed.
func BenchmarkFootprint(b *testing.B) {
	const first, steady = 5 * time.Second, time.Minute
	for b.Loop() {
		dir := reachable(b)
		data, address, port := filepath.Join(dir, "data"), freeAddress(b), filepath.Join(dir, "port")
		launch(b, dir, "simulate", "--port", port, "--baud", "115200", "--warp", "1").says("answers at")
		begun := time.Now()
		p := launch(b, dir, "serve", "--data", data, "--listen", address, "--device", port)
		p.says("serving")
		b.ReportMetric(time.Since(begun).Seconds(), "first-start-s")
		s := &bench{Client: dial(b, address, data), t: b}
		s.live()
		taken := func() int {
			now, err := client.Ask(b.Context(), s.Client, ops.GetBench)
			if err != nil {
				b.Fatal(err)
			}
			if now.Run == nil {
				return 0
			}
			return now.Run.Taken
		}
		measure := func(what string, d time.Duration) {
			lines := taken()
			_, before := footprint(b, p.cmd.Process.Pid)
			<-time.After(d)
			megabytes, after := footprint(b, p.cmd.Process.Pid)
			b.ReportMetric(megabytes, what+"-MB")
			if lines = taken() - lines; lines > 0 {
				b.ReportMetric(float64(lines)/d.Seconds(), what+"-lines/s")
				b.ReportMetric((after-before).Seconds()*1000/float64(lines), what+"-ms/line")
			} else {
				b.ReportMetric((after-before).Seconds()/d.Seconds()*100, what+"-CPU-%")
			}
		}
		measure("idle", 20*time.Second) // until what the printer holds is measured
		s.mustSend("dense.gcode", circles(12000, 200_000), true)
		s.until("some moves", func(now api.Bench) bool { return now.Run.Taken > 20 })
		measure("first", first)
		measure("steady", steady)
		measure("later", steady)
		now, err := client.Ask(b.Context(), s.Client, ops.GetBench)
		if err != nil {
			b.Fatal(err)
		}
		client.Call(b.Context(), s.Client, ops.StopRun, ops.ID{ID: now.Run.ID})
	}
}
