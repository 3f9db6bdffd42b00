package heat

import "time"

// ChunkLength is the longest stretch of time that goes into one chunk.
const ChunkLength = time.Hour

// A Chunk is a packed stretch of one heater's readings.
type Chunk struct {
	Heater       Heater
	Begins, Ends time.Time // of its first reading and its last
	Sum          Span      // of all of it
	Minutes      []byte    // packed spans
	Data         []byte    // packed readings
}

// ChunkOf packs a heater's readings, the oldest first, of which there must be
// some.
func ChunkOf(samples []Sample) Chunk {
	spans := SpansOf(samples)
	return Chunk{
		Heater: samples[0].Heater, Begins: samples[0].At, Ends: samples[len(samples)-1].At, Sum: Sum(spans),
		Minutes: PackSpans(Rollup(spans, time.Minute)), Data: Pack(samples),
	}
}
