// Package idle does work that nobody waits for, so that it takes nothing from a printer.
package idle

import (
	"context"
	"runtime"

	"golang.org/x/sys/unix"
)

// lowest is the priority of the least important thread.
const lowest = 19

// Idles reports whether a thread does work that nobody waits for.
func Idles(thread int) bool {
	const kernels = 20 // what it answers is so much less a priority
	p, err := unix.Getpriority(unix.PRIO_PROCESS, thread)
	return err == nil && kernels-p == lowest
}

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
