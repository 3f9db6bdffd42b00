package awake

import (
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"
)

// login stands in for logind on a bus of the test's own.
type login struct {
	asked chan string
	locks chan int // the reading end of each lock: it ends when the lock is given back
}

// Inhibit gives a lock.
func (l *login) Inhibit(what, who, why, mode string) (dbus.UnixFD, *dbus.Error) {
	var ends [2]int
	if err := unix.Pipe2(ends[:], unix.O_CLOEXEC); err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	l.asked <- strings.Join([]string{what, who, why, mode}, " | ")
	l.locks <- ends[0]
	go func() { // our copy of the writing end is closed once it has been sent
		<-time.After(200 * time.Millisecond)
		unix.Close(ends[1])
	}()
	return dbus.UnixFD(ends[1]), nil
}

// bus starts a bus and makes it the system's for this test.
func bus(t *testing.T) {
	t.Helper()
	if _, err := exec.LookPath("dbus-daemon"); err != nil {
		t.Skip("there is no dbus-daemon here; 'make test' installs it")
	}
	dir := t.TempDir()
	address := "unix:path=" + filepath.Join(dir, "bus")
	config := filepath.Join(dir, "bus.conf")
	os.WriteFile(config, []byte(`<busconfig><listen>`+address+`</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/></policy></busconfig>`), 0o644)
	daemon := exec.Command("dbus-daemon", "--nofork", "--config-file="+config)
	if err := daemon.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		daemon.Process.Kill()
		daemon.Wait()
	})
	for deadline := time.Now().Add(time.Minute); ; <-time.After(10 * time.Millisecond) {
		heard, err := net.Dial("unix", filepath.Join(dir, "bus")) // its file is there before it listens
		if err == nil {
			heard.Close()
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the bus does not listen: %v", err)
		}
	}
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
}

func TestWithoutABusThatIsSaid(t *testing.T) {
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nowhere/bus")
	l := &Login{Log: slog.New(slog.DiscardHandler)}
	if err := l.Available(); err == nil || !strings.Contains(err.Error(), "no D-Bus") {
		t.Errorf("it is available: %v", err)
	}
	l.Hold("printing")() // and nobody waits or fails
}

func TestTheComputerStaysAwakeUntilItIsReleased(t *testing.T) {
	bus(t)
	l := &Login{Name: "Vesper", Log: slog.New(slog.DiscardHandler)}
	if err := l.Available(); err == nil || !strings.Contains(err.Error(), "no logind") {
		t.Errorf("without logind it is available: %v", err)
	}
	conn, err := dbus.ConnectSystemBus()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fake := &login{asked: make(chan string, 4), locks: make(chan int, 4)}
	if err := conn.Export(fake, object, service+".Manager"); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.RequestName(service, 0); err != nil {
		t.Fatal(err)
	}
	if err := l.Available(); err != nil {
		t.Errorf("with logind: %v", err)
	}
	release := l.Hold("printing a knob")
	if asked := <-fake.asked; asked != "sleep:idle | Diathermon, Vesper | printing a knob | block" {
		t.Errorf("it asked for %q", asked)
	}
	lock := <-fake.locks
	held := make(chan struct{})
	go func() {
		defer close(held)
		unix.Read(lock, make([]byte, 1)) // returns when nobody holds the other end
	}()
	select {
	case <-held:
		t.Error("the lock was given back before its time")
	case <-time.After(500 * time.Millisecond):
	}
	release()
	release()
	select {
	case <-held:
	case <-time.After(20 * time.Second):
		t.Error("the lock was never given back")
	}
	unix.Close(lock)
}
