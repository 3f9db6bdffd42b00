package simprinter

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// An answer is something that every firmware says, and each in its own words.
type answer int

// The answers that firmwares word differently.
const (
	naming   answer = iota // how an ok names its line
	standing               // where the answer to a question stands: on its ok, before it, behind it
	plainly                // whose ok names no line although others do
	heaters                // readings of heaters
	place                  // where the head is
	identity               // the answer to M115
	request                // a line is wanted again
	amends                 // the ok after such a request
	repeated               // a line that came before came again
	refusal                // why a line was refused
	idling                 // nothing to do
	working                // a command takes its time
	rising                 // a line of a wait for heat
	unknown                // the command is not known
	failing                // the firmware has stopped
	storing                // an entry of the list of settings
	ending                 // what ends a line
	between                // what is said between two lines, asked by nobody
	answers
)

// wordings are the ways to say each, by their names: the first is what is said where
// nothing is chosen. A text is a format of what the answer has to tell; where the board
// does something else altogether there is the name alone.
var wordings = [answers]struct {
	key  string
	ways []wording
}{
	naming:   {"naming", []wording{{"none", ""}, {"full", " N%[1]d P%[2]d B%[3]d"}, {"line", " N%[1]d"}, {"bare", " %[1]d"}, {"room", " P%[2]d B%[3]d"}}},
	standing: {"standing", []wording{{"on-ok", ""}, {"before", ""}, {"behind", ""}}},
	plainly:  {"plainly", []wording{{"none", ""}, {"temperatures", ""}, {"questions", ""}, {"every-fifth", ""}}},
	heaters: {"heaters", []wording{
		{"plain", "T:%.2[1]f /%.2[2]f B:%.2[3]f /%.2[4]f"}, {"bed-first", "B:%.1[3]f /%.1[4]f T0:%.1[1]f /%.1[2]f"},
		{"several", "T:%.2[1]f /%.2[2]f B:%.2[3]f /%.2[4]f T0:%.2[1]f /%.2[2]f T1:24.10 /0.00"}, {"unspaced", "T:%.1[1]f/%.1[2]f B:%.1[3]f/%.1[4]f"},
		{"apart", "T: %.2[1]f / %.2[2]f B: %.2[3]f / %.2[4]f"}, {"whole", "T:%.0[1]f /%.0[2]f B:%.0[3]f /%.0[4]f"}, {"bare", "T:%.1[1]f B:%.1[3]f"},
		{"extruder", "T:%.1[1]f /%.1[2]f E:0 B:%.1[3]f /%.1[4]f"}, {"chamber", "T:%.2[1]f /%.2[2]f B:%.2[3]f /%.2[4]f C:24.00 /0.00 A:31.2"},
	}},
	place: {"place", []wording{
		{"spaced", "X:%.2[1]f Y:%.2[2]f Z:%.2[3]f E:%.2[4]f Count X:%[5]d Y:%[6]d Z:%[7]d"}, {"joined", "X:%.2[1]fY:%.2[2]fZ:%.2[3]fE:%.2[4]f Count X: %[5]d Y: %[6]d Z: %[7]d"},
		{"apart", "X: %.2[1]f Y: %.2[2]f Z: %.2[3]f E: %.2[4]f"}, {"counted", "X:%.3[1]f Y:%.3[2]f Z:%.3[3]f E:%.3[4]f E0:0.0 Count %[5]d %[6]d %[7]d Machine %.3[1]f %.3[2]f %.3[3]f"},
		{"named", "C: X:%.4[1]f Y:%.4[2]f Z:%.4[3]f E:%.4[4]f"},
	}},
	identity: {"identity", []wording{
		{"one-line", "FIRMWARE_NAME:Stand-in 1.0 PROTOCOL_VERSION:1.0 MACHINE_TYPE:%s EXTRUDER_COUNT:1 UUID:5e1f0000-0000-4000-8000-000000000001"},
		{"commas", "FIRMWARE_NAME:Stand-in, FIRMWARE_URL:none, PROTOCOL_VERSION:1.0, MACHINE_TYPE:%s, EXTRUDER_COUNT:1"},
		{"on-ok", "PROTOCOL_VERSION:0.1 FIRMWARE_NAME:Stand-in FIRMWARE_URL:none MACHINE_TYPE:%s EXTRUDER_COUNT:1"},
	}},
	request:  {"request", []wording{{"spaced", "Resend: %d"}, {"unspaced", "Resend:%d"}, {"short", "rs %d"}, {"short-n", "rs N%d"}, {"spaced-n", "Resend: N%d"}, {"small", "resend %d"}, {"reason", "rs N%d Expected checksum 25"}}},
	amends:   {"amends", []wording{{"plain", ""}, {"none", ""}, {"stale", ""}}},
	repeated: {"repeated", []wording{{"refused", ""}, {"skipped", "skip %d"}, {"skipped-named", "skip %d"}}},
	refusal:  {"refusal", []wording{{"last-line", "Error:%s, Last Line: %d"}, {"spaced", "Error: %s, Last Line: %d"}, {"plain", "Error:%[1]s"}, {"comment", "// %[1]s"}, {"none", ""}}},
	idling:   {"idling", []wording{{"nothing", ""}, {"wait", "wait"}, {"wait-blank", " wait "}}},
	working: {"working", []wording{
		{"echo", "echo:busy: processing"}, {"nothing", ""}, {"bare", "busy:processing"}, {"apart", "echo: busy: processing"}, {"person", "echo:busy: paused for user"}, {"dots", "."},
	}},
	rising: {"rising", []wording{{"unknown", " %s W:?"}, {"counting", "%s W:3"}, {"plain", "%s"}, {"extruder", "%s E:0 W:?"}, {"nothing", ""}}},
	unknown: {"unknown", []wording{
		{"quoted", "echo:Unknown command: %q"}, {"plain", "Unknown command: %s"}, {"comment", "// Unknown command:%q"}, {"code", "Error: Bad M-code %s"},
		{"unsupported", "%s: Command is not supported"}, {"error", "error:Unsupported command %q"}, {"nothing", ""},
	}},
	failing: {"failing", []wording{
		{"error", "Error:%s"}, {"spaced", "Error: %s Reset the controller to continue."}, {"shutdown", "!! Shutdown due to: %s"}, {"marks", "!!"}, {"fatal", "fatal:%s"},
	}},
	storing: {"storing", []wording{{"echo", "echo:%s"}, {"bare", "%s"}, {"comment", "// %s"}}},
	ending:  {"ending", []wording{{"lf", "\n"}, {"crlf", "\r\n"}, {"cr", "\r"}, {"blank", " \n"}, {"blank-lines", "\n\r\n"}}},
	between: {"between", []wording{{"nothing", ""}, {"comments", "// the fan of the board turns"}, {"echo", ""}, {"blank", " "}, {"brackets", "[notify: nothing]"}}},
}

