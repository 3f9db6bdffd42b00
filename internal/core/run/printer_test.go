package run_test

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// printer is a machine written apart from the core's reading of G-code: a small
// firmware with a count of lines, a queue, a planner, two heaters and a head.
type printer struct {
	early, atOnce bool // an ok says that a move is planned; M112, M108 and M410 are read as they arrive

	line    []byte
	out     []byte
	expects int
	queue   []order
	moves   []move
	until   time.Duration // busy with the first of moves, or a dwell
	wait    string        // the command that waits for heat, or "broken off"; empty: none does
	dead    bool

	head, shift [4]float64 // where it is, and the frame's shift; E counts filament
	planned     [4]float64 // where the moves lead
	relative    bool
	relativeE   bool
	homed       bool
	feed        float64
	fan         float64
	actual, set [2]float64 // nozzle and bed, °C
	speed, flow float64

	moved func(m move, from [4]float64) // tells a move that was made
}

type order struct {
	number int
	text   string
}

type move struct {
	order
	to    [4]float64
	takes time.Duration
}

func newPrinter() *printer {
	return &printer{actual: [2]float64{20, 20}, expects: 1, feed: 50, speed: 100, flow: 100}
}

// reset is what a power cut does: the head and the heat stay where they are.
func (p *printer) reset() {
	*p = printer{early: p.early, atOnce: p.atOnce, head: p.head, actual: p.actual, expects: 1, feed: 50, speed: 100, flow: 100, moved: p.moved}
	for i := range 3 {
		p.shift[i] = p.head[i] // it believes to be at zero
	}
	p.planned = p.head
	p.say("start")
}

func (p *printer) say(format string, args ...any) {
	p.out = append(fmt.Appendf(p.out, format, args...), '\n')
}

func (p *printer) receive(data []byte) {
	for _, b := range data {
		if b != '\n' {
			p.line = append(p.line, b)
			continue
		}
		text := string(p.line)
		p.line = p.line[:0]
		if text != "" && !p.dead {
			p.read(text)
		}
	}
}

// read takes a line: numbered and with a checksum, or neither.
func (p *printer) read(text string) {
	if strings.Contains(text, "M112") && (p.atOnce || text == "M112") {
		p.dead, p.set, p.queue, p.moves, p.fan = true, [2]float64{}, nil, nil, 0
		return
	}
	if p.atOnce && strings.Contains(text, "M108") {
		if p.wait != "" {
			p.wait = "broken off"
		}
	}
	if p.atOnce && strings.Contains(text, "M410") {
		if !p.early && len(p.moves) > 0 {
			p.say("ok")
		}
		p.moves, p.until = nil, 0
		p.planned = p.head
	}
	body, sum, summed := strings.Cut(text, "*")
	if !summed {
		if strings.HasPrefix(text, "N") {
			p.resend("No Checksum with line number")
			return
		}
		p.queue = append(p.queue, order{-1, text})
		return
	}
	x := byte(0)
	for _, b := range []byte(body) {
		x ^= b
	}
	word, rest, _ := strings.Cut(body, " ")
	number, err := strconv.Atoi(strings.TrimPrefix(word, "N"))
	switch {
	case strconv.Itoa(int(x)) != sum:
		p.resend("checksum mismatch")
	case !strings.HasPrefix(word, "N") || err != nil:
		p.resend("No Line Number with checksum")
	case strings.HasPrefix(rest, "M110"):
		p.expects = number + 1
		if n, is := words(rest)['N']; is {
			p.expects = int(n) + 1
		}
		p.say("ok")
	case number != p.expects:
		p.resend("Line Number is not Last Line Number+1")
	default:
		p.expects++
		p.queue = append(p.queue, order{number, rest})
	}
}

func (p *printer) resend(why string) {
	p.say("Error:%s, Last Line: %d", why, p.expects-1)
	p.say("Resend: %d", p.expects)
	p.say("ok")
}

// words are a command's, by letter.
func words(text string) map[byte]float64 {
	out := map[byte]float64{}
	for _, f := range strings.Fields(text)[1:] {
		v, err := strconv.ParseFloat(f[1:], 64)
		if err != nil {
			v = 0
		}
		out[f[0]] = v
	}
	return out
}

const planner = 8

