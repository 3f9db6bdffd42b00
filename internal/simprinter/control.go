package simprinter

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
)

// controls are what a person can do to a stand-in while it runs. Durations are
// real ones, such as 5s.
var controls = []struct {
	name, argument, use string
	do                  func(*Device, string) error
}{
	{"spoil", "N", "spoil about one byte in N, both ways; 0 is none", faults(func(f *Faults, n int) { f.Spoil = n })},
	{"lose", "N", "lose about one byte in N", faults(func(f *Faults, n int) { f.Lose = n })},
	{"double", "N", "double about one byte in N", faults(func(f *Faults, n int) { f.Double = n })},
	{"loosen", "TIME", "let nothing get through the cable for so long", lasting(func(d *Device, t time.Duration) { d.loose = d.now() + t })},
	{"pull", "[TIME]", "pull the cable out, and put it back after so long if that is given", (*Device).pullFor},
	{"plug", "", "put the cable back", func(d *Device, _ string) error { return d.plugIn() }},
	{"reset", "", "press the printer's reset button", func(d *Device, _ string) error { d.board.Reset(); return nil }},
	{"power", "off|on", "switch the printer's power", (*Device).power},
	{"stall", "TIME", "let the board do nothing at all for so long", lasting(func(d *Device, t time.Duration) { d.board.Stall(t) })},
	{"latency", "TIME", "let its converter gather bytes for so long", lasting(func(d *Device, t time.Duration) { d.cfg.Latency = time.Duration(float64(t) / d.cfg.Warp) })},
	{"break", "HEATER KIND", "break nozzle0 or bed: dead, stuck, weak 0.6 (the power left), loose 0.3 (the share not felt) or loose 0.3 10m (slowly), frozen, unplugged or shorted", (*Device).breakHeater},
	{"mend", "HEATER", "mend what was broken", func(d *Device, heater string) error { return d.breakHeater(heater + " well") }},
	{"block", "on|off", "let no plastic come out of the nozzle, or let it come again", (*Device).block},
	{"say", "TEXT", "let the printer say a line, such as //action:pause", func(d *Device, text string) error { d.board.say("%s", text); return nil }},
}

func faults(set func(*Faults, int)) func(*Device, string) error {
	return func(d *Device, argument string) error {
		n, err := strconv.Atoi(argument)
		if err != nil || n < 0 {
			return fmt.Errorf("%q is no number of bytes", argument)
		}
		set(&d.cable.ToBoard, n)
		set(&d.cable.ToHost, n)
		return nil
	}
}

func lasting(do func(*Device, time.Duration)) func(*Device, string) error {
	return func(d *Device, argument string) error {
		t, err := time.ParseDuration(argument)
		if err != nil || t < 0 {
			return fmt.Errorf("%q is no time: write it like 5s", argument)
		}
		do(d, time.Duration(float64(t)*d.cfg.Warp))
		return nil
	}
}

// Controls describes what Control does, one a line.
func Controls() string {
	var b strings.Builder
	for _, c := range controls {
		fmt.Fprintf(&b, "  %-18s %s\n", strings.TrimSpace(c.name+" "+c.argument), c.use)
	}
	return b.String()
}

// Control does one thing to the printer, such as "pull 5s".
func (d *Device) Control(line string) error {
	name, argument, _ := strings.Cut(strings.TrimSpace(line), " ")
	for _, c := range controls {
		if c.name == name {
			d.mu.Lock()
			defer d.mu.Unlock()
			defer d.stir()
			return c.do(d, strings.TrimSpace(argument))
		}
	}
	return fmt.Errorf("%q is nothing that can be done to it; these are:\n%s", name, Controls())
}

func (d *Device) pullFor(argument string) error {
	if d.port == nil {
		return errors.New("its cable is out already")
	}
	if argument != "" {
		t, err := time.ParseDuration(argument)
		if err != nil || t <= 0 {
			return fmt.Errorf("%q is no time: write it like 5s", argument)
		}
		d.plugAt = d.now() + time.Duration(float64(t)*d.cfg.Warp)
	}
	d.pull()
	return nil
}

