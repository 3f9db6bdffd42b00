// Package simprinter is the stand-in printer: a made-up board, machine and pair
// of heaters at the other end of a pseudo-terminal that a serial library opens
// like a device.
//
// It paces bytes at the baud rate, holds them in a small receive buffer, checks
// line numbers and checksums, queues commands and moves as an open firmware
// does, moves with bounded acceleration and heats with the physics of a real
// heater. It records what it executed and where it laid plastic.
//
// Board is the whole of that in virtual time, without a goroutine or a clock.
// Device puts a Board on a pseudo-terminal. The package shares no code with the
// host: a mistake made on both sides of the cable would hide from every test.
package simprinter

import "time"

// Config describes a stand-in printer. The zero value of a field means its
// default, which the comment gives; Vesper returns the demo's printer.
type Config struct {
	Name          string     // machine type it reports; "Stand-in"
	Baud          int        // pace and expected rate of the cable; 0 is unpaced
	Warp          float64    // how much faster than real time its clock runs; 1
	Size          [3]float64 // travel of X, Y and Z in mm; 230, 230, 240
	ReceiveBuffer int        // bytes held before they are read; 128
	CommandSlots  int        // commands held before they are executed; 4
	PlannerSlots  int        // moves held before they are made; 16
	Latency       time.Duration
	Dialect       Dialect
	Faults        Faults // of the cable, in both directions, from the start
	KeepOnOpen    bool   // opening the port does not reset the board
	Mute          bool   // say nothing at all
	Rubbish       bool   // say noise, as at a wrong baud rate
	Seed          int64  // of every random number
	Record        bool   // keep what is executed
	Ambient       float64
	Nozzle, Bed   Heater
	House         House   // what the printer stands in
	Motion        Motion  // what its axes can do; a common machine with jerk
	Coldest       float64 // °C of the nozzle below which filament is not pushed; 0: it always is
}

// Heater is the physics and control of one heater.
type Heater struct {
	Power      float64       // W at full duty
	Capacity   float64       // J/K of the block or plate
	Element    float64       // J/K of the heating element itself
	Coupling   float64       // W/K from element to block
	Loss       float64       // W/K from the block to the room
	Draught    float64       // W/K more with the part fan at full speed
	SensorLag  time.Duration // time constant of the sensor
	Noise      float64       // standard deviation of a sample, K
	Quantum    float64       // step of the converter, K
	Max        float64       // the firmware stops above this, °C
	KP, KI, KD float64       // of the firmware's PID, in duty per K, per K·s, per K/s
	Functional float64       // K from the setpoint beyond which it is full on or off
	Feed       float64       // duty for each K that the setpoint is above the room, given beforehand
	Nature     Nature        // what real heaters have besides
}

// Vesper is the observatory's printer: 230 × 230 × 240 mm, one nozzle to 300 °C
// and a bed to 120 °C as the firmware bounds them.
func Vesper() Config {
	return Config{
		Name: "Vesper",
		Baud: 115200,
	}.withDefaults()
}

func (c Config) withDefaults() Config {
	if c.Name == "" {
		c.Name = "Stand-in"
	}
	if c.Warp == 0 {
		c.Warp = 1
	}
	if c.Size == ([3]float64{}) {
		c.Size = [3]float64{230, 230, 240}
	}
	if c.ReceiveBuffer == 0 {
		c.ReceiveBuffer = 128
	}
	if c.CommandSlots == 0 {
		c.CommandSlots = 4
	}
	if c.PlannerSlots == 0 {
		c.PlannerSlots = 16
	}
	if c.Motion.Laying == 0 {
		c.Motion = ordinary
	}
	if c.Latency == 0 {
		c.Latency = time.Millisecond
	}
	if c.Ambient == 0 {
		c.Ambient = 21.5
	}
	if c.Nozzle.Power == 0 {
		c.Nozzle = Heater{
			Power: 42, Capacity: 15, Element: 2.5, Coupling: 0.8, Loss: 0.105, Draught: 0.05,
			SensorLag: 1200 * time.Millisecond, Noise: 0.08, Quantum: 0.06, Max: 300,
			KP: 0.085, KI: 0.004, KD: 0.32, Functional: 10,
		}
	}
	if c.Bed.Power == 0 {
		c.Bed = Heater{
			Power: 240, Capacity: 640, Element: 90, Coupling: 18, Loss: 1.35, Draught: 0.06,
			SensorLag: 3 * time.Second, Noise: 0.03, Quantum: 0.05, Max: 120,
			KP: 0.32, KI: 0.006, KD: 2.4, Functional: 10,
		}
	}
	return c
}
