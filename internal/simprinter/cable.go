package simprinter

import (
	"bytes"
	"math/rand/v2"
	"strconv"
)

// Faults are what happens to bytes on a cable: about one in so many is spoiled,
// lost or doubled; 0 is never.
type Faults struct {
	Spoil, Lose, Double int
}

func (f Faults) any() bool { return f.Spoil > 0 || f.Lose > 0 || f.Double > 0 }

// cleanBytes is how many bytes are spared after a fault. Two flips of the same
// bit in one line cancel out in the trade's checksum: no host could notice them.
const cleanBytes = 96

// rememberedLines is how many lines a Cable remembers, to know what it may
// deliver.
const rememberedLines = 64

// A Cable carries bytes between a host and a board and spoils some of them.
type Cable struct {
	ToBoard, ToHost Faults

	rng        *rand.Rand
	clean      [2]int // bytes that are spared still, for each direction
	remembered [rememberedLines][]byte
	next       int
	open       bool // the last bytes towards the board had no line end
}

// NewCable returns a cable without faults.
func NewCable(seed int64) *Cable {
	return &Cable{rng: rand.New(rand.NewPCG(uint64(seed), 0xcab1e))}
}

// Up carries bytes to the board. A spoiled line that the trade's checksum would
// let pass is delivered whole instead: nobody could do anything about it.
func (c *Cable) Up(data []byte) []byte {
	for line := range bytes.Lines(data) {
		c.remembered[c.next%rememberedLines] = bytes.TrimSpace(line)
		c.next++
	}
	whole := !c.open && bytes.HasSuffix(data, []byte("\n"))
	c.open = !bytes.HasSuffix(data, []byte("\n"))
	if !whole {
		return data
	}
	out := c.mangle(data, c.ToBoard, &c.clean[0])
	if len(out) == len(data) && bytes.Equal(out, data) {
		return data
	}
	if !bytes.HasSuffix(out, []byte("\n")) {
		c.open = true
	}
	for line := range bytes.Lines(out) {
		if line = bytes.TrimSpace(line); passes(line) && !c.known(line) {
			return data
		}
	}
	return out
}

// Down carries bytes to the host.
func (c *Cable) Down(data []byte) []byte { return c.mangle(data, c.ToHost, &c.clean[1]) }

func (c *Cable) mangle(data []byte, f Faults, clean *int) []byte {
	if !f.any() {
		return data
	}
	out := make([]byte, 0, len(data)+8)
	happens := func(every int) bool {
		if every <= 0 || *clean > 0 || c.rng.IntN(every) > 0 {
			return false
		}
		*clean = cleanBytes
		return true
	}
	for _, b := range data {
		*clean--
		switch {
		case happens(f.Lose):
		case happens(f.Double):
			out = append(out, b, b)
		case happens(f.Spoil):
			out = append(out, b^1<<c.rng.IntN(7))
		default:
			out = append(out, b)
		}
	}
	return out
}

func (c *Cable) known(line []byte) bool {
	for _, k := range c.remembered {
		if bytes.Equal(k, line) {
			return true
		}
	}
	return false
}

// passes reports whether a line's checksum is right.
func passes(line []byte) bool {
	star := bytes.LastIndexByte(line, '*')
	if star < 0 || line[0] != 'N' {
		return false
	}
	var sum byte
	for _, b := range line[:star] {
		sum ^= b
	}
	want, err := strconv.Atoi(string(bytes.TrimSpace(line[star+1:])))
	return err == nil && want == int(sum)
}
