package gcode

import "fmt"

// A Code names a command: G29.1 is {'G', 29, 1}.
type Code struct {
	Letter      byte
	Number, Sub int
}

// Is reports whether the code has that letter and number, whatever its sub-number.
func (c Code) Is(letter byte, number int) bool { return c.Letter == letter && c.Number == number }

func (c Code) String() string {
	if c.Sub > 0 {
		return fmt.Sprintf("%c%d.%d", c.Letter, c.Number, c.Sub)
	}
	return fmt.Sprintf("%c%d", c.Letter, c.Number)
}

// Traits are what a command does, as far as a host must know.
type Traits uint32

// The traits of a command.
const (
	Known     Traits = 1 << iota // it is in the catalogue
	Heats                        // gives a heater a setpoint, or lets it heat
	Gives                        // gives one heater its setpoint and nothing else: S, or R where that is more
	Awaits                       // waits until a heater is there: behind it nothing is said that needs the heat
	Moves                        // moves an axis, or what moves mean afterwards
	Counts                       // changes the count of lines, or where lines go
	Stores                       // writes, forgets or loads settings that outlast a restart
	Sets                         // changes a setting until the next restart
	Stops                        // stops the firmware or what it does, at once
	Pauses                       // waits for a person
	Yields                       // a host can wait in its place, unless a parameter says what it waits for
	Prints                       // starts a file or a list of commands that the host has not read
	Slow                         // is acknowledged only when it is done, which may take minutes
	Aside                        // may be said while a run goes on: it changes heat, fan, speed or flow, asks, or shows
	Unsettles                    // the printer would not find back to a place it was at before
	Text                         // what follows is text, not words
	Stranger                     // in a file it is a surprise that a person should know of
	Ruins                        // in a file it would spoil the print or the printer
)

// Touches are the traits that make a command more than a question or a message.
const Touches = Heats | Moves | Counts | Stores | Sets | Stops | Pauses | Prints

// A Meaning is what is known of a command that the open firmwares share.
type Meaning struct {
	Traits Traits
	Does   string // in words: "moves in a straight line"
}

