package e2e

import (
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/heat"
	"diathermon/internal/heatlog"
	"diathermon/internal/records"
	"diathermon/internal/simprinter"
)

// aDay is a day of readings of the stand-in's two heaters, one a second, eight
// hours of which it prints.
func aDay(begins time.Time) map[heat.Heater][]heat.Sample {
	plant := simprinter.NewPlant(simprinter.Vesper())
	out := map[heat.Heater][]heat.Sample{}
	at := begins
	for second := range 86400 {
		switch second {
		case 9 * 3600:
			plant.Set(210, 60)
		case 17 * 3600:
			plant.Set(0, 0)
		}
		if second%97 == 0 && second > 9*3600 && second < 17*3600 {
			plant.Fan, plant.Flow = float64(second%3)/2, float64(second%7)
		}
		plant.Advance(time.Second)
		at = at.Add(time.Second + time.Duration(second*second%7-3)*time.Millisecond)
		for _, r := range heat.ParseReport(plant.Report()) {
			out[r.Heater] = append(out[r.Heater], heat.Sample{At: at.Truncate(heat.Resolution), Reading: r})
		}
	}
	return out
}

// chunksOf packs readings as the log does.
func chunksOf(samples []heat.Sample) []heat.Chunk {
	var out []heat.Chunk
	for len(samples) > 0 {
		n := 0
		for n < len(samples) && samples[n].At.Sub(samples[0].At) < heat.ChunkLength {
			n++
		}
		out, samples = append(out, heat.ChunkOf(samples[:n])), samples[n:]
	}
	return out
}

// BenchmarkHeatLog measures what a reading takes on disk in PostgreSQL, indexes,
// rollups and all, against one row for each, and how long charts take: of the last
// five minutes, of a year of three heaters from the log, and the same from rows. A
// year of rows does not fit here, so that ten days of them are drawn and scaled.
func BenchmarkHeatLog(b *testing.B) {
	const days, heaters = 365, 3
	for b.Loop() {
		address := freshDatabase(b)
		kept, err := records.Open(b.Context(), address, slog.New(slog.DiscardHandler))
		if err != nil {
			b.Fatal(err)
		}
		begins := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, -days)
		day := aDay(begins)
		names := []heat.Heater{heat.Nozzle, heat.Bed, heat.Chamber}
		packed := [][]heat.Chunk{chunksOf(day[heat.Nozzle]), chunksOf(day[heat.Bed]), chunksOf(day[heat.Bed])}
		readings := 0
		for d := range days {
			for i, name := range names {
				var chunks []heat.Chunk
				for _, c := range packed[i] {
					shift := time.Duration(d) * 24 * time.Hour
					c.Heater, c.Begins, c.Ends, c.Sum.Begins = name, c.Begins.Add(shift), c.Ends.Add(shift), c.Sum.Begins.Add(shift)
					chunks = append(chunks, c)
					readings += c.Sum.Count
				}
				if err := kept.PutChunks(b.Context(), chunks); err != nil {
					b.Fatal(err)
				}
			}
		}
		db, err := pgx.Connect(b.Context(), address)
		if err != nil {
			b.Fatal(err)
		}
		number := func(query string) (v float64) {
			if err := db.QueryRow(b.Context(), query).Scan(&v); err != nil {
				b.Fatal(query, err)
			}
			return v
		}
		exec := func(query string) {
			if _, err := db.Exec(b.Context(), query); err != nil {
				b.Fatal(query, err)
			}
		}
		exec("VACUUM FULL ANALYZE heat_chunks")
		ours := number("SELECT pg_total_relation_size('heat_chunks') + pg_total_relation_size('heat_sums')") / float64(readings)
		const rowDays = 10
		exec("CREATE TABLE row_readings (at timestamptz NOT NULL, heater text NOT NULL, actual real NOT NULL, setpoint real, duty real)")
		exec("INSERT INTO row_readings SELECT t, h, 60 + random(), 60, random() FROM generate_series(now() - interval '10 days', now(), interval '1 second') t, unnest(ARRAY['nozzle0','bed','chamber']) h")
		exec("CREATE INDEX ON row_readings (at, heater)")
		exec("VACUUM ANALYZE row_readings")
		rows := number("SELECT pg_total_relation_size('row_readings')") / number("SELECT count(*)::float8 FROM row_readings")

		log, err := heatlog.Open(b.Context(), b.TempDir(), kept, slog.New(slog.DiscardHandler))
		if err != nil {
			b.Fatal(err)
		}
		now := time.Now().UTC().Truncate(time.Second)
		for s := range 600 {
			at := now.Add(time.Duration(s-600) * time.Second)
			for _, name := range names {
				log.Note([]heat.Sample{{At: at, Reading: heat.Reading{Heater: name, Actual: 60, Setpoint: 60, HasSetpoint: true, Duty: 0.25, HasDuty: true}}})
			}
		}
		drawn := func(from time.Time, points int) float64 {
			best := time.Hour
			for range 5 {
				begun := time.Now()
				for _, name := range names {
					if _, err := log.Chart(b.Context(), name, from, now, points); err != nil {
						b.Fatal(err)
					}
				}
				best = min(best, time.Since(begun))
			}
			return best.Seconds() * 1000
		}
		year, live := drawn(now.AddDate(-1, 0, 0), 1500), drawn(now.Add(-5*time.Minute), 1500)
		month, twoDays := drawn(now.AddDate(0, -1, 0), 1500), drawn(now.AddDate(0, 0, -1), 1500)
		begun := time.Now()
		result, err := db.Query(b.Context(), "SELECT heater, width_bucket(extract(epoch FROM at), extract(epoch FROM now() - interval '10 days'), extract(epoch FROM now()), 1500) AS b, min(actual), max(actual), avg(actual), avg(duty) FROM row_readings GROUP BY heater, b ORDER BY heater, b")
		if err != nil {
			b.Fatal(err)
		}
		for result.Next() {
		}
		if result.Err() != nil {
			b.Fatal(result.Err())
		}
		fromRows := time.Since(begun).Seconds() * 1000 * days / rowDays
		b.ReportMetric(ours, "B/reading")
		b.ReportMetric(rows, "row-B/reading")
		b.ReportMetric(rows/ours, "times-smaller")
		b.ReportMetric(year, "year-ms")
		b.ReportMetric(fromRows, "row-year-ms")
		b.ReportMetric(month, "month-ms")
		b.ReportMetric(twoDays, "day-ms")
		b.ReportMetric(live, "live-ms")
		db.Close(b.Context())
		kept.Close()
	}
}

