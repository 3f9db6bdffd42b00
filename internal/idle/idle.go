// Package idle does work that nobody waits for, so that it takes nothing from a printer.
package idle

import (
	"context"
	"runtime"

	"golang.org/x/sys/unix"
)

// lowest is the priority of the least important thread.
const lowest = 19

// Work runs f on a thread of the lowest priority and returns when it has ended.
func Work(ctx context.Context, f func(context.Context)) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // for good: the thread ends with the goroutine
		unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), lowest)
		f(ctx)
	}()
	<-done
}