// pull takes the port away; the board lives on.
func (d *Device) pull() {
	if d.port == nil {
		return
	}
	os.Remove(d.Path)
	d.port.close()
	d.port, d.ready = nil, false
	d.inward, d.onward = nil, nil
}

func (d *Device) plugIn() error {
	if d.port != nil {
		return errors.New("its cable is in already")
	}
	p, err := plug(d.Path)
	d.port = p
	return err
}

func (d *Device) power(argument string) error {
	switch argument {
	case "off":
		d.off = true
		d.board.kill("") // nobody hears it
		d.board.Output()
	case "on":
		if d.off {
			d.off = false
			d.board.Reset()
		}
	default:
		return fmt.Errorf("found %q: use power off or power on", argument)
	}
	return nil
}

// faultKinds are the faults by their names; those with true take an amount.
var faultKinds = map[string]struct {
	kind   FaultKind
	amount bool
}{"well": {Well, false}, "dead": {Dead, false}, "stuck": {Stuck, false}, "weak": {Weak, true}, "loose": {Loose, true}, "frozen": {Frozen, false}, "unplugged": {Unplugged, false}, "shorted": {Shorted, false}}

func (d *Device) breakHeater(argument string) error {
	words := strings.Fields(argument)
	if len(words) < 2 || words[0] != "nozzle0" && words[0] != "bed" {
		return fmt.Errorf("found %q: name a heater, nozzle0 or bed, and what is to happen to it, such as bed dead", argument)
	}
	fault, known := faultKinds[words[1]]
	if !known {
		return fmt.Errorf("a heater cannot be %q: use dead, stuck, weak, loose, frozen, unplugged or shorted", words[1])
	}
	f := HeaterFault{Kind: fault.kind}
	if fault.kind == Loose && len(words) == 4 {
		over, err := time.ParseDuration(words[3])
		if err != nil || over < 0 {
			return fmt.Errorf("%q is no time in which it slips: write it like 10m", words[3])
		}
		f.Over, words = over, words[:3]
	}
	switch {
	case fault.amount && len(words) == 3:
		share, err := strconv.ParseFloat(words[2], 64)
		if err != nil || !(share >= 0 && share <= 1) {
			return fmt.Errorf("%q is no share between 0 and 1", words[2])
		}
		f.Amount = share
	case fault.amount:
		return fmt.Errorf("say how %s, from 0 to 1, such as %s %s 0.5", words[1], words[0], words[1])
	case len(words) > 2:
		return fmt.Errorf("found %q behind %s, which takes nothing more", strings.Join(words[2:], " "), words[1])
	}
	d.board.Break(words[0] == "bed", f)
	return nil
}

func (d *Device) block(argument string) error {
	if argument != "on" && argument != "off" {
		return fmt.Errorf("found %q: use block on or block off", argument)
	}
	d.board.Block(argument == "on")
	return nil
}

// controlSuffix is what a stand-in's control socket has behind its port's path.
const controlSuffix = ".control"

// Listen takes commands for Control from other programs, at a socket beside the
// port, until the device is closed.
func (d *Device) Listen() error {
	path := d.Path + controlSuffix
	os.Remove(path)
	l, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("the control socket cannot be made: %w", err)
	}
	go func() {
		<-d.quit
		l.Close()
	}()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				c.SetDeadline(time.Now().Add(10 * time.Second))
				line, err := bufio.NewReader(c).ReadString('\n')
				if err != nil {
					return
				}
				if err := d.Control(line); err != nil {
					fmt.Fprintln(c, err)
				}
			}()
		}
	}()
	return nil
}

// Ask lets a stand-in that another program runs at path do something.
func Ask(path, line string) error {
	c, err := net.Dial("unix", path+controlSuffix)
	if err != nil {
		return fmt.Errorf("no stand-in runs at %s", path)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(10 * time.Second))
	fmt.Fprintln(c, line)
	var answer strings.Builder
	for s := bufio.NewScanner(c); s.Scan(); {
		fmt.Fprintln(&answer, s.Text())
	}
	if answer.Len() > 0 {
		return errors.New(strings.TrimSpace(answer.String()))
	}
	return nil
}
