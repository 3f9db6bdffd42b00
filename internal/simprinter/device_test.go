package simprinter_test

import (
	"bufio"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"go.bug.st/serial"

	"diathermon/internal/simprinter"
)

func open(t *testing.T, c simprinter.Config) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "port")
	d, err := simprinter.Open(path, c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return path
}

// lines opens the port like any program and delivers what the printer says.
func lines(t *testing.T, path string, baud int) (serial.Port, <-chan string) {
	t.Helper()
	port, err := serial.Open(path, &serial.Mode{BaudRate: baud})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { port.Close() })
	out := make(chan string, 100)
	go func() {
		defer close(out)
		for s := bufio.NewScanner(port); s.Scan(); {
			out <- s.Text()
		}
	}()
	return port, out
}

// expect waits for a line that has want in it.
func expect(t *testing.T, said <-chan string, want string) {
	t.Helper()
	for deadline := time.After(20 * time.Second); ; {
		select {
		case line, ok := <-said:
			if !ok {
				t.Fatalf("the port closed before %q", want)
			}
			if strings.Contains(line, want) {
				return
			}
		case <-deadline:
			t.Fatalf("waited in vain for %q", want)
		}
	}
}

func TestASerialLibraryOpensItLikeADevice(t *testing.T) {
	path := open(t, simprinter.Vesper())
	for range 2 { // and again: opening restarts the board each time
		port, said := lines(t, path, 115200)
		expect(t, said, "start")
		if _, err := port.Write([]byte("M115\n")); err != nil {
			t.Fatal(err)
		}
		expect(t, said, "MACHINE_TYPE:Vesper")
		expect(t, said, "ok")
		port.Close()
	}
}

func TestAWrongBaudRateReadsAsRubbish(t *testing.T) {
	port, err := serial.Open(open(t, simprinter.Vesper()), &serial.Mode{BaudRate: 250000})
	if err != nil {
		t.Fatal(err)
	}
	defer port.Close()
	buf := make([]byte, 64)
	n, err := port.Read(buf)
	if err != nil || n == 0 {
		t.Fatalf("read %d bytes, %v", n, err)
	}
	if strings.Contains(string(buf[:n]), "sta") {
		t.Errorf("it understood %q", buf[:n])
	}
}

func TestBytesTakeTheirTimeOnTheCable(t *testing.T) {
	c := simprinter.Vesper()
	c.Baud = 9600
	port, said := lines(t, open(t, c), 9600)
	expect(t, said, "planner slots")
	before := time.Now()
	port.Write([]byte("M118 " + strings.Repeat("x", 80) + "\n"))
	expect(t, said, "xxx")
	if took := time.Since(before); took < 160*time.Millisecond { // 86 bytes there and back at 960 bytes a second
		t.Errorf("172 bytes at 9600 baud took %s", took)
	}
}

func TestAnythingElseAtThePathIsLeftAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notes.txt")
	if err := os.WriteFile(path, []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := simprinter.Open(path, simprinter.Vesper()); err == nil {
		t.Error("a person's file was taken for a port")
	}
	if b, _ := os.ReadFile(path); string(b) != "mine" {
		t.Errorf("the file now holds %q", b)
	}
	os.Remove(path)
	os.Symlink("/dev/pts/nowhere", path) // left over from a stand-in that was killed
	d, err := simprinter.Open(path, simprinter.Vesper())
	if err != nil {
		t.Fatal(err)
	}
	d.Close()
}
