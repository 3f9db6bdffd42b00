package service

import (
	"runtime"

	"diathermon/internal/idle"
)

// niceness is what the service runs with where it may: other programs of a small
// computer must not keep the printer waiting.
const niceness = -10

// Hurry raises the priority of every thread of this process, where that is allowed. It
// is for a process that is a service and nothing else, once it has started: its
// database's priority stays as it is.
//
// It also lets more goroutines run at once than there are cores. The kernel is
// better than Go's scheduler at letting a halt go before an upload that keeps a
// core busy: Go looks for news from the network only every ten milliseconds while
// all its slots are taken.
func Hurry() {
	runtime.GOMAXPROCS(runtime.NumCPU() + 2)
	idle.Prioritise(niceness) // where that is not allowed it stays as it is
}
