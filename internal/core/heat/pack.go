package heat

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"slices"
	"sync"
	"time"
)

// Resolution is how exactly the log keeps when a reading was made.
const Resolution = time.Millisecond

// ErrPacked means that packed readings are damaged or not packed readings.
var ErrPacked = errors.New("these packed readings cannot be read")

// packVersion is the first byte of packed readings; spanVersion of packed spans.
const (
	packVersion = 1
	spanVersion = 2
)

// mostPacked bounds what is believed of a packed stretch's length.
const mostPacked = 1 << 20

// scales are the steps per unit in which values may be kept: the first is taken
// that holds every value exactly, or the last.
var (
	degreeScales = []float64{100, 1000, 10000, 1e6}
	dutyScales   = []float64{fullDuty, 100, 255, 10000, 1e6}
)

// Pack encodes a stretch of one heater's readings, the oldest first, without
// loss: times to Resolution, temperatures and duties as the firmware reports
// them. Each column is kept as differences, which are small, and deflated.
func Pack(samples []Sample) []byte {
	n := len(samples)
	times, actual := make([]int64, n), make([]float64, n)
	setpoints, duties := make([]float64, n), make([]float64, n)
	for i, s := range samples {
		times[i], actual[i] = s.At.UnixMilli(), s.Actual
		setpoints[i], duties[i] = math.NaN(), math.NaN()
		if s.HasSetpoint {
			setpoints[i] = s.Setpoint
		}
		if s.HasDuty {
			duties[i] = s.Duty
		}
	}
	var p packer
	p.head(packVersion, n)
	p.times(times)
	p.values(actual, degreeScales)
	p.runs(setpoints, degreeScales)
	p.values(duties, dutyScales)
	return p.sealed()
}

// Unpack decodes what Pack made of a heater's readings.
func Unpack(h Heater, data []byte) ([]Sample, error) {
	var out []Sample
	err := Each(h, data, func(s Sample) { out = append(out, s) })
	if out == nil {
		out = []Sample{}
	}
	return out, err
}

// Each calls f with every reading that Pack packed, or returns an error and has
// not called it.
func Each(h Heater, data []byte, f func(Sample)) error {
	u, n, err := open(packVersion, data)
	if err != nil {
		return err
	}
	times := u.times(n)
	actual := u.values(n, degreeScales)
	setpoints := u.runs(n, degreeScales)
	duties := u.values(n, dutyScales)
	if u.err != nil {
		return u.err
	}
	for i := range n {
		s := Sample{At: time.UnixMilli(times[i]).UTC(), Reading: Reading{Heater: h, Actual: actual[i]}}
		if !math.IsNaN(setpoints[i]) {
			s.Setpoint, s.HasSetpoint = setpoints[i], true
		}
		if !math.IsNaN(duties[i]) {
			s.Duty, s.HasDuty = duties[i], true
		}
		f(s)
	}
	return nil
}

// PackSpans encodes spans of one heater, the oldest first: times to Resolution,
// temperatures to 0.01 °C, duties to 0.01.
func PackSpans(spans []Span) []byte {
	n := len(spans)
	times, counts := make([]int64, n), make([]float64, n)
	var low, high, mean, setpoint, duty []float64
	hundredth := func(v float64) float64 { return math.Round(v*100) / 100 }
	for i, s := range spans {
		times[i], counts[i] = s.Begins.UnixMilli(), float64(s.Count)
		low, high, mean = append(low, hundredth(s.Mean-s.Low)), append(high, hundredth(s.High-s.Mean)), append(mean, hundredth(s.Mean))
		setpoint, duty = append(setpoint, hundredth(s.Setpoint)), append(duty, hundredth(s.Duty))
	}
	var p packer
	p.head(spanVersion, n)
	p.times(times)
	p.runs(counts, []float64{1})
	p.values(mean, degreeScales)
	p.values(low, degreeScales)
	p.values(high, degreeScales)
	p.runs(setpoint, degreeScales)
	p.values(duty, []float64{100})
	return p.sealed()
}

