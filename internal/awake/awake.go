// Package awake keeps the computer from going to sleep in the middle of a run,
// through logind on the system's D-Bus.
//
// It promises that nobody waits for the bus. It leaves to host when to stay
// awake.
package awake

import (
	"errors"
	"fmt"
	"log/slog"
	"sync"

	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"
)

// Login is logind, where there is one.
type Login struct {
	Name string // of the printer, for whoever lists what keeps the computer awake
	Log  *slog.Logger

	mu     sync.Mutex
	holder int // counts holds, so that a late answer to an old one is given back
	fd     int // the lock that is held; -1: none
	held   bool
}

const (
	service = "org.freedesktop.login1"
	object  = "/org/freedesktop/login1"
	inhibit = "org.freedesktop.login1.Manager.Inhibit"
)

// Hold keeps the computer awake until release is called. It returns at once.
func (l *Login) Hold(why string) (release func()) {
	l.mu.Lock()
	l.holder++
	mine := l.holder
	l.mu.Unlock()
	go func() {
		fd, err := l.take(why)
		l.mu.Lock()
		defer l.mu.Unlock()
		switch {
		case err != nil:
			l.Log.Warn("the computer may go to sleep in the middle of the run", "reason", err)
		case l.holder != mine: // released meanwhile
			unix.Close(fd)
		default:
			l.fd, l.held = fd, true
			l.Log.Info("the computer stays awake", "why", why)
		}
	}()
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.holder != mine {
			return
		}
		l.holder++
		if l.held {
			unix.Close(l.fd)
			l.held = false
		}
	}
}

// take asks logind for a lock; it is held until its descriptor is closed.
func (l *Login) take(why string) (int, error) {
	bus, err := dbus.ConnectSystemBus()
	if err != nil {
		return -1, fmt.Errorf("there is no D-Bus: %w", err)
	}
	defer bus.Close()
	var fd dbus.UnixFD
	if err := bus.Object(service, object).Call(inhibit, 0, "sleep:idle", "Diathermon, "+l.Name, why, "block").Store(&fd); err != nil {
		return -1, fmt.Errorf("logind gives no lock: %w", err)
	}
	return int(fd), nil
}

// Available says why the computer cannot be kept awake, or nil.
func (l *Login) Available() error {
	bus, err := dbus.ConnectSystemBus()
	if err != nil {
		return errors.New("there is no D-Bus on this computer")
	}
	defer bus.Close()
	var owner string
	if err := bus.BusObject().Call("org.freedesktop.DBus.GetNameOwner", 0, service).Store(&owner); err == nil {
		return nil
	}
	var startable []string
	if err := bus.BusObject().Call("org.freedesktop.DBus.ListActivatableNames", 0).Store(&startable); err == nil {
		for _, name := range startable {
			if name == service {
				return nil
			}
		}
	}
	return errors.New("there is no logind on this computer")
}
