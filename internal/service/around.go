package service

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"diathermon/internal/core/preflight"
)

// around looks now and then at the computer, so that a start waits for no disk.
type around struct {
	data      string
	unguarded bool
	away      func() string // why the database takes no records
	after     time.Time     // when the last reading of before was made: no clock is behind that

	free atomic.Int64 // bytes
}

// How often it is looked at the disk, and before when no computer runs this.
const lookEvery = 10 * time.Second

var earliest = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

func (a *around) look() {
	var st unix.Statfs_t
	if err := unix.Statfs(a.data, &st); err != nil {
		a.free.Store(-1)
		return
	}
	a.free.Store(int64(st.Bavail) * int64(st.Bsize))
}

// Work looks until ctx ends.
func (a *around) Work(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			a.look()
		}
	}
}

// Now is what was seen last.
func (a *around) Now() preflight.Around {
	now := preflight.Around{Free: a.free.Load(), Database: a.away(), Unguarded: a.unguarded}
	latest := earliest
	if a.after.After(latest) {
		latest = a.after
	}
	if at := time.Now(); at.Before(latest) {
		now.Clock = fmt.Sprintf("it says %s, and it was %s before", at.UTC().Format(time.DateTime), latest.UTC().Format(time.DateTime))
	}
	return now
}
