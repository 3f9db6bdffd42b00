package gcode

import (
	"fmt"
	"strings"
)

// A Unit is what a parameter's value is counted in.
type Unit string

// The units, as they stand in the table below.
const (
	Celsius      Unit = "°C"
	Millimetres  Unit = "mm"
	Feed         Unit = "mm/min"
	Speed        Unit = "mm/s"
	Acceleration Unit = "mm/s²"
	Volume       Unit = "mm³/s"
	Seconds      Unit = "s"
	Milliseconds Unit = "ms"
	Percent      Unit = "%"
	Byte         Unit = "0-255"
	Hertz        Unit = "Hz"
	Degrees      Unit = "°"
	Milliamperes Unit = "mA"
	Steps        Unit = "steps/mm"
	Baud         Unit = "baud"
	Index        Unit = "index"  // of a tool, a pin, a heater
	Count        Unit = "count"  // how many
	Number       Unit = "number" // without a unit
	Switch       Unit = "0/1"
	Flag         Unit = "flag" // its letter is enough
)

// A Target is the heater that a temperature is for.
type Target string

// The targets.
const (
	Nozzle   Target = "nozzle" // of the tool that the command names, otherwise of the one in use
	Bed      Target = "bed"
	Chamber  Target = "chamber"
	Anywhere Target = "anywhere" // which one the firmware says
)

// A Parameter is one word of a command.
type Parameter struct {
	Letter byte
	Unit   Unit
	Of     Target // of a setpoint; empty for anything else
	Means  string // may be empty where letter and unit say it
}

// Parameters are the words of a command that the open firmwares share, in the order in
// which they are usually written.
func (c Code) Parameters() []Parameter { return parameters[Code{c.Letter, c.Number, 0}] }

// Setpoints are the parameters of a command that are setpoints.
func (c Code) Setpoints() []Parameter {
	if c.Traits()&Heats == 0 {
		return nil
	}
	return setpoints[Code{c.Letter, c.Number, 0}]
}

// Tools are the letters by which a command names a tool, the first that is given
// counting.
func (c Code) Tools() string { return tools[Code{c.Letter, c.Number, 0}] }

