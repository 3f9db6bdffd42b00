package wire

// window decides how many bytes may be under way. It knows what the printer can
// hold, as far as that is known, and steps back when lines get lost.
//
// The printer reads lines out of its receive buffer as long as it has a free
// command slot, so that the oldest lines under way, one for each slot, are out of
// the buffer.
//
// A firmware that refuses a line drops what is in its receive buffer, and with it
// the beginning of a line that is just arriving. Most firmwares refuse the rest
// of that line, which has a checksum and no number. Some carry it out: with those
// only one line may be under way.
type window struct {
	single  bool
	early   bool // an ok says only that a line is out of the receive buffer
	careful bool // the firmware refuses the rest of a line whose beginning it lost
	room    int  // bytes of the receive buffer that lines may fill
	slots   int  // lines that are out of the buffer already
	top     int  // room that has been found to hold; at most room
	narrow  int  // lines still to be taken one at a time after a loss
	falls   int  // losses of late: each doubles the lines taken one at a time
	calm    int  // lines taken since the window was last opened
	seen    int  // the highest number of free slots the printer has told
	times   int  // how often
}

// AssumedBuffer is how many bytes every board's receive buffer holds.
const AssumedBuffer = 64

const (
	reserve      = 21 // bytes kept free for a question and a halt
	narrowFor    = 32 // lines taken one at a time after a first loss
	mostFalls    = 10
	forgiveAfter = 2000 // lines taken with an open window that make up for one loss
	soonAfter    = 300  // a loss within so many lines of the opening speaks of too wide a window
	believeAfter = 3    // replies have no checksum, so that one number alone is not believed
	mostSlots    = 64
)

func newWindow(c Config) window {
	w := window{single: c.Single}
	w.learn(max(c.Buffer, 0), c.Slots)
	if c.Buffer == 0 {
		w.learn(AssumedBuffer, c.Slots)
	}
	return w
}

// learn takes what is known of the printer; 0 leaves it as it is.
func (w *window) learn(buffer, slots int) {
	if buffer > 0 {
		w.room = max(buffer-1-reserve, 0)
		w.top = w.room
	}
	if slots > 0 {
		w.slots = min(slots, mostSlots)
	}
	if w.early {
		w.slots = 0
	}
}

// free takes the number of free command slots from an extended ok. The highest
// that is told again and again is how many there are.
func (w *window) free(slots int) {
	switch {
	case w.early || slots > mostSlots || slots < w.seen:
	case slots == w.seen:
		w.times++
	default:
		w.seen, w.times = slots, 1
	}
	if w.times == believeAfter {
		w.slots = max(w.slots, w.seen)
	}
}

// open reports whether more than one line may be under way.
func (w *window) open() bool { return w.careful && !w.single && w.narrow == 0 && w.top > 0 }

// fits reports whether so many bytes beyond the slots may be under way.
func (w *window) fits(bytes int) bool { return w.open() && bytes <= w.top }

// taken notes that the printer took a line without trouble.
func (w *window) taken() {
	if w.narrow > 0 {
		w.narrow = max(w.narrow-1, 1)
		return
	}
	w.calm++
	if w.calm%forgiveAfter == 0 {
		w.falls = max(w.falls-1, 0)
		w.top = min(w.top*2, w.room)
	}
}

// sure notes that the count of lines under way is known to be right, without
// which the window does not open again.
func (w *window) sure() {
	if w.narrow == 1 {
		w.narrow, w.calm = 0, 0
	}
}

// waver notes that the count of lines under way may be wrong, so that more could be
// under way than the printer holds: the window stays closed until it is certain.
func (w *window) waver() {
	if w.careful && !w.single {
		w.narrow = max(w.narrow, 1)
	}
}

// fall notes that lines got lost while several were under way: be it noise or a
// buffer that is smaller than believed.
func (w *window) fall() {
	if w.narrow == 0 && w.calm < soonAfter && w.falls > 0 {
		w.top = max(w.top/2, AssumedBuffer/4)
	}
	w.narrow = narrowFor << w.falls
	w.falls = min(w.falls+1, mostFalls)
}
