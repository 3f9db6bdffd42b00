package announce_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/doors/announce"
)

// apart runs a test once more in a network of its own, in which nothing leaves this
// computer, and reports whether this is that run.
func apart(t testing.TB, name string) bool {
	t.Helper()
	if os.Getenv("APART") != "" {
		for _, args := range []string{"link set lo up", "link add here type veth peer name there", "addr add 10.20.30.1/24 dev here", "link set there up", "link set here multicast on up"} {
			if out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput(); err != nil {
				t.Fatalf("ip %s: %s", args, out)
			}
		}
		return true
	}
	if os.Getuid() != 0 {
		t.Skip("a network of its own takes root")
	}
	args := []string{"-n", os.Args[0], "-test.run=^" + name + "$", "-test.v"}
	if _, bench := t.(*testing.B); bench {
		args = []string{"-n", os.Args[0], "-test.run=^$", "-test.bench=^" + name + "$", "-test.benchtime=1x"}
	}
	cmd := exec.Command("unshare", args...)
	cmd.Env = append(os.Environ(), "APART=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	t.Logf("%s", out)
	return false
}

// announced begins to announce a host until the function that is returned is called.
func announced(t testing.TB, name string, port int) (*announce.Host, func()) {
	h := &announce.Host{Name: name, Port: port, IP: net.IPv4zero, Text: func() []string { return []string{"state=idle"} }, Log: slog.New(slog.DiscardHandler)}
	ctx, end := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); h.Work(ctx) }()
	return h, func() { end(); <-done }
}

// found asks until the hosts that are found are those, by name.
func found(t testing.TB, names ...string) []announce.Found {
	t.Helper()
	var all []announce.Found
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); {
		var err error
		if all, err = announce.Find(t.Context(), 150*time.Millisecond); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range all {
			got = append(got, f.Name)
		}
		slices.Sort(got)
		if slices.Equal(got, names) {
			return all
		}
	}
	t.Fatalf("found are %+v, want %q", all, names)
	return nil
}

func TestHostsAreFoundAndNoTwoHaveOneName(t *testing.T) {
	if !apart(t, t.Name()) {
		return
	}
	_, end1 := announced(t, "Vesper", 8437)
	all := found(t, "Vesper")
	if all[0].URL != "http://10.20.30.1:8437" || all[0].State != "idle" {
		t.Errorf("%+v", all)
	}
	second, end2 := announced(t, "Vesper", 8438)
	_, end3 := announced(t, `Ö. "Tau" \ (β)`, 8439)
	found(t, "Vesper", "Vesper (2)", `Ö. "Tau" \ (β)`)
	if second.Called() != "Vesper (2)" {
		t.Errorf("the second is called %q", second.Called())
	}

	// A program of others sees them, and sees them go.
	see := avahi(t)
	for what, ok := range map[string]func(string) bool{
		"three":             func(s string) bool { return strings.Count(s, "=;here;IPv4;") == 3 },
		"their addresses":   func(s string) bool { return strings.Contains(s, ";10.20.30.1;8438;") },
		"the odd name":      func(s string) bool { return strings.Contains(s, `\195\150\.\032`) },
		"the second's text": func(s string) bool { return strings.Contains(s, `"state=idle"`) },
	} {
		see(what, "_diathermon._tcp", ok)
	}
	see("as web pages", "_http._tcp", func(s string) bool { return strings.Contains(s, "path=/") })
	end3()
	end2()
	see("two gone", "_diathermon._tcp", func(s string) bool { return strings.Count(s, "=;here;IPv4;") == 1 })
	found(t, "Vesper")
	end1()
	found(t)
}

// avahi starts Debian's service discovery here, and returns what waits until its browser
// shows something.
func avahi(t *testing.T) func(what, kind string, ok func(string) bool) {
	dir := t.TempDir()
	bus := "unix:path=" + filepath.Join(dir, "bus")
	os.WriteFile(filepath.Join(dir, "bus.conf"), []byte(`<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd"><busconfig><type>system</type><listen>`+bus+`</listen><auth>EXTERNAL</auth><policy context="default"><allow user="*"/><allow own="*"/><allow send_type="method_call"/><allow send_type="signal"/><allow send_requested_reply="true" send_type="method_return"/><allow send_requested_reply="true" send_type="error"/><allow receive_type="method_call"/><allow receive_type="method_return"/><allow receive_type="error"/><allow receive_type="signal"/></policy></busconfig>`), 0o600)
	os.WriteFile(filepath.Join(dir, "avahi.conf"), []byte("[server]\nhost-name=other\nuse-ipv6=no\nallow-interfaces=here\n[wide-area]\nenable-wide-area=no\n[rlimits]\n"), 0o600)
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+bus)
		return cmd
	}
	for _, c := range []*exec.Cmd{run("dbus-daemon", "--nofork", "--nopidfile", "--config-file="+filepath.Join(dir, "bus.conf")), run("avahi-daemon", "--no-drop-root", "--no-chroot", "--no-rlimits", "-f", filepath.Join(dir, "avahi.conf"))} {
		log, _ := os.Create(filepath.Join(dir, filepath.Base(c.Path)+".log"))
		c.Stdout, c.Stderr = log, log
		if err := c.Start(); err != nil {
			t.Fatalf("%v: run 'make test', which installs it", err)
		}
		t.Cleanup(func() {
			c.Process.Kill()
			c.Wait()
			if said, _ := os.ReadFile(log.Name()); t.Failed() {
				t.Logf("%s", said)
			}
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
	}
	return func(what, kind string, ok func(string) bool) {
		t.Helper()
		said := ""
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); <-time.After(100 * time.Millisecond) {
			out, _ := run("timeout", "5", "avahi-browse", "-t", "-r", "-p", kind).CombinedOutput()
			if said = string(out); ok(said) {
				return
			}
		}
		t.Errorf("%s: avahi-browse says\n%s", what, said)
	}
}

// BenchmarkDiscovery measures from the beginning of a host to its being found, and from
// its end to its being gone, as a one-shot query of 20 ms sees it.
func BenchmarkDiscovery(b *testing.B) {
	if !apart(b, b.Name()) {
		return
	}
	seen := func() int {
		all, err := announce.Find(b.Context(), 20*time.Millisecond)
		if err != nil {
			b.Fatal(err)
		}
		return len(all)
	}
	for b.Loop() {
		begun := time.Now()
		_, end := announced(b, "Vesper", 8437)
		for seen() == 0 {
		}
		b.ReportMetric(time.Since(begun).Seconds()*1000, "seen-ms")
		begun = time.Now()
		end()
		for seen() > 0 {
		}
		b.ReportMetric(time.Since(begun).Seconds()*1000, "gone-ms")
	}
	fmt.Println(b.Name(), b.Elapsed())
}
