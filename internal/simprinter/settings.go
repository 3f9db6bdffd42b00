package simprinter

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Motion is what the machine's axes X, Y, Z and E can do and are set to.
type Motion struct {
	Speed        [4]float64 // mm/s at most
	Acceleration [4]float64 // mm/s² at most
	Rest         [4]float64 // mm/s that an axis may change at once; not used with a Deviation
	Laying       float64    // mm/s² of moves that lay plastic
	Travelling   float64    // of moves that do not
	Retracting   float64    // of the extruder alone
	Deviation    float64    // mm by which a corner may be cut; 0: Rest decides
}

// ordinary is a common machine.
var ordinary = Motion{
	Speed: [4]float64{300, 300, 12, 60}, Acceleration: [4]float64{3000, 3000, 100, 5000}, Rest: [4]float64{8, 8, 0.4, 5},
	Laying: 1000, Travelling: 1500, Retracting: 1500,
}

// drawback is the firmware's own retraction.
type drawback struct {
	length, feed, lift, more, back float64
	drawn                          bool
	by, lifted                     float64
}

// tuneMotion takes a command that changes how the machine moves.
func (b *Board) tuneMotion(c *command) {
	if b.cfg.Dialect.Stubborn && c.code != "M207" && c.code != "M208" {
		return
	}
	m := &b.planner.Motion
	set := func(letter byte, to *float64) {
		if v, ok := c.words[letter]; ok && v > 0 {
			*to = v
		}
	}
	each := func(to *[4]float64) {
		for i, letter := range []byte("XYZE") {
			set(letter, &to[i])
		}
	}
	switch c.code {
	case "M201":
		each(&m.Acceleration)
	case "M203":
		each(&m.Speed)
	case "M204":
		set('S', &m.Laying)
		set('S', &m.Travelling)
		set('P', &m.Laying)
		set('R', &m.Retracting)
		set('T', &m.Travelling)
	case "M205":
		each(&m.Rest)
		if m.Deviation > 0 {
			set('J', &m.Deviation)
		}
	case "M566": // in mm/min
		if m.Deviation == 0 {
			for i, letter := range []byte("XYZE") {
				if v, ok := c.words[letter]; ok && v > 0 {
					m.Rest[i] = v / 60
				}
			}
		}
	case "M207":
		for letter, to := range map[byte]*float64{'S': &b.drawback.length, 'F': &b.drawback.feed, 'Z': &b.drawback.lift} {
			if v, ok := c.words[letter]; ok {
				*to = v
			}
		}
	case "M208":
		for letter, to := range map[byte]*float64{'S': &b.drawback.more, 'F': &b.drawback.back} {
			if v, ok := c.words[letter]; ok {
				*to = v
			}
		}
	}
}

// tell lists the settings as a firmware does for M503.
func (b *Board) tell() {
	m := b.planner.Motion
	axes := func(v [4]float64) string {
		var out strings.Builder
		for i, letter := range []byte("XYZE") {
			out.WriteByte(' ')
			out.WriteByte(letter)
			out.WriteString(number(v[i]))
		}
		return out.String()
	}
	b.word(storing, "; Maximum feedrates (units/s):")
	b.word(storing, fmt.Sprintf("  M203%s", axes(m.Speed)))
	b.word(storing, "; Maximum Acceleration (units/s2):")
	b.word(storing, fmt.Sprintf("  M201%s", axes(m.Acceleration)))
	b.word(storing, "; Acceleration (units/s2) (P<print-accel> R<retract-accel> T<travel-accel>):")
	b.word(storing, fmt.Sprintf("  M204 P%s R%s T%s", number(m.Laying), number(m.Retracting), number(m.Travelling)))
	b.word(storing, "; Advanced (B<min_segment_time_us> S<min_feedrate> T<min_travel_feedrate>):")
	if m.Deviation > 0 {
		b.word(storing, fmt.Sprintf("  M205 B20000.00 S0.00 T0.00 J%.3f", m.Deviation))
	} else {
		b.word(storing, fmt.Sprintf("  M205 B20000.00 S0.00 T0.00%s", axes(m.Rest)))
	}
	d := &b.drawback
	b.word(storing, "; Retract (S<length> F<feedrate> Z<lift>):")
	b.word(storing, fmt.Sprintf("  M207 S%s W13.00 F%s Z%s", number(d.length), number(d.feed), number(d.lift)))
	b.word(storing, "; Recover (S<length> F<feedrate>):")
	b.word(storing, fmt.Sprintf("  M208 S%s W0.00 F%s", number(d.more), number(d.back)))
}

// ends tells where the axes end.
func (b *Board) ends() {
	b.word(storing, fmt.Sprintf("Soft endstops: On  Min: X0.00 Y0.00 Z0.00   Max: X%s Y%s Z%s", number(b.cfg.Size[0]), number(b.cfg.Size[1]), number(b.cfg.Size[2])))
}

// drawBack carries out G10 and G11.
func (b *Board) drawBack(back bool) func() bool {
	steps := [][2]float64(nil) // mm of Z and of E
	d := &b.drawback
	prepared := false
	return func() bool {
		if !prepared {
			prepared = true
			switch {
			case back == d.drawn:
			case back:
				d.by, d.lifted = d.length, d.lift
				steps = [][2]float64{{0, -d.by}, {d.lifted, 0}}
			default:
				steps = [][2]float64{{-d.lifted, 0}, {0, d.by + d.more}}
			}
			d.drawn = back
		}
		for ; len(steps) > 0; steps = steps[1:] {
			if b.planner.full() {
				return false
			}
			to, feed := b.planned, d.feed/60
			to[2], to[3] = to[2]+steps[0][0], to[3]+steps[0][1]
			if steps[0][0] != 0 {
				feed = math.Inf(1)
			} else if !back && d.back > 0 {
				feed = d.back / 60
			}
			b.fed()
			b.planner.add(b.now, b.planned, to, feed, 1)
			// What the firmware drew back is no place of the file's.
			b.origin[2], b.origin[3] = b.origin[2]+steps[0][0], b.origin[3]+steps[0][1]
			b.planned = to
		}
		return true
	}
}

// number is a setting as firmwares write it.
func number(v float64) string { return strconv.FormatFloat(v, 'f', 2, 64) }
