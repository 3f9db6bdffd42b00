package heatlog

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"path/filepath"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/durable"
)

// tailSuffix ends the names of the files that hold what the store does not have
// yet. The names begin with the time of the first reading, so that they sort.
const tailSuffix = ".readings"

// recordSize is the length of one reading in a file, in bytes: a checksum of the
// rest, when in milliseconds since 1970, the heater, which fields it has, and the
// temperature, setpoint and duty as they were read.
const recordSize = 4 + 8 + 1 + 1 + 3*8

// The codes of heaters that are not nozzles.
const (
	codeBed     = 100
	codeChamber = 101
)

// tail is one such file.
type tail struct {
	log *durable.Log
	out []byte // queued
}

func newTail(dir string, first time.Time) *tail {
	path := ""
	for at := first.UnixMilli(); ; at++ {
		if path = filepath.Join(dir, fmt.Sprintf("%015d%s", at, tailSuffix)); !exists(path) {
			return &tail{log: durable.New(path, durable.Options{})}
		}
	}
}

// openTail reads a file up to its first damaged record, and lets it be written on
// from there.
func openTail(path string) ([]heat.Sample, *tail, error) {
	log, data, err := durable.Open(path, whole, durable.Options{})
	if err != nil {
		return nil, nil, fmt.Errorf("the temperature log on disk cannot be read: %w", err)
	}
	var samples []heat.Sample
	for ; len(data) > 0; data = data[recordSize:] {
		s, _ := record(data[:recordSize])
		samples = append(samples, s)
	}
	return samples, &tail{log: log}, nil
}

// whole tells a record that is not damaged.
func whole(data []byte) int {
	if len(data) < recordSize {
		return 0
	}
	if _, ok := record(data[:recordSize]); !ok {
		return 0
	}
	return recordSize
}

func (t *tail) queue(s heat.Sample) {
	at := len(t.out)
	code, flags := byte(codeBed), byte(0)
	if tool, nozzle := s.Heater.Tool(); nozzle {
		code = byte(tool)
	} else if s.Heater == heat.Chamber {
		code = codeChamber
	}
	if s.HasSetpoint {
		flags |= 1
	}
	if s.HasDuty {
		flags |= 2
	}
	t.out = append(t.out, 0, 0, 0, 0)
	t.out = binary.LittleEndian.AppendUint64(t.out, uint64(s.At.UnixMilli()))
	t.out = append(t.out, code, flags)
	for _, v := range []float64{s.Actual, s.Setpoint, s.Duty} {
		t.out = binary.LittleEndian.AppendUint64(t.out, math.Float64bits(v))
	}
	binary.LittleEndian.PutUint32(t.out[at:], crc32.ChecksumIEEE(t.out[at+4:]))
}

// record reads what queue wrote.
func record(b []byte) (heat.Sample, bool) {
	if crc32.ChecksumIEEE(b[4:]) != binary.LittleEndian.Uint32(b) {
		return heat.Sample{}, false
	}
	value := func(i int) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(b[14+8*i:])) }
	h := heat.NozzleOf(int(b[12]))
	switch b[12] {
	case codeBed:
		h = heat.Bed
	case codeChamber:
		h = heat.Chamber
	}
	return heat.Sample{At: time.UnixMilli(int64(binary.LittleEndian.Uint64(b[4:]))).UTC(), Reading: heat.Reading{
		Heater: h, Actual: value(0), Setpoint: value(1), Duty: value(2), HasSetpoint: b[13]&1 != 0, HasDuty: b[13]&2 != 0,
	}}, true
}

// take returns what is queued, to be written.
func (t *tail) take() []byte {
	out := t.out
	t.out = nil
	return out
}

// write puts bytes at the file's end. What the disk does not take is written with
// the next ones.
func (t *tail) write(out []byte, sync bool) error {
	if err := t.log.Append(out); err != nil || !sync {
		return err
	}
	return t.log.Sync()
}

// remove drops the file: the store has what it held.
func (t *tail) remove() { t.log.Remove() }
