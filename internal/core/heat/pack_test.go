package heat_test

import (
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// hour is an hour of a heater's readings, one a second as they arrive on a busy
// machine.
func hour(seed uint64) []heat.Sample {
	rng := rand.New(rand.NewPCG(seed, 1))
	out := make([]heat.Sample, 3600)
	at, actual := noon, 21.0
	for i := range out {
		at = at.Add(time.Second + time.Duration(rng.NormFloat64()*3)*time.Millisecond)
		setpoint := 0.0
		if i > 600 {
			setpoint = 60
			actual += (60 - actual) * 0.01
		}
		out[i] = heat.Sample{At: at, Reading: heat.Reading{
			Heater: heat.Bed, Actual: math.Round((actual+rng.NormFloat64()*0.05)*100) / 100,
			Setpoint: setpoint, HasSetpoint: true, Duty: float64(rng.IntN(20)+20) / 127, HasDuty: true,
		}}
	}
	return out
}

func TestPackedReadingsComeBackExactly(t *testing.T) {
	mixed := hour(3)[:50]
	for i := range mixed {
		mixed[i].HasSetpoint, mixed[i].HasDuty = i%3 > 0, i%7 > 2
		if !mixed[i].HasSetpoint {
			mixed[i].Setpoint = 0
		}
		if !mixed[i].HasDuty {
			mixed[i].Duty = 0
		}
	}
	odd := []heat.Sample{
		{At: noon, Reading: heat.Reading{Heater: heat.Bed, Actual: -14.2}},
		{At: noon.Add(time.Millisecond), Reading: heat.Reading{Heater: heat.Bed, Actual: 1999.9375, Setpoint: 0.1, HasSetpoint: true}},
		{At: noon.Add(48 * time.Hour), Reading: heat.Reading{Heater: heat.Bed, Actual: 0, Duty: 0.37, HasDuty: true}},
	}
	for what, samples := range map[string][]heat.Sample{"an hour": hour(1), "fields left out": mixed, "odd ones": odd, "one": odd[:1], "none": {}} {
		data := heat.Pack(samples)
		got, err := heat.Unpack(heat.Bed, data)
		if err != nil || len(got) != len(samples) || len(got) > 0 && !reflect.DeepEqual(got, samples) {
			t.Errorf("%s: %d readings came back as %d, %v", what, len(samples), len(got), err)
		}
		if each := float64(len(data)) / float64(len(samples)); what == "an hour" && each > 3 {
			t.Errorf("%.2f bytes a reading", each)
		}
	}
}

func TestDamagedPacksAreRefused(t *testing.T) {
	data := heat.Pack(hour(1)[:100])
	for cut := range len(data) {
		if _, err := heat.Unpack(heat.Bed, data[:cut]); !errors.Is(err, heat.ErrPacked) {
			t.Fatalf("cut to %d of %d bytes: %v", cut, len(data), err)
		}
	}
	for i := range data {
		data[i] ^= 0x10
		if _, err := heat.Unpack(heat.Bed, data); !errors.Is(err, heat.ErrPacked) {
			t.Fatalf("with byte %d spoiled: %v", i, err)
		}
		data[i] ^= 0x10
	}
	if _, err := heat.UnpackSpans(data); !errors.Is(err, heat.ErrPacked) {
		t.Errorf("readings as spans: %v", err)
	}
}

func TestRollupsKeepExtremes(t *testing.T) {
	samples := hour(5)
	samples[1800].Actual = 99.99 // one reading among 3600
	samples[2400].Actual = 12.5
	minutes := heat.Rollup(heat.SpansOf(samples), time.Minute)
	if len(minutes) < 60 || len(minutes) > 62 {
		t.Fatalf("an hour has %d minutes", len(minutes))
	}
	back, err := heat.UnpackSpans(heat.PackSpans(minutes))
	if err != nil {
		t.Fatal(err)
	}
	hours := heat.Rollup(back, time.Hour)
	low, high, count, sum := math.Inf(1), math.Inf(-1), 0, 0.0
	for _, s := range hours {
		low, high, count = min(low, s.Low), max(high, s.High), count+s.Count
		sum += s.Mean * float64(s.Count)
	}
	want := 0.0
	for _, s := range samples {
		want += s.Actual
	}
	if math.Abs(low-12.5) > 0.011 || math.Abs(high-99.99) > 0.011 || count != 3600 || math.Abs(sum-want)/3600 > 0.01 {
		t.Errorf("low %v, high %v, %d readings, mean %v, want 12.5, 99.99, 3600, %v", low, high, count, sum/3600, want/3600)
	}
	chart := heat.Chart(heat.SpansOf(samples), noon, noon.Add(time.Hour), time.Second, 100)
	if len(chart) > 102 {
		t.Errorf("%d points for 100", len(chart))
	}
	found := 0
	for _, s := range chart {
		if s.High == 99.99 || s.Low == 12.5 {
			found++
		}
	}
	if found != 2 {
		t.Errorf("%d of the two extremes are in the chart", found)
	}
}

func TestGapsAreShownAsGaps(t *testing.T) {
	samples := append(hour(1)[:100:100], hour(1)[400:500]...)
	for _, points := range []int{50, 1000} {
		gaps := 0
		for _, s := range heat.Chart(heat.SpansOf(samples), noon, noon.Add(500*time.Second), time.Second, points) {
			if s.Count == 0 {
				gaps++
				if s.Begins.Before(samples[99].At) || !s.Begins.Before(samples[100].At) {
					t.Errorf("the gap is at %s", s.Begins)
				}
			}
		}
		if gaps != 1 {
			t.Errorf("at %d points there are %d gaps", points, gaps)
		}
	}
}

func TestAClockThatJumps(t *testing.T) {
	var c heat.Clock
	c.After(noon)
	wall, mono := noon.Add(time.Minute), time.Duration(0)
	last, lastMono := noon, time.Duration(-1)
	stamp := func(step, jump time.Duration) time.Duration {
		wall, mono = wall.Add(step+jump), mono+step
		at, moved := c.Stamp(wall, mono)
		if !at.After(last) {
			t.Errorf("%s does not come after %s", at, last)
		}
		if lastMono >= 0 && jump <= 0 && jump > -24*time.Hour && moved <= 0 && absolute(at.Sub(last)-(mono-lastMono)) > time.Second {
			t.Errorf("%s between stamps, %s passed", at.Sub(last), mono-lastMono)
		}
		last, lastMono = at, mono
		return moved
	}
	for _, c := range []struct{ step, jump, moved time.Duration }{
		{time.Second, 0, 0},
		{time.Second, time.Hour, time.Hour}, // the network has told the time
		{time.Second, 0, 0},
		{time.Second, -30 * time.Minute, 0}, // and takes some back: order is kept
		{time.Hour, 0, 0},
		{time.Second, 100 * time.Millisecond, 0},
	} {
		if moved := stamp(c.step, c.jump); absolute(moved-c.moved) > 2*time.Second {
			t.Errorf("a jump of %s was told as %s", c.jump, moved)
		}
	}
	var later heat.Clock
	later.After(last)
	if at, moved := later.Stamp(last.Add(-time.Hour), 0); !at.After(last) || moved > -time.Hour {
		t.Errorf("at a start without a clock: %s, moved %s", at, moved)
	}
	if at, moved := later.Stamp(last.Add(8*time.Hour), time.Minute); at.Sub(last) < 7*time.Hour || moved < 7*time.Hour {
		t.Errorf("when the time is known: %s, moved %s", at, moved)
	}
}

func absolute(d time.Duration) time.Duration { return max(d, -d) }

func FuzzUnpack(f *testing.F) {
	f.Add(heat.Pack(hour(1)[:20]))
	f.Add(heat.PackSpans(heat.Rollup(heat.SpansOf(hour(1)), time.Minute)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if samples, err := heat.Unpack(heat.Bed, data); err == nil {
			if again, err := heat.Unpack(heat.Bed, heat.Pack(samples)); err != nil || len(again) != len(samples) {
				t.Errorf("%d readings came back as %d, %v", len(samples), len(again), err)
			}
		}
		heat.UnpackSpans(data)
	})
}

func BenchmarkPack(b *testing.B) {
	samples := hour(1)
	for b.Loop() {
		heat.Pack(samples)
	}
	b.ReportMetric(float64(len(heat.Pack(samples)))/float64(len(samples)), "B/reading")
}

func BenchmarkUnpack(b *testing.B) {
	data := heat.Pack(hour(1))
	for b.Loop() {
		if _, err := heat.Unpack(heat.Bed, data); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkUnpackSpans(b *testing.B) {
	data := heat.PackSpans(heat.Rollup(heat.SpansOf(hour(1)), time.Minute))
	for b.Loop() {
		if _, err := heat.UnpackSpans(data); err != nil {
			b.Fatal(err)
		}
	}
}

func TestMeansAreOfReadingsNotOfSpans(t *testing.T) {
	nan := math.NaN()
	sum := heat.Sum([]heat.Span{{Count: 1, Mean: 100, Low: 100, High: 100, Duty: 1, Setpoint: nan}, {Count: 3, Mean: 20, Low: 19, High: 21, Duty: 0.2, Setpoint: 60}})
	if sum.Count != 4 || math.Abs(sum.Mean-40) > 1e-9 || math.Abs(sum.Duty-0.4) > 1e-9 || sum.Low != 19 || sum.High != 100 || sum.Setpoint != 60 {
		t.Errorf("%+v", sum)
	}
	if sum := heat.Sum([]heat.Span{{Count: 1, Duty: nan, Setpoint: 60}, {Count: 1, Duty: 0.5, Setpoint: nan}}); sum.Duty != 0.5 || sum.Setpoint != 60 {
		t.Errorf("where one was not told: %+v", sum)
	}
}

func TestReadingsOfOneMomentStandApart(t *testing.T) {
	var c heat.Clock
	last := time.Time{}
	for range 5 {
		at, _ := c.Stamp(noon.Add(time.Millisecond/3), 0)
		if !at.After(last) {
			t.Errorf("%s behind %s", at, last)
		}
		last = at
	}
}
