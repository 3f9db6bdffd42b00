package lean

import (
	"os"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// mapped is how much of files is mapped, in kB.
func mapped(t *testing.T) int {
	t.Helper()
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	kB, err := strconv.Atoi(string(regexp.MustCompile(`RssFile:\s+(\d+) kB`).FindSubmatch(status)[1]))
	if err != nil {
		t.Fatal(err)
	}
	return kB
}

func TestPagesThatOnlyTheStartNeededAreUnmapped(t *testing.T) {
	before := mapped(t)
	GiveBack()
	if after := mapped(t); after > before*3/4 {
		t.Errorf("%d kB of files are mapped, before it were %d", after, before)
	}
	if got := strings.Repeat("it runs on ", 2); got != "it runs on it runs on " {
		t.Errorf("%q", got)
	}
}

func TestOnlyWhatNothingWroteToIsUnmapped(t *testing.T) {
	smaps := `00400000-0152a000 r-xp 00000000 fd:00 9 /bin/host
Rss:               15208 kB
Anonymous:             0 kB
0152a000-027db000 r--p 0112a000 fd:00 9 /bin/host
Anonymous:             4 kB
027db000-02dc1000 rw-p 023db000 fd:00 9 /bin/host
Anonymous:             0 kB
7f3d4f513000-7f3d4f669000 r-xp 00000000 fd:00 7 /lib/libc.so.6
Anonymous:             0 kB
7f3d4f66a000-7f3d4f66b000 r--p 00000000 fd:00 9 /bin/host
Anonymous:             0 kB
`
	got := unchanged(strings.NewReader(smaps), "/bin/host")
	if want := []mapping{{0x400000, 0x152a000}, {0x7f3d4f66a000, 0x7f3d4f66b000}}; !slices.Equal(got, want) {
		t.Errorf("got %x, want %x", got, want)
	}
}

func TestGarbageHasRoomBesideWhatIsAliveForLong(t *testing.T) {
	kept := make([]byte, 64<<20)
	runtime.GC()
	now := live()
	if now < uint64(len(kept)) || enough(now) < int64(now)+spare {
		t.Errorf("with %d MiB alive there is room for %d", now>>20, enough(now)>>20)
	}
	if enough(5<<20) != Enough {
		t.Errorf("with little alive it is %d", enough(5<<20))
	}
	runtime.KeepAlive(kept)
}