// UnpackSpans decodes what PackSpans made.
func UnpackSpans(data []byte) ([]Span, error) {
	u, n, err := open(spanVersion, data)
	if err != nil {
		return nil, err
	}
	times, counts := u.times(n), u.runs(n, []float64{1})
	mean, low, high := u.values(n, degreeScales), u.values(n, degreeScales), u.values(n, degreeScales)
	setpoint, duty := u.runs(n, degreeScales), u.values(n, []float64{100})
	if u.err != nil {
		return nil, u.err
	}
	out := make([]Span, n)
	for i := range out {
		out[i] = Span{Begins: time.UnixMilli(times[i]).UTC(), Count: int(counts[i]), Mean: mean[i], Low: mean[i] - low[i], High: mean[i] + high[i], Setpoint: setpoint[i], Duty: duty[i]}
	}
	return out, nil
}

// packer writes columns.
type packer struct {
	out    bytes.Buffer
	column []byte
}

func (p *packer) head(version byte, n int) {
	p.out.WriteByte(version)
	p.out.Write(binary.AppendUvarint(nil, uint64(n)))
}

// sealed returns all that was written with a checksum behind it.
func (p *packer) sealed() []byte {
	return binary.LittleEndian.AppendUint32(p.out.Bytes(), crc32.ChecksumIEEE(p.out.Bytes()))
}

// end deflates a column and writes it behind its length.
func (p *packer) end() {
	var small bytes.Buffer
	w, err := flate.NewWriter(&small, flate.BestCompression)
	if err == nil {
		w.Write(p.column)
		w.Close()
	}
	p.out.Write(binary.AppendUvarint(nil, uint64(small.Len())))
	p.out.Write(small.Bytes())
	p.column = p.column[:0]
}

// times writes what each step differs from the usual one.
func (p *packer) times(t []int64) {
	usual := int64(0)
	if len(t) > 1 {
		steps := make([]int64, len(t)-1)
		for i := range steps {
			steps[i] = t[i+1] - t[i]
		}
		slices.Sort(steps)
		usual = steps[len(steps)/2]
	}
	p.column = binary.AppendVarint(p.column, usual)
	last := int64(0)
	for i, at := range t {
		step := at - last
		if i > 0 {
			step -= usual
		}
		p.column = binary.AppendVarint(p.column, step)
		last = at
	}
	p.end()
}

// scaleOf picks the first scale that holds every value exactly.
func scaleOf(values []float64, scales []float64) int {
	for i, scale := range scales {
		if !slices.ContainsFunc(values, func(v float64) bool { return !math.IsNaN(v) && math.Round(v*scale)/scale != v }) {
			return i
		}
	}
	return len(scales) - 1
}

// values writes differences from the last value. NaN, which is no value, is an
// odd code, everything else an even one.
func (p *packer) values(values []float64, scales []float64) {
	at := scaleOf(values, scales)
	p.column = append(p.column, byte(at))
	last := int64(0)
	for _, v := range values {
		if math.IsNaN(v) {
			p.column = append(p.column, 1)
			continue
		}
		now := int64(math.Round(v * scales[at]))
		p.column = binary.AppendUvarint(p.column, zigzag(now-last)<<1)
		last = now
	}
	p.end()
}

// runs writes values that seldom change, each with how often it comes.
func (p *packer) runs(values []float64, scales []float64) {
	at := scaleOf(values, scales)
	p.column = append(p.column, byte(at))
	for i := 0; i < len(values); {
		n := i + 1
		for n < len(values) && (values[n] == values[i] || math.IsNaN(values[n]) && math.IsNaN(values[i])) {
			n++
		}
		p.column = binary.AppendUvarint(p.column, uint64(n-i))
		if math.IsNaN(values[i]) {
			p.column = append(p.column, 1)
		} else {
			p.column = binary.AppendUvarint(p.column, zigzag(int64(math.Round(values[i]*scales[at])))<<1)
		}
		i = n
	}
	p.end()
}

func zigzag(v int64) uint64   { return uint64(v<<1) ^ uint64(v>>63) }
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }

