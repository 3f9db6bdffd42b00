// Package lean keeps the service small on a computer that has little memory.
//
// It promises that garbage waits half as long as in other programs, and that what only
// the start, or a file's survey, needed is given back. It leaves to everybody how much
// they keep.
package lean

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Garbage is what may be, in percent of what is alive; other programs have 100.
const Garbage = 50

// Enough is how much memory, in bytes, what is alive and what is garbage have together before
// garbage is collected as it comes, whoever makes how much of it. Where more is alive for
// long, it is more: collecting it again and again would gain nothing and take the processor.
const Enough = 40 << 20

// spare is what garbage has beside what is alive for long.
const spare = 16 << 20

// enough is Enough for so many bytes that are alive.
func enough(live uint64) int64 { return max(Enough, int64(live)+spare) }

// live is how many bytes were alive when garbage was collected last.
func live() uint64 {
	is := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(is)
	return is[0].Value.Uint64()
}

const (
	started = 30 * time.Second // after which a start has made everything that it makes
	again   = 2 * time.Minute  // between one giving back and the next
)

// Stay keeps the process small until it ends. It returns at once.
func Stay() {
	if os.Getenv("GOGC") == "" { // otherwise somebody has chosen
		debug.SetGCPercent(Garbage)
	}
	bounded := os.Getenv("GOMEMLIMIT") == ""
	if bounded {
		debug.SetMemoryLimit(Enough)
	}
	go func() {
		time.Sleep(started)
		for ; ; time.Sleep(again) {
			GiveBack()
			if bounded {
				debug.SetMemoryLimit(enough(live()))
			}
		}
	}()
}

// GiveBack gives back what is free, and unmaps the pages of the program's own file.
// Starting runs through much of it once, and with every page the kernel maps fifteen
// beside it; those that are in use come back from its cache as they are touched.
func GiveBack() {
	debug.FreeOSMemory()
	program, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return
	}
	maps, err := os.Open("/proc/self/smaps")
	if err != nil {
		return
	}
	defer maps.Close()
	for _, m := range unchanged(maps, program) {
		unix.Syscall(unix.SYS_MADVISE, m.from, m.to-m.from, unix.MADV_DONTNEED) // what stays mapped does no harm
	}
}

// A mapping is a piece of the process's memory.
type mapping struct{ from, to uintptr }

// unchanged are those mappings, as Linux lists them in smaps, that are nothing but a part of
// the file at path: nothing may write to them, and nothing has.
func unchanged(smaps io.Reader, path string) (out []mapping) {
	var m mapping
	readOnly := false
	for in := bufio.NewScanner(smaps); in.Scan(); {
		line := in.Text()
		var next mapping
		var may string
		if n, _ := fmt.Sscanf(line, "%x-%x %s", &next.from, &next.to, &may); n == 3 {
			m = next
			readOnly = strings.HasSuffix(line, " "+path) && strings.HasPrefix(may, "r") && !strings.Contains(may, "w")
		} else if written, is := strings.CutPrefix(line, "Anonymous:"); is &&
			strings.TrimSpace(written) == "0 kB" && readOnly {
			out = append(out, m)
		}
	}
	return out
}