// pass lets time pass up to now.
func (p *printer) pass(now, step time.Duration) {
	for i := range p.actual {
		p.actual[i] = min(p.actual[i]+40*step.Seconds(), max(p.actual[i]-5*step.Seconds(), p.set[i], 20))
	}
	if p.dead {
		return
	}
	for len(p.moves) > 0 && now >= p.until {
		m := p.moves[0]
		p.moves = p.moves[1:]
		from := p.head
		p.head = m.to
		p.moved(m, from)
		if len(p.moves) > 0 {
			p.until += p.moves[0].takes
		} else if !p.early {
			p.say("ok")
		}
	}
	for len(p.queue) > 0 && p.carryOut(now) {
		p.queue = p.queue[1:]
	}
}

// carryOut carries the next command out, and reports whether that is done.
func (p *printer) carryOut(now time.Duration) bool {
	if !p.early && len(p.moves) > 0 {
		return false
	}
	o := p.queue[0]
	code, _, _ := strings.Cut(o.text, " ")
	w := words(o.text)
	switch code {
	case "G0", "G1":
		if len(p.moves) >= planner {
			return false
		}
		m := move{order: o, to: p.planned}
		for i, letter := range []byte("XYZE") {
			v, is := w[letter]
			switch {
			case !is:
			case i < 3 && p.relative, i == 3 && (p.relative || p.relativeE):
				m.to[i] += v
			default:
				m.to[i] = v + p.shift[i]
			}
		}
		if f, is := w['F']; is {
			p.feed = f / 60
		}
		far := math.Hypot(math.Hypot(m.to[0]-p.planned[0], m.to[1]-p.planned[1]), m.to[2]-p.planned[2])
		far = max(far, math.Abs(m.to[3]-p.planned[3]))
		m.takes = time.Duration(far/max(p.feed, 1)*float64(time.Second)) + time.Millisecond
		if len(p.moves) == 0 {
			p.until = now + m.takes
		}
		p.moves, p.planned = append(p.moves, m), m.to
		if p.early {
			p.say("ok")
		}
		return true
	case "M109", "M190":
		i := 0
		if code == "M190" {
			i = 1
		}
		if p.wait == "" {
			p.set[i], p.wait = w['S'], code
			return false
		}
		if p.wait == code && p.actual[i] < p.set[i]-1 {
			return false
		}
		p.wait = ""
	case "G28", "M400", "M114", "G4":
		if len(p.moves) > 0 {
			return false
		}
	}
	p.set1(code, w)
	if code == "M114" {
		var at [4]float64
		for i := range at {
			at[i] = p.planned[i] - p.shift[i]
		}
		p.say("X:%.2f Y:%.2f Z:%.2f E:%.2f Count X:0 Y:0 Z:0", at[0], at[1], at[2], at[3])
	}
	if code == "M115" {
		p.say("FIRMWARE_NAME:Model 1 MACHINE_TYPE:Vesper EXTRUDER_COUNT:1")
		p.say("Cap:EMERGENCY_PARSER:%d", map[bool]int{true: 1}[p.atOnce])
	}
	if code == "M105" {
		p.say("ok T:%.1f /%.1f B:%.1f /%.1f", p.actual[0], p.set[0], p.actual[1], p.set[1])
	} else {
		p.say("ok")
	}
	return true
}

// set1 carries out what sets something at once.
func (p *printer) set1(code string, w map[byte]float64) {
	switch code {
	case "M104":
		p.set[0] = w['S']
	case "M140":
		p.set[1] = w['S']
	case "M106":
		p.fan = w['S']
	case "M107":
		p.fan = 0
	case "G90":
		p.relative, p.relativeE = false, false
	case "G91":
		p.relative, p.relativeE = true, true
	case "M82":
		p.relativeE = false
	case "M83":
		p.relativeE = true
	case "M220":
		p.speed = w['S']
	case "M221":
		p.flow = w['S']
	case "G28":
		_, x := w['X']
		_, y := w['Y']
		if !x && !y {
			p.planned, p.shift, p.homed = [4]float64{0, 0, 0, p.planned[3]}, [4]float64{3: p.shift[3]}, true
		} else {
			p.planned[0], p.planned[1], p.shift[0], p.shift[1] = 0, 0, 0, 0
		}
		p.head = p.planned
	case "G92":
		for i, letter := range []byte("XYZE") {
			if v, is := w[letter]; is {
				p.shift[i] = p.planned[i] - v
			}
		}
	}
}