// BenchmarkWear measures the bytes that the service and its PostgreSQL cause to be
// written to the disk while a file is printed in real time, with all logging on,
// over ten minutes, which is two checkpoints of PostgreSQL; the figure is for an
// hour.
func BenchmarkWear(b *testing.B) {
	const length = 10 * time.Minute
	for b.Loop() {
		dir := reachable(b)
		data, address, port := filepath.Join(dir, "data"), freeAddress(b), filepath.Join(dir, "port")
		launch(b, dir, "simulate", "--port", port, "--baud", "115200", "--warp", "1").says("answers at")
		p := launch(b, dir, "serve", "--data", data, "--listen", address, "--device", port)
		p.says("serving")
		s := &bench{Client: dial(b, address, data), t: b}
		s.live()
		s.mustSend("circles.gcode", circles(3600, 200_000), true)
		s.until("some moves", func(now api.Bench) bool { return now.Run.Taken > 200 })
		if _, err := client.Call(b.Context(), s.Client, ops.SetHeat, ops.ForHeater("bed", api.SetHeat{Setpoint: 60})); err != nil {
			b.Fatal(err)
		}
		written := func() (sum float64) {
			for _, pid := range family(b, p.cmd.Process.Pid, filepath.Join(data, "database")) {
				sum += writtenBy(pid)
			}
			return sum
		}
		before := written()
		<-time.After(length)
		b.ReportMetric((written()-before)/1e6*float64(time.Hour/length), "MB/h")
		now, err := client.Ask(b.Context(), s.Client, ops.GetBench)
		if err != nil {
			b.Fatal(err)
		}
		client.Call(b.Context(), s.Client, ops.StopRun, ops.ID{ID: now.Run.ID})
	}
}

// family lists a process and those that work in a folder: PostgreSQL's.
func family(b *testing.B, pid int, folder string) []int {
	out := []int{pid}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		b.Fatal(err)
	}
	for _, e := range entries {
		other, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if cwd, err := os.Readlink(filepath.Join("/proc", e.Name(), "cwd")); err == nil && strings.HasPrefix(cwd, folder) {
			out = append(out, other)
		}
	}
	return out
}

// writtenBy is how many bytes a process has caused to be written to a disk.
func writtenBy(pid int) float64 {
	text, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "io"))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if digits, ok := strings.CutPrefix(line, "write_bytes: "); ok {
			n, _ := strconv.ParseFloat(strings.TrimSpace(digits), 64)
			return n
		}
	}
	return 0
}