// A wording is one way to say something.
type wording struct{ name, text string }

// Words are the chosen ways, by answer.
type Words [answers]uint8

// AnyWords draws a mix of them.
func AnyWords(rng *rand.Rand) Words {
	var w Words
	for a := range w {
		if rng.IntN(3) > 0 {
			w[a] = uint8(rng.IntN(len(wordings[a].ways)))
		}
	}
	return w
}

// String names what is not said as usual, as ParseDialect reads it.
func (w Words) String() string {
	var names []string
	for a, way := range w {
		if way > 0 {
			names = append(names, wordings[a].key+"="+wordings[a].ways[way].name)
		}
	}
	return strings.Join(names, ",")
}

// choose takes "key=name"; false if there is none.
func (w *Words) choose(key, name string) bool {
	for a := range wordings {
		if wordings[a].key != key {
			continue
		}
		way := slices.IndexFunc(wordings[a].ways, func(w wording) bool { return w.name == name })
		if way < 0 {
			return false
		}
		w[a] = uint8(way)
		return true
	}
	return false
}

// text is how something is said, and name what that is called.
func (w Words) text(a answer) string { return wordings[a].ways[w[a]].text }
func (w Words) name(a answer) string { return wordings[a].ways[w[a]].name }

// word says something in this firmware's words, or nothing, where it says nothing.
func (b *Board) word(a answer, args ...any) {
	if text := b.cfg.Dialect.Words.text(a); text != "" {
		b.say("%s", fill(text, args...))
	}
}

// fill is fmt.Sprintf for a format that need not use all that there is to tell.
func fill(format string, args ...any) string {
	text, _, _ := strings.Cut(fmt.Sprintf(format, args...), "%!(EXTRA")
	return text
}

// Wordings lists every choice, as ParseDialect reads it.
func Wordings() []string {
	var names []string
	for _, w := range wordings {
		for _, way := range w.ways {
			names = append(names, w.key+"="+way.name)
		}
	}
	return names
}