// unpacker reads columns. After an error every column is empty.
type unpacker struct {
	in     *bytes.Reader
	column []byte
	space  []byte // where columns are inflated to
	err    error
}

// open checks packed data and returns how long its columns are.
func open(version byte, data []byte) (*unpacker, int, error) {
	if len(data) < 6 || data[0] != version || crc32.ChecksumIEEE(data[:len(data)-4]) != binary.LittleEndian.Uint32(data[len(data)-4:]) {
		return nil, 0, fmt.Errorf("%w: %d bytes with a wrong checksum", ErrPacked, len(data))
	}
	u := &unpacker{in: bytes.NewReader(data[1 : len(data)-4])}
	n, err := binary.ReadUvarint(u.in)
	if err != nil || n > mostPacked {
		return nil, 0, fmt.Errorf("%w: %d of them", ErrPacked, n)
	}
	return u, int(n), nil
}

// begin inflates the next column of n values.
func (u *unpacker) begin(n int) {
	u.column = nil
	size, err := binary.ReadUvarint(u.in)
	if err != nil || size > uint64(u.in.Len()) {
		u.fail()
		return
	}
	in := inflaters.Get().(*inflater)
	defer inflaters.Put(in)
	in.packed.N, in.packed.R = int64(size), u.in
	in.Reset(&in.packed, nil)
	in.most.N, in.most.R = int64(n+2)*2*binary.MaxVarintLen64, in
	in.out.Reset()
	if _, err := in.out.ReadFrom(&in.most); err != nil {
		u.fail()
		return
	}
	u.column = append(u.space[:0], in.out.Bytes()...)
	u.space = u.column
}

// inflater is a reader of deflated columns with what it needs besides: made once,
// for it is large.
type inflater struct {
	io.Reader
	flate.Resetter
	packed, most io.LimitedReader
	out          bytes.Buffer
}

var inflaters = sync.Pool{New: func() any {
	r := flate.NewReader(bytes.NewReader(nil))
	return &inflater{Reader: r, Resetter: r.(flate.Resetter)}
}}

func (u *unpacker) fail() {
	u.column = nil
	if u.err == nil {
		u.err = fmt.Errorf("%w: a column ends early", ErrPacked)
	}
}

func (u *unpacker) uvarint() uint64 {
	v, n := binary.Uvarint(u.column)
	if n <= 0 {
		u.fail()
		return 0
	}
	u.column = u.column[n:]
	return v
}

func (u *unpacker) times(n int) []int64 {
	u.begin(n)
	out := make([]int64, n)
	usual := unzigzag(u.uvarint())
	last := int64(0)
	for i := range out {
		last += unzigzag(u.uvarint())
		if i > 0 {
			last += usual
		}
		out[i] = last
	}
	return out
}

// scale reads which of the scales a column is in.
func (u *unpacker) scale(scales []float64) float64 {
	if len(u.column) == 0 || int(u.column[0]) >= len(scales) {
		u.fail()
		return 1
	}
	at := u.column[0]
	u.column = u.column[1:]
	return scales[at]
}

func (u *unpacker) values(n int, scales []float64) []float64 {
	u.begin(n)
	scale := u.scale(scales)
	out := make([]float64, n)
	last := int64(0)
	for i := range out {
		code := u.uvarint()
		if code&1 != 0 {
			out[i] = math.NaN()
			continue
		}
		last += unzigzag(code >> 1)
		out[i] = float64(last) / scale
	}
	return out
}

func (u *unpacker) runs(n int, scales []float64) []float64 {
	u.begin(n)
	scale := u.scale(scales)
	out := make([]float64, 0, n)
	for len(out) < n && u.err == nil {
		times, code := u.uvarint(), u.uvarint()
		v := math.NaN()
		if code&1 == 0 {
			v = float64(unzigzag(code>>1)) / scale
		}
		if times == 0 || times > uint64(n-len(out)) {
			u.fail()
			return make([]float64, n)
		}
		for range times {
			out = append(out, v)
		}
	}
	return out[:n:n]
}
