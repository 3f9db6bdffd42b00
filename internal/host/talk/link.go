package talk

import (
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/wire"
)

// LinkState is where the serial connection stands.
type LinkState string

// The states of the link; from Greeting on they are the conversation's.
const (
	Absent  LinkState = "absent"  // there is no such port, or it cannot be opened
	Opening LinkState = "opening" // the port is being opened
)

// Link is the serial connection.
type Link struct {
	State  LinkState
	Reason string // in words, with what to do
	Device string
	Baud   int
	Since  time.Time
}

// Live reports whether the printer answers.
func (l Link) Live() bool { return l.State == LinkState(wire.Live) }

// SetLink tells where the link stands.
func (t *Talk) SetLink(s LinkState, reason, device string) {
	if t.link.State == s && t.said == reason && t.link.Device == device {
		return
	}
	t.said = reason
	if t.link.State != s {
		t.link.Since = time.Now()
		t.loop.Log.Info("link", "state", s, "reason", reason, "device", device)
	}
	t.link.State, t.link.Reason, t.link.Device = s, reason, device
	switch {
	case t.cfg.Baud > 0:
	case s == LinkState(wire.Live):
		t.link.Reason += fmt.Sprintf(", at %d baud", t.link.Baud)
		t.rate, t.trouble = slices.Index(rates, t.link.Baud), ""
	case (s == LinkState(wire.Greeting) || s == Opening) && t.trouble != "":
		t.link.Reason = fmt.Sprintf("%s (found after trying %s; trying %d baud now)", t.trouble, tried(t.rate), rates[t.rate%len(rates)])
	}
	t.loop.Decide("link %s: %s", s, reason)
	t.loop.Publish(t.link)
}

// Device is the path of the port that is configured; empty: the only one found.
func (t *Talk) Device() string { return t.cfg.Device }

// Baud is the rate at which the port is to be opened next.
func (t *Talk) Baud() int {
	t.link.Baud = t.cfg.Baud
	if t.cfg.Baud == 0 {
		t.link.Baud = rates[t.rate%len(rates)]
	}
	return t.link.Baud
}

// NextRate lets the next rate be tried.
func (t *Talk) NextRate() { t.rate++ }

// Unheard says that a halt reaches nobody.
func (t *Talk) Unheard() error {
	return fmt.Errorf("%w, and no halt reaches it: %s", ErrNotLive, t.link.Reason)
}
