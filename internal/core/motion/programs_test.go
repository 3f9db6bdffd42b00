package motion_test

import (
	"fmt"
	"math"
	"strings"
)

// programs are files of many kinds, a minute or more each; head is said before each.
func programs() map[string]string {
	out := map[string]string{}
	add := func(name string, write func(say func(string, ...any))) {
		var b strings.Builder
		b.WriteString("G90\nM82\nG92 E0\n")
		write(func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) })
		out[name] = b.String()
	}
	walls := func(say func(string, ...any), times int, radius, step, feed float64) {
		e := 0.0
		say("G92 E0")
		for turn := range times {
			say("G0 X%.3f Y100 Z%.2f F9000", 100+radius, 0.2*float64(turn+1))
			for a := step; a <= 2*math.Pi+1e-9; a += step {
				e += radius * step * 0.04
				say("G1 X%.3f Y%.3f E%.5f F%.0f", 100+radius*math.Cos(a), 100+radius*math.Sin(a), e, feed)
			}
		}
	}
	zigzag := func(say func(string, ...any), lines int, long, apart, feed float64) {
		e := 0.0
		say("G92 E0")
		for i := range lines {
			x := 50.0
			if i%2 == 0 {
				x += long
			}
			e += long * 0.04
			say("G1 X%.3f Y%.3f E%.5f F%.0f", x, 50+apart*float64(i), e, feed)
			e += apart * 0.04
			say("G1 Y%.3f E%.5f", 50+apart*float64(i+1), e)
		}
	}
	type sayer = func(string, ...any)
	add("walls", func(say sayer) { walls(say, 40, 20, 0.1, 3000) })
	add("walls of short chords", func(say sayer) { walls(say, 12, 15, 0.012, 4800) })
	add("small circles", func(say sayer) { walls(say, 200, 2, 0.2, 2400) })
	add("fast small circles", func(say sayer) { walls(say, 200, 2, 0.2, 9000) })
	add("a line of very short moves", func(say sayer) {
		for i := range 40 {
			for k := range 400 {
				say("G1 X%.3f E%.5f F6000", 50+float64(k+1)*0.02, float64(i*400+k)*0.001)
			}
			say("G0 X50 F9000")
		}
	})
	add("tiny arcs", func(say sayer) {
		for i := range 400 {
			say("G0 X100.6 Y100 F9000\nG2 X99.4 Y100 I-.6 J0 E%d F3600\nG2 X100.6 Y100 I.6 E%d", i*2+1, i*2+2)
		}
	})
	add("square walls", func(say sayer) { walls(say, 80, 30, math.Pi/2, 6000) })
	add("infill", func(say sayer) { zigzag(say, 200, 40, 0.45, 6000) })
	add("short infill", func(say sayer) { zigzag(say, 600, 4, 0.45, 7200) })
	add("travels", func(say sayer) {
		for i := range 400 {
			say("G0 X%d Y%d F%d", 10+i*37%200, 10+i*83%200, 6000+i%5*1500)
		}
	})
	add("accelerations set by the file", func(say sayer) {
		for i := range 40 {
			say("M204 P%d T%d", 300+i%4*900, 2000)
			zigzag(say, 10, 20, 0.5, 6000)
		}
	})
	add("M204 S, M201 and M203", func(say sayer) {
		say("M201 X600 Y900\nM203 X90 Y60 Z5 E25\nM204 S2000")
		zigzag(say, 100, 30, 0.5, 9000)
		walls(say, 10, 25, 0.2, 9000)
	})
	add("accelerations of no machine", func(say sayer) { // sums of squared speeds beyond what is counted at once
		say("M201 X1000000 Y1000000\nM203 X900 Y900\nM204 S900000")
		for i := range 60 {
			say("G1 X%d Y%d E%d F%d", i%2*2000, i*40, 9*i, 30000+i%7*3000)
			walls(say, 3, 25, 0.2, 54000)
		}
	})
	add("jerk set by the file", func(say sayer) {
		say("M205 X12 Y4 Z0.3 E2")
		walls(say, 15, 10, 0.15, 4800)
		zigzag(say, 60, 20, 0.5, 4800)
		walls(say, 30, 20, math.Pi/3, 4800)
	})
	add("a deviation set by the file", func(say sayer) {
		say("M205 J0.08")
		walls(say, 40, 20, math.Pi/4, 6000)
		zigzag(say, 60, 20, 0.5, 6000)
	})
	add("speeds changed", func(say sayer) {
		for i := range 12 {
			say("M220 S%d", 50+i*15)
			zigzag(say, 16, 25, 0.5, 3600)
		}
	})
	add("the firmware's own retraction", func(say sayer) {
		say("M207 S1.5 F2100 Z0.3\nM208 S0.02 F1500")
		for i := range 150 {
			say("G1 X%d Y%d E%.3f F3000", 50+i%7*9, 50+i%11*7, float64(i+1)*0.5)
			say("G10\nG10\nG0 X%d Y%d F9000\nG11", 120-i%5*11, 100-i%3*20)
		}
	})
	add("retractions", func(say sayer) {
		say("M204 R2500 P900 T1800\nM83")
		for i := range 200 {
			say("G1 X%d Y%d E0.8 F2400", 50+i%7*6, 50+i%11*5)
			say("G1 X%d E-0.3 F2400\nG1 E-0.9 F2700\nG1 Z0.6 F900\nG0 X%d Y%d F9000\nG1 Z0.2\nG1 E1.2 F1800", 52+i%7*6, 120-i%5*11, 100-i%3*20)
		}
	})
	add("arcs", func(say sayer) {
		for i := range 120 {
			r := 3 + float64(i%20)
			say("G0 X%.3f Y100 F9000", 100+r)
			say("G2 X%.3f Y100 I%.3f J0 E%d F3600", 100-r, -r, i*2+1)
			say("G3 X%.3f Y100 I%.3f E%d", 100+r, r, i*2+2)
		}
	})
	add("arcs among walls", func(say sayer) { // rounded corners, with R
		for i := range 150 {
			e := float64(i) * 4
			say("G1 X120 Y100 E%.2f F3000\nG3 X124 Y104 R4 E%.2f\nG1 Y120 E%.2f\nG3 X120 Y124 R4 E%.2f", e+0.8, e+1.1, e+1.8, e+2)
			say("G1 X104 E%.2f\nG3 X100 Y120 I0 J-4 E%.2f\nG1 Y104 E%.2f\nG3 X104 Y100 I4 J0 E%.2f", e+2.7, e+3, e+3.7, e+4)
		}
	})
	add("arcs in other planes", func(say sayer) {
		for i := range 60 {
			r := 2 + float64(i%5)
			say("G18\nG0 X%.3f Y100 Z10 F9000", 100-r)
			say("G2 X%.3f Z10 I%.3f K0 E%d F1800", 100+r, r, i*4+1)
			say("G3 X%.3f Z10 R%.3f E%d", 100-r, r, i*4+2)
			say("G19\nG3 Y%.3f Z10 J%.3f E%d\nG2 Y100 Z10 J%.3f E%d\nG17", 100+2*r, r, i*4+3, -r, i*4+4)
		}
	})
	add("curves", func(say sayer) {
		say("G0 X20 Y50 F9000")
		for i := range 80 {
			x, y := 20+float64(i+1)*2, 50+float64(i%2)*30
			say("G5 X%.2f Y%.2f I%d J%d P%d Q%d E%.3f F3600", x, y, 3+i%7, 20-i%3*9, -5-i%4, 12-i%5*7, float64(i+1)*1.2)
		}
	})
	add("changes of speed in mm/min", func(say sayer) {
		say("M566 X900 Y300 Z24 E200")
		walls(say, 15, 10, 0.15, 4800)
		zigzag(say, 60, 20, 0.5, 4800)
	})
	add("a spiral", func(say sayer) {
		e := 0.0
		for i := range 3000 {
			a := float64(i) * 0.05
			e += 0.04
			say("G1 X%.3f Y%.3f Z%.4f E%.5f F2700", 100+20*math.Cos(a), 100+15*math.Sin(a), 0.2+a*0.04, e)
		}
	})
	add("waits and stops", func(say sayer) {
		for i := range 60 {
			say("G1 X%d Y%d F6000\nG1 X%d\nG4 P%d\nG1 Y%d\nM400\nG1 X20", 100+i%7*9, 50+i%11*7, 140-i%7*3, i%3*400, 90-i%5)
		}
	})
	add("inches and relative", func(say sayer) {
		say("G20\nG91\nM83")
		for i := range 300 {
			s := float64(1 - i%2*2)
			say("G1 X%.4f Y%.4f E.02 F%.1f\nG1 X%.4f E.01", s*1.1, 0.02, 180.0, s*0.3)
		}
	})
	return out
}