// commands is the catalogue. What is not in it may be anything.
var commands = map[Code]Meaning{
	{'G', 0, 0}:  {Moves, "moves in a straight line"},
	{'G', 1, 0}:  {Moves, "moves in a straight line"},
	{'G', 2, 0}:  {Moves, "moves in an arc, clockwise"},
	{'G', 3, 0}:  {Moves, "moves in an arc, counterclockwise"},
	{'G', 4, 0}:  {Moves | Slow, "waits for a time"},
	{'G', 5, 0}:  {Moves, "moves along a curve"},
	{'G', 6, 0}:  {Moves, "moves the motors directly"},
	{'G', 10, 0}: {Moves | Heats, "draws filament back, or sets a tool's offset and temperatures"},
	{'G', 11, 0}: {Moves, "pushes filament back"},
	{'G', 12, 0}: {Moves | Slow, "cleans the nozzle"},
	{'G', 17, 0}: {Moves, "chooses the plane of arcs"},
	{'G', 18, 0}: {Moves, "chooses the plane of arcs"},
	{'G', 19, 0}: {Moves, "chooses the plane of arcs"},
	{'G', 20, 0}: {Moves, "takes numbers as inches"},
	{'G', 21, 0}: {Moves, "takes numbers as millimetres"},
	{'G', 26, 0}: {Moves | Heats | Awaits | Slow, "draws a test of the bed mesh, with its own heat"},
	{'G', 27, 0}: {Moves | Unsettles, "parks the nozzle"},
	{'G', 28, 0}: {Moves | Slow | Unsettles, "homes"},
	{'G', 29, 0}: {Moves | Slow | Unsettles, "measures the bed"},
	{'G', 30, 0}: {Moves | Slow | Unsettles, "probes one point"},
	{'G', 32, 0}: {Moves | Slow | Unsettles, "measures the bed"},
	{'G', 33, 0}: {Moves | Slow | Unsettles, "calibrates the machine"},
	{'G', 34, 0}: {Moves | Slow | Unsettles, "aligns the gantry"},
	{'G', 35, 0}: {Moves | Slow | Unsettles, "helps to tram the bed"},
	{'G', 38, 0}: {Moves | Slow | Unsettles, "probes"},
	{'G', 42, 0}: {Moves, "moves to a point of the mesh"},
	{'G', 53, 0}: {Moves, "moves in the machine's own frame"},
	{'G', 54, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 55, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 56, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 57, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 58, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 59, 0}: {Moves | Unsettles, "chooses a frame"},
	{'G', 60, 0}: {Moves, "remembers a place"},
	{'G', 61, 0}: {Moves, "goes back to a place"},
	{'G', 76, 0}: {Moves | Heats | Slow | Unsettles, "calibrates the probe's temperature"},
	{'G', 80, 0}: {Moves | Slow, "ends a cycle, or measures the bed"},
	{'G', 90, 0}: {Moves, "takes coordinates as absolute"},
	{'G', 91, 0}: {Moves, "takes coordinates as relative"},
	{'G', 92, 0}: {Moves, "redefines the place"},

	{'M', 0, 0}:   {Pauses | Yields | Slow | Text, "waits for a person"},
	{'M', 1, 0}:   {Pauses | Yields | Slow | Text, "waits for a person"},
	{'M', 16, 0}:  {Known | Text, "checks the printer's name"},
	{'M', 17, 0}:  {Moves, "switches the motors on"},
	{'M', 18, 0}:  {Moves | Unsettles, "switches the motors off"},
	{'M', 20, 0}:  {Known | Text, "lists the printer's own files"},
	{'M', 21, 0}:  {Sets, "opens the printer's own card"},
	{'M', 22, 0}:  {Sets, "closes the printer's own card"},
	{'M', 23, 0}:  {Prints | Text | Stranger, "opens a file on the printer's own card"},
	{'M', 24, 0}:  {Prints | Unsettles | Stranger | Ruins, "prints a file from the printer's own card"},
	{'M', 25, 0}:  {Pauses | Yields, "pauses"},
	{'M', 26, 0}:  {Prints | Stranger, "moves about in a file on the printer's own card"},
	{'M', 27, 0}:  {Known, "asks how far a file on the printer's own card has come"},
	{'M', 28, 0}:  {Counts | Text | Stranger | Ruins, "writes everything that follows into a file instead of carrying it out"},
	{'M', 29, 0}:  {Counts | Stranger | Ruins, "ends writing into a file"},
	{'M', 30, 0}:  {Prints | Text | Stranger, "deletes a file on the printer's own card, or ends the program"},
	{'M', 32, 0}:  {Prints | Text | Unsettles | Stranger | Ruins, "prints a file from the printer's own card"},
	{'M', 33, 0}:  {Known | Text, "asks for a file's long name"},
	{'M', 36, 0}:  {Known | Text, "asks for a file's facts"},
	{'M', 38, 0}:  {Known | Text, "asks for a file's digest"},
	{'M', 42, 0}:  {Sets | Heats, "switches a pin, which may be a heater's"},
	{'M', 48, 0}:  {Moves | Slow | Unsettles, "measures the probe"},
	{'M', 73, 0}:  {Known, "shows the progress"},
	{'M', 75, 0}:  {Known, "starts the print clock"},
	{'M', 76, 0}:  {Known, "pauses the print clock"},
	{'M', 77, 0}:  {Known, "stops the print clock"},
	{'M', 78, 0}:  {Known, "asks for the print statistics"},
	{'M', 80, 0}:  {Sets, "switches the power supply on"},
	{'M', 81, 0}:  {Stops | Unsettles, "switches the power supply off"},
	{'M', 82, 0}:  {Moves, "takes E as absolute"},
	{'M', 83, 0}:  {Moves, "takes E as relative"},
	{'M', 84, 0}:  {Moves | Unsettles, "switches the motors off"},
	{'M', 85, 0}:  {Sets, "sets after how long the printer turns itself off"},
	{'M', 92, 0}:  {Sets | Moves | Unsettles | Stranger, "changes the steps for a millimetre"},
	{'M', 98, 0}:  {Prints | Text | Unsettles | Stranger, "runs a list of commands that this host has not read"},
	{'M', 104, 0}: {Heats | Gives | Aside, "sets the nozzle's setpoint"},
	{'M', 105, 0}: {Known | Aside, "asks for the temperatures"},
	{'M', 106, 0}: {Known | Aside, "sets a fan"},
	{'M', 107, 0}: {Known | Aside, "turns a fan off"},
	{'M', 108, 0}: {Stops, "breaks off a wait"},
	{'M', 109, 0}: {Heats | Gives | Awaits | Slow, "sets the nozzle's setpoint and waits for it"},
	{'M', 110, 0}: {Counts | Stranger | Ruins, "sets the line number, which this host keeps"},
	{'M', 111, 0}: {Sets, "sets what the firmware tells of itself"},
	{'M', 112, 0}: {Stops | Unsettles | Stranger | Ruins, "is the emergency stop"},
	{'M', 113, 0}: {Sets, "sets how often the firmware says that it is busy"},
	{'M', 114, 0}: {Known | Aside, "asks for the place"},
	{'M', 115, 0}: {Known | Aside | Text, "asks for the firmware"},
	{'M', 116, 0}: {Awaits | Slow | Heats, "waits for every heater"},
	{'M', 117, 0}: {Known | Aside | Text, "shows a message"},
	{'M', 118, 0}: {Known | Aside | Text, "says a message"},
	{'M', 119, 0}: {Known | Aside, "asks for the endstops"},
	{'M', 125, 0}: {Moves | Pauses | Slow, "parks the nozzle and waits"},
	{'M', 140, 0}: {Heats | Gives | Aside, "sets the bed's setpoint"},
	{'M', 141, 0}: {Heats | Gives | Aside, "sets the chamber's setpoint"},
	{'M', 143, 0}: {Sets | Heats | Stranger, "sets the highest temperature"},
	{'M', 144, 0}: {Heats | Sets, "puts the bed to its standby temperature"},
	{'M', 145, 0}: {Sets | Heats, "sets the preheat temperatures"},
	{'M', 149, 0}: {Sets | Heats | Stranger, "changes the unit of temperatures"},
	{'M', 150, 0}: {Known | Aside, "sets a light"},
	{'M', 154, 0}: {Known | Aside, "sets how often the place is reported"},
	{'M', 155, 0}: {Known | Aside, "sets how often the temperatures are reported"},
	{'M', 190, 0}: {Heats | Gives | Awaits | Slow, "sets the bed's setpoint and waits for it"},
	{'M', 191, 0}: {Heats | Gives | Awaits | Slow, "sets the chamber's setpoint and waits for it"},
	{'M', 192, 0}: {Awaits | Slow | Heats, "waits for the probe's temperature"},
	{'M', 200, 0}: {Sets | Moves, "sets the filament's diameter, so that E is a volume"},
	{'M', 201, 0}: {Sets | Moves, "sets the highest accelerations"},
	{'M', 203, 0}: {Sets | Moves, "sets the highest speeds"},
	{'M', 204, 0}: {Sets | Moves, "sets the accelerations"},
	{'M', 205, 0}: {Sets | Moves, "sets how corners are taken"},
	{'M', 206, 0}: {Sets | Moves | Unsettles | Stranger, "moves the home position"},
	{'M', 207, 0}: {Sets | Moves, "sets the firmware's retraction"},
	{'M', 208, 0}: {Sets | Moves, "sets the firmware's retraction, or the ends of the axes"},
	{'M', 211, 0}: {Sets | Moves | Stranger, "turns the ends of the axes on or off"},
	{'M', 218, 0}: {Sets | Moves, "sets a tool's offset"},
	{'M', 220, 0}: {Known | Aside, "sets the speed"},
	{'M', 221, 0}: {Known | Aside, "sets the flow"},
	{'M', 226, 0}: {Pauses | Yields | Slow, "waits for a pin or a person"},
	{'M', 280, 0}: {Moves, "moves a servo"},
	{'M', 290, 0}: {Known | Aside, "moves the first layer's height a little"},
	{'M', 300, 0}: {Known | Aside, "plays a tone"},
	{'M', 301, 0}: {Sets | Heats | Stranger, "changes the nozzle's control"},
	{'M', 302, 0}: {Sets | Heats | Stranger, "lets cold filament be pushed"},
	{'M', 303, 0}: {Heats | Sets | Slow | Stranger, "tunes a heater's control"},
	{'M', 304, 0}: {Sets | Heats | Stranger, "changes the bed's control"},
	{'M', 305, 0}: {Sets | Heats | Stranger, "changes a temperature sensor"},
	{'M', 306, 0}: {Heats | Sets | Slow | Stranger, "changes or tunes a heater's model"},
	{'M', 307, 0}: {Heats | Sets | Stranger, "changes a heater's model"},
	{'M', 308, 0}: {Heats | Sets | Stranger, "changes a temperature sensor"},
	{'M', 309, 0}: {Sets | Heats | Stranger, "changes the chamber's control"},
	{'M', 355, 0}: {Known | Aside, "sets the light of its case"},
	{'M', 400, 0}: {Known | Slow, "waits until nothing moves"},
	{'M', 401, 0}: {Moves, "lowers the probe"},
	{'M', 402, 0}: {Moves, "raises the probe"},
	{'M', 410, 0}: {Stops | Moves | Unsettles, "drops the moves that are planned"},
	{'M', 412, 0}: {Sets, "turns the filament sensor on or off"},
	{'M', 413, 0}: {Sets | Stores | Stranger, "turns the firmware's own recovery on or off"},
	{'M', 420, 0}: {Sets | Moves, "turns the bed mesh on or off"},
	{'M', 421, 0}: {Sets | Moves, "changes the bed mesh"},
	{'M', 425, 0}: {Sets | Moves, "sets the backlash"},
	{'M', 428, 0}: {Sets | Moves | Unsettles, "takes the place for home"},
	{'M', 486, 0}: {Known | Text, "names an object"},
	{'M', 500, 0}: {Stores | Stranger, "stores the settings for good"},
	{'M', 501, 0}: {Stores | Moves | Unsettles | Stranger, "loads the stored settings"},
	{'M', 502, 0}: {Stores | Moves | Unsettles | Stranger | Ruins, "takes all settings back to those the firmware was built with"},
	{'M', 503, 0}: {Known | Aside, "asks for the settings"},
	{'M', 504, 0}: {Known, "checks the stored settings"},
	{'M', 510, 0}: {Stops | Stores | Stranger | Ruins, "locks the printer"},
	{'M', 512, 0}: {Stores | Stranger | Ruins, "changes the printer's passcode"},
	{'M', 540, 0}: {Sets, "sets what an endstop does"},
	{'M', 566, 0}: {Sets | Moves, "sets by how much speeds may change at once"},
	{'M', 568, 0}: {Heats, "sets a tool's temperatures"},
	{'M', 569, 0}: {Sets, "sets a motor driver"},
	{'M', 572, 0}: {Sets, "sets the pressure advance"},
	{'M', 575, 0}: {Counts | Sets | Stranger | Ruins, "changes the baud rate"},
	{'M', 593, 0}: {Sets, "sets the input shaping"},
	{'M', 600, 0}: {Moves | Pauses | Heats | Slow, "changes the filament"},
	{'M', 601, 0}: {Moves | Pauses | Slow, "pauses"},
	{'M', 602, 0}: {Moves | Pauses | Slow, "resumes"},
	{'M', 603, 0}: {Sets, "sets how filament is changed"},
	{'M', 605, 0}: {Sets | Moves, "sets how two nozzles work together"},
	{'M', 665, 0}: {Sets | Moves | Unsettles | Stranger, "changes the geometry of the machine"},
	{'M', 666, 0}: {Sets | Moves | Unsettles | Stranger, "changes the endstops' offsets"},
	{'M', 701, 0}: {Moves | Heats | Slow, "loads filament"},
	{'M', 702, 0}: {Moves | Heats | Slow, "unloads filament"},
	{'M', 703, 0}: {Prints | Text, "runs a filament's list of commands"},
	{'M', 851, 0}: {Sets | Moves | Unsettles | Stranger, "changes the probe's offset"},
	{'M', 862, 0}: {Known | Text, "checks that the file is for this printer"},
	{'M', 876, 0}: {Stops, "answers a question of the printer's"},
	{'M', 900, 0}: {Sets, "sets the linear advance"},
	{'M', 906, 0}: {Sets, "sets the motors' current"},
	{'M', 907, 0}: {Sets, "sets the motors' current"},
	{'M', 913, 0}: {Sets, "sets a motor driver"},
	{'M', 914, 0}: {Sets, "sets a motor driver"},
	{'M', 928, 0}: {Counts | Text | Stranger | Ruins, "writes everything that follows into a file"},
	{'M', 997, 0}: {Stores | Stops | Unsettles | Slow | Stranger | Ruins, "writes a new firmware"},
	{'M', 998, 0}: {Stops | Unsettles | Stranger | Ruins, "restarts the firmware"},
	{'M', 999, 0}: {Stops | Unsettles | Stranger | Ruins, "restarts the firmware"},
}

// motions are the traits of the G commands, of which nearly every line is one.
var motions = func() (out [128]Traits) {
	for code, meaning := range commands {
		if code.Letter == 'G' && code.Number < len(out) {
			out[code.Number] = meaning.Traits | Known
		}
	}
	return out
}()

// Look returns what is known of a command. Of one with a sub-number that is what
// is known of it without.
func (c Code) Look() Meaning {
	if c.Letter == 'T' {
		return Meaning{Known | Moves | Slow | Unsettles, "changes the tool"}
	}
	m, known := commands[Code{c.Letter, c.Number, 0}]
	if known {
		m.Traits |= Known
	}
	return m
}

// Traits are what a command does; 0 for one that is not in the catalogue.
func (c Code) Traits() Traits {
	if c.Letter == 'G' && c.Number < len(motions) {
		return motions[c.Number]
	}
	return c.Look().Traits
}