// words are the parameters: letters, a unit, what they mean; of a setpoint its target
// stands behind the unit, with a colon between.
var words = map[Code]string{
	{'G', 0, 0}:  "XYZ mm; E mm filament; F mm/min",
	{'G', 1, 0}:  "XYZ mm; E mm filament; F mm/min",
	{'G', 2, 0}:  "XYZ mm; IJK mm to the centre; R mm radius; P count whole turns; E mm filament; F mm/min",
	{'G', 3, 0}:  "XYZ mm; IJK mm to the centre; R mm radius; P count whole turns; E mm filament; F mm/min",
	{'G', 4, 0}:  "S s; P ms",
	{'G', 5, 0}:  "XY mm; IJPQ mm of the curve's handles; E mm filament; F mm/min",
	{'G', 10, 0}: "P index tool; R °C:nozzle standby; S °C:nozzle in use; XYZ mm offset; T index tool",
	{'G', 12, 0}: "P index pattern; S count strokes; R mm radius; T count triangles",
	{'G', 26, 0}: "B °C:bed; H °C:nozzle; C °C:chamber; T index tool; L mm layer; F mm filament's diameter; S mm nozzle's diameter; P mm to prime; Q number retraction; R count repeats; XY mm start",
	{'G', 27, 0}: "P index how Z moves",
	{'G', 28, 0}: "XYZ flag that axis; O flag only if its place is not known; R mm lifted before; L flag keep the mesh's state",
	{'G', 29, 0}: "P index phase; S number; F mm from the bed; L mm left; R mm right; B mm back; T flag tell; V index how much is told; A flag on; D flag off; J count points; H mm offset",
	{'G', 30, 0}: "XY mm; E flag raise the probe after",
	{'G', 33, 0}: "P count points; V index how much is told; F flag fast",
	{'G', 34, 0}: "S mA; Z mm; I count tries; T mm near enough; A number amplification",
	{'G', 42, 0}: "IJ index of the mesh; F mm/min; P flag with the probe",
	{'G', 60, 0}: "S index slot",
	{'G', 61, 0}: "S index slot; XYZE flag that axis; F mm/min",
	{'G', 76, 0}: "B flag bed; P flag probe",
	{'G', 92, 0}: "XYZ mm; E mm filament",

	{'M', 0, 0}:   "S s; P ms",
	{'M', 1, 0}:   "S s; P ms",
	{'M', 17, 0}:  "XYZE flag that motor",
	{'M', 18, 0}:  "S s from now; XYZE flag that motor",
	{'M', 25, 0}:  "P flag parked",
	{'M', 26, 0}:  "S number byte",
	{'M', 27, 0}:  "S s between reports; C flag name",
	{'M', 42, 0}:  "P index pin; S 0-255; I flag whatever the pin is for; M index mode; T index mode",
	{'M', 48, 0}:  "P count points; XY mm; V index how much is told; E flag raise between; L count legs",
	{'M', 73, 0}:  "P % done; R number minutes left",
	{'M', 84, 0}:  "S s from now; XYZE flag that motor",
	{'M', 85, 0}:  "S s",
	{'M', 92, 0}:  "XYZE steps/mm; T index tool",
	{'M', 104, 0}: "S °C:nozzle; R °C:nozzle; B °C:nozzle at most, where it follows the flow; F flag follow the flow; T index tool; I index material",
	{'M', 105, 0}: "T index tool; R flag spare sensor",
	{'M', 106, 0}: "S 0-255; P index fan; T number other speed",
	{'M', 107, 0}: "P index fan",
	{'M', 109, 0}: "S °C:nozzle wait to heat; R °C:nozzle wait to heat or cool; B °C:nozzle at most, where it follows the flow; F flag follow the flow; T index tool; I index material",
	{'M', 110, 0}: "N number line",
	{'M', 111, 0}: "S number bits",
	{'M', 113, 0}: "S s",
	{'M', 114, 0}: "D flag in detail; R flag as it is now; E flag extruder's",
	{'M', 118, 0}: "E flag as a message; A flag as an action; P index port",
	{'M', 125, 0}: "XYZ mm; L mm retraction; P flag with a question",
	{'M', 140, 0}: "S °C:bed; R °C:bed; P index bed; I index material",
	{'M', 141, 0}: "S °C:chamber; R °C:chamber",
	{'M', 143, 0}: "S °C highest; H index heater; P index heater",
	{'M', 145, 0}: "S index material; H °C:nozzle; B °C:bed; C °C:chamber; F 0-255 fan",
	{'M', 149, 0}: "C flag Celsius; F flag Fahrenheit; K flag kelvin",
	{'M', 150, 0}: "RUBWP 0-255; I index pixel; S index strip; K flag keep",
	{'M', 154, 0}: "S s",
	{'M', 155, 0}: "S s",
	{'M', 190, 0}: "S °C:bed wait to heat; R °C:bed wait to heat or cool; I index material",
	{'M', 191, 0}: "S °C:chamber wait to heat; R °C:chamber wait to heat or cool",
	{'M', 200, 0}: "D mm filament's diameter; S 0/1; T index tool; L mm³/s at most",
	{'M', 201, 0}: "XYZE mm/s²; F Hz; S % of it; T index tool",
	{'M', 203, 0}: "XYZE mm/s; T index tool",
	{'M', 566, 0}: "XYZE mm/min; P index how corners are taken",
	{'M', 204, 0}: "P mm/s² drawing; R mm/s² retraction; T mm/s² travel; S mm/s² drawing and travel",
	{'M', 205, 0}: "XYZE mm/s jerk; J mm junction deviation; B number µs of a move at least; S mm/s drawing at least; T mm/s travel at least",
	{'M', 206, 0}: "XYZ mm; P number; T number",
	{'M', 207, 0}: "S mm; W mm at a change of tools; F mm/min; Z mm lifted",
	{'M', 208, 0}: "S mm more; W mm more at a change of tools; F mm/min; R mm/min",
	{'M', 211, 0}: "S 0/1",
	{'M', 218, 0}: "T index tool; XYZ mm",
	{'M', 220, 0}: "S %; B flag remember; R flag as remembered",
	{'M', 221, 0}: "S %; T index tool",
	{'M', 226, 0}: "P index pin; S number state",
	{'M', 280, 0}: "P index servo; S ° or µs; T ms",
	{'M', 290, 0}: "Z mm; S mm; XY mm; P flag probe's offset, too; R flag report",
	{'M', 300, 0}: "S Hz; P ms",
	{'M', 301, 0}: "E index tool; P number; I number; D number; C number; L count; F number",
	{'M', 302, 0}: "S °C least; P 0/1 whatever it is",
	{'M', 303, 0}: "E index tool, -1 bed, -2 chamber; C count cycles; S °C:anywhere; U flag use it; H index heater; T index tool",
	{'M', 304, 0}: "P number; I number; D number",
	{'M', 306, 0}: "E index tool; T flag tune; P number power; C number capacity; R number response; A number transfer; F number transfer with fan; H number transfer by filament",
	{'M', 309, 0}: "P number; I number; D number",
	{'M', 355, 0}: "S 0/1; P 0-255",
	{'M', 401, 0}: "S 0/1; R flag stay down",
	{'M', 412, 0}: "S 0/1; R flag reset; D mm until it counts; H 0/1 by the host",
	{'M', 413, 0}: "S 0/1",
	{'M', 420, 0}: "S 0/1; L index slot; Z mm it fades out over; V flag tell; T index form; C flag centred",
	{'M', 421, 0}: "IJ index; XY mm; Z mm; Q mm more; C flag nearest; N flag none",
	{'M', 425, 0}: "XYZ mm; F number share; S mm smoothing",
	{'M', 540, 0}: "S 0/1 abort",
	{'M', 568, 0}: "P index tool; R °C:nozzle standby; S °C:nozzle in use; A index state; T index tool",
	{'M', 569, 0}: "S 0/1; XYZE flag that motor; T index tool",
	{'M', 572, 0}: "S s; D index tool",
	{'M', 575, 0}: "P index port; B baud",
	{'M', 593, 0}: "F Hz; D number damping; XY flag that axis",
	{'M', 600, 0}: "T index tool; E mm retraction; U mm unloaded; L mm loaded; XYZ mm; B count beeps; R °C:nozzle",
	{'M', 603, 0}: "T index tool; U mm unloaded; L mm loaded",
	{'M', 605, 0}: "S index mode; X mm; R °C more; P index",
	{'M', 665, 0}: "H mm; L mm; R mm; S number; XYZ mm; A number; B number; C number",
	{'M', 666, 0}: "XYZ mm",
	{'M', 701, 0}: "T index tool; L mm; Z mm lifted",
	{'M', 702, 0}: "T index tool; U mm; Z mm lifted",
	{'M', 851, 0}: "XYZ mm",
	{'M', 876, 0}: "S index answer; P number",
	{'M', 900, 0}: "K s; L s; S index slot; T index tool",
	{'M', 906, 0}: "XYZE mA; T index tool",
	{'M', 907, 0}: "XYZE mA; S mA",
	{'M', 913, 0}: "XYZE mm/s; T index tool",
	{'M', 914, 0}: "XYZ number; T index tool",
}

var (
	parameters = map[Code][]Parameter{}
	setpoints  = map[Code][]Parameter{}
	tools      = map[Code]string{}
)

func init() {
	for code, text := range words {
		for _, item := range strings.Split(text, "; ") {
			letters, rest, _ := strings.Cut(item, " ")
			unit, means, _ := strings.Cut(rest, " ")
			unit, of, _ := strings.Cut(unit, ":")
			if letters == "" || unit == "" {
				panic(fmt.Sprintf("the parameters of %s cannot be read at %q", code, item))
			}
			for _, letter := range []byte(letters) {
				p := Parameter{letter, Unit(unit), Target(of), means}
				parameters[code] = append(parameters[code], p)
				if of != "" {
					setpoints[code] = append(setpoints[code], p)
				}
				if p.Unit == Index && strings.HasPrefix(means, "tool") {
					tools[code] += string(letter)
				}
			}
		}
	}
}
