package motion_test

import (
	"math"
	"strconv"
	"strings"
)

// reference is a second planner, written apart from the package's: it reads the words
// by itself, looks from every move as far ahead as the ring holds, whatever it found
// for the one before, and adds up the time of a move in small steps of its way. It
// returns seconds.
func reference(program string) float64 {
	type vector [4]float64
	type leg struct {
		way                vector
		long, fast, push   float64
		corner, safe, stay float64 // speed at its start; to which it jumps from rest; s that are waited before it
		stopped            bool    // it begins from rest
	}
	var (
		at, origin  vector
		feed        = 25.0
		unit        = 1.0
		relative    bool
		relativeE   bool
		percent     = 1.0
		top         = vector{300, 300, 12, 60}
		most        = vector{3000, 3000, 100, 5000}
		jerk        = vector{8, 8, 0.4, 5}
		rounding    = 0.02
		plane       = [3]int{0, 1, 2}
		print, rest = 1000.0, 1500.0
		pull        = 1500.0
		draw        = map[byte]float64{'S': 3, 'F': 2700, 'Z': 0}
		push        = map[byte]float64{}
		drawn       bool
		legs        []leg
		stop        = true
		pause       float64
	)
	size := func(v vector) (n float64) {
		for _, x := range v {
			n += x * x
		}
		return math.Sqrt(n)
	}
	angle := func(a, b vector) float64 {
		dot := 0.0
		for i := range a {
			dot += a[i] * b[i]
		}
		return math.Acos(min(max(dot/size(a)/size(b), -1), 1))
	}
	goTo := func(to vector, speed float64) {
		var d vector
		for i := range d {
			d[i] = to[i] - at[i]
		}
		at = to
		l := leg{way: d, long: math.Hypot(math.Hypot(d[0], d[1]), d[2]), fast: speed, push: rest, stay: pause, stopped: stop}
		if l.long > 0 && d[3] != 0 {
			l.push = print
		} else if l.long == 0 {
			l.long, l.push = math.Abs(d[3]), pull
		}
		if l.long < 1e-6 {
			return
		}
		for i, x := range d {
			if x != 0 {
				l.fast = min(l.fast, top[i]*l.long/math.Abs(x))
				l.push = min(l.push, most[i]*l.long/math.Abs(x))
			}
		}
		if rounding == 0 {
			l.safe = l.fast
			for i, x := range d {
				if x != 0 {
					l.safe = min(l.safe, jerk[i]*l.long/math.Abs(x))
				}
			}
		}
		if stop {
			l.corner = l.safe
		} else {
			was := legs[len(legs)-1]
			l.corner = min(l.fast, was.fast)
			switch turn := angle(was.way, d); {
			case rounding == 0:
				factor := 1.0
				for i := range d {
					a, b := was.way[i]/was.long*l.corner, d[i]/l.long*l.corner
					change := math.Abs(a - b)
					if math.Signbit(a) != math.Signbit(b) {
						change = max(math.Abs(a), math.Abs(b))
					}
					factor = min(factor, jerk[i]/max(change, 1e-9))
				}
				l.corner *= factor
			case turn > math.Pi-1.5e-3:
				l.corner = 0
			case turn > 1.5e-3:
				can := l.push
				for i := range d {
					if c := math.Abs(d[i]/size(d)-was.way[i]/size(was.way)) / (2 * math.Sin(turn/2)); c > 0 {
						can = min(can, most[i]/c)
					}
				}
				// A circle that touches both leaves the corner by radius·(1/cos(turn/2) − 1).
				radius := rounding / (1/math.Cos(turn/2) - 1)
				if l.long < 1 && turn < math.Pi/4 {
					radius = min(radius, l.long/turn)
				}
				l.corner = min(l.corner, math.Sqrt(can*radius))
			}
		}
		legs, stop, pause = append(legs, l), false, 0
	}
	for line := range strings.Lines(program) {
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		w := map[byte]float64{}
		for _, f := range fields[1:] {
			w[f[0]], _ = strconv.ParseFloat(f[1:], 64)
		}
		has := func(c byte) bool { _, ok := w[c]; return ok }
		each := func(to *vector) {
			for i, c := range []byte("XYZE") {
				if has(c) {
					to[i] = w[c]
				}
			}
		}
		switch fields[0] {
		case "G0", "G1", "G2", "G3":
			if has('F') {
				feed = w['F'] * unit / 60
			}
			to := at
			for i, c := range []byte("XYZE") {
				switch {
				case !has(c):
				case i < 3 && relative || i == 3 && relativeE:
					to[i] += w[c] * unit
				default:
					to[i] = w[c]*unit + origin[i]
				}
			}
			if fields[0] < "G2" {
				goTo(to, feed*percent)
				break
			}
			from, left := at, fields[0] == "G3"
			u, v, through := plane[0], plane[1], plane[2]
			cx, cy := from[u]+w["IJK"[u]]*unit, from[v]+w["IJK"[v]]*unit
			if has('R') { // the centre that lies to the left of the way, or to the right of it
				mx, my, dx, dy := (from[u]+to[u])/2, (from[v]+to[v])/2, to[u]-from[u], to[v]-from[v]
				far := math.Sqrt(max(w['R']*w['R']-(dx*dx+dy*dy)/4, 0)) / math.Hypot(dx, dy)
				if !left {
					far = -far
				}
				cx, cy = mx-dy*far, my+dx*far
			}
			r := math.Hypot(from[u]-cx, from[v]-cy)
			a0, a1 := math.Atan2(from[v]-cy, from[u]-cx), math.Atan2(to[v]-cy, to[u]-cx)
			if left && a1 <= a0+1e-9 {
				a1 += 2 * math.Pi
			} else if !left && a1 >= a0-1e-9 {
				a1 -= 2 * math.Pi
			}
			pieces := max(math.Floor(r*math.Abs(a1-a0)), math.Ceil(24*math.Abs(a1-a0)/2/math.Pi-1e-9), 1)
			for i := 1.0; i <= pieces; i++ {
				p := to
				if s := i / pieces; i < pieces {
					p[u], p[v] = cx+r*math.Cos(a0+s*(a1-a0)), cy+r*math.Sin(a0+s*(a1-a0))
					p[through], p[3] = from[through]+s*(to[through]-from[through]), from[3]+s*(to[3]-from[3])
				}
				goTo(p, feed*percent)
			}
		case "G5": // in the power basis
			if has('F') {
				feed = w['F'] * unit / 60
			}
			from, to := at, at
			for i, c := range []byte("XYZE") {
				if has(c) {
					to[i] = w[c]*unit + origin[i]
				}
			}
			var c1, c2, c3 [2]float64
			for i := range 2 {
				h1, h2 := from[i]+w["IJ"[i]]*unit, to[i]+w["PQ"[i]]*unit
				c1[i], c2[i], c3[i] = 3*(h1-from[i]), 3*(from[i]-2*h1+h2), to[i]-from[i]+3*(h1-h2)
			}
			along := func(s float64) (p vector) {
				for i := range p {
					if p[i] = from[i] + s*(to[i]-from[i]); i < 2 {
						p[i] = from[i] + s*(c1[i]+s*(c2[i]+s*c3[i]))
					}
				}
				return p
			}
			long := 0.0
			for i := 0.0; i < 1000; i++ {
				a, b := along(i/1000), along((i+1)/1000)
				long += math.Hypot(a[0]-b[0], a[1]-b[1])
			}
			pieces := max(math.Floor(long), 10)
			for i := 1.0; i <= pieces; i++ {
				goTo(along(i/pieces), feed*percent)
			}
		case "G17":
			plane = [3]int{0, 1, 2}
		case "G18":
			plane = [3]int{2, 0, 1}
		case "G19":
			plane = [3]int{1, 2, 0}
		case "G4":
			pause, stop = pause+w['S']+w['P']/1000, true
		case "M400":
			stop = true
		case "G10", "G11":
			if back := fields[0] == "G10"; back != drawn {
				drawn = back
				up, out := at, at
				if back {
					out[3] -= draw['S']
					goTo(out, draw['F']/60)
					up = at
					up[2] += draw['Z']
					goTo(up, math.Inf(1))
				} else {
					up[2] -= draw['Z']
					goTo(up, math.Inf(1))
					out = at
					out[3] += draw['S'] + push['S']
					speed := draw['F']
					if push['F'] > 0 {
						speed = push['F']
					}
					goTo(out, speed/60)
				}
				sign := 1.0
				if !back {
					sign = -1
				}
				origin[2] += sign * draw['Z']
				origin[3] -= sign * draw['S']
				if !back {
					origin[3] += push['S']
				}
			}
		case "G20":
			unit = 25.4
		case "G90", "G91":
			relative = fields[0] == "G91"
			relativeE = relative
		case "M82", "M83":
			relativeE = fields[0] == "M83"
		case "G92":
			origin[3] = at[3] - w['E']
		case "M201":
			each(&most)
		case "M203":
			each(&top)
		case "M204":
			if has('S') {
				print, rest = w['S'], w['S']
			}
			for c, to := range map[byte]*float64{'P': &print, 'T': &rest, 'R': &pull} {
				if has(c) {
					*to = w[c]
				}
			}
		case "M205":
			each(&jerk)
			if has('X') {
				rounding = 0
			}
			if has('J') {
				rounding = w['J']
			}
		case "M566":
			for i, c := range []byte("XYZE") {
				if has(c) {
					jerk[i], rounding = w[c]/60, 0
				}
			}
		case "M207":
			for c := range w {
				draw[c] = w[c]
			}
		case "M208":
			for c := range w {
				push[c] = w[c]
			}
		case "M220":
			percent = w['S'] / 100
		}
	}
	const ring = 31
	total, speed := pause, 0.0
	for k, l := range legs {
		total += l.stay
		if l.stopped {
			speed = l.corner
		}
		end, way := math.Inf(1), 0.0 // the highest speed at its end, squared
		for j := k + 1; ; j++ {
			if j == len(legs) || j == k+ring || legs[j].stopped {
				end = min(end, way)
				break
			}
			end = min(end, legs[j].corner*legs[j].corner+way)
			way += 2 * legs[j].push * legs[j].long
		}
		end = min(end, speed*speed+2*l.push*l.long)
		if k+1 == len(legs) || legs[k+1].stopped {
			end = 0
		}
		const steps = 4000
		for i := range steps { // midpoints; the ends, where it may stand still, in closed form
			s := (float64(i) + 0.5) / steps * l.long
			v := math.Sqrt(min(speed*speed+2*l.push*s, end+2*l.push*(l.long-s), l.fast*l.fast))
			total += l.long / steps / v
		}
		speed = math.Sqrt(end)
	}
	return total
}
