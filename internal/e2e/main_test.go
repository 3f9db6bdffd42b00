package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/records/cluster"
	"diathermon/internal/samples"
	"diathermon/internal/service"
	"diathermon/internal/simprinter"
)

// database is the address of the PostgreSQL cluster that all tests share; each
// has a schema of its own.
var database string

// scratch is a folder for what all tests share; it is gone when they are done.
var scratch string

func TestMain(m *testing.M) {
	if address, token, is := strings.Cut(os.Getenv(loadEnv), " "); is {
		fmt.Fprintln(os.Stderr, load(address, token))
		os.Exit(1)
	}
	if of := strings.Split(os.Getenv(attackEnv), "|"); len(of) == 3 {
		fmt.Fprintln(os.Stderr, attacks(of[0], of[1], of[2]))
		os.Exit(1)
	}
	if from, to, is := strings.Cut(os.Getenv(bridgeEnv), " "); is {
		fmt.Fprintln(os.Stderr, bridge(from, to))
		os.Exit(1)
	}
	os.Exit(withCluster(m))
}

func withCluster(m *testing.M) int {
	dir, err := os.MkdirTemp("", "diathermon-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // PostgreSQL's user passes through
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	c, err := cluster.Start(context.Background(), filepath.Join(dir, "database"))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer c.Stop()
	database, scratch = c.URL, dir
	return m.Run()
}

var schemas atomic.Int64

// freshDatabase returns the address of a schema that nobody has used.
func freshDatabase(t testing.TB) string {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	q := u.Query()
	q.Set("search_path", fmt.Sprintf("test_%d", schemas.Add(1)))
	u.RawQuery = q.Encode()
	return u.String()
}

// bench is a whole service with a stand-in printer.
type bench struct {
	*client.Client
	t       testing.TB
	service *service.Service
	device  *simprinter.Device
	config  service.Config
	log     *bytes.Buffer
}

// quick is a stand-in whose clock runs fast enough that heating up takes a
// second or two.
func quick() simprinter.Config {
	c := simprinter.Vesper()
	c.Baud, c.Warp, c.Record, c.Seed = 0, 100, true, 1
	return c
}

// start brings up a service with that stand-in; a Config without a name has no
// printer at all.
func start(t testing.TB, printer simprinter.Config) *bench {
	t.Helper()
	dir := t.TempDir()
	b := &bench{t: t, log: &bytes.Buffer{}}
	b.config = service.DefaultConfig()
	b.config.Device, b.config.Data, b.config.Listen, b.config.Database = filepath.Join(dir, "port"), filepath.Join(dir, "data"), "127.0.0.1:0", freshDatabase(t)
	b.config.Baud, b.config.ClearBed, b.config.Described = 115200, true, true
	b.config.Pace, b.config.Unguarded, b.config.Unmeasured = printer.Warp, printer.Warp > 20, true
	b.config.Printer.Name = "Vesper"
	b.config.Printer.Width, b.config.Printer.Depth, b.config.Printer.Height = 230, 230, 240
	b.config.Printer.Limits.Nozzle, b.config.Printer.Limits.Bed = 285, 110
	if printer.Name != "" {
		b.plug(printer)
	}
	b.up()
	t.Cleanup(func() {
		b.service.Close()
		if t.Failed() {
			t.Logf("the service's log:\n%s", b.log)
		}
	})
	return b
}

// plug puts a stand-in at the port.
func (b *bench) plug(printer simprinter.Config) {
	b.t.Helper()
	device, err := simprinter.Open(b.config.Device, printer)
	if err != nil {
		b.t.Fatal(err)
	}
	b.device = device
	b.t.Cleanup(func() { device.Close() })
}

// restart presses the printer's reset button.
func (b *bench) restart() { b.device.Do((*simprinter.Board).Reset) }

// up starts the service on what is in its data folder and database.
func (b *bench) up() {
	b.t.Helper()
	s, err := service.Start(b.t.Context(), b.config, slog.New(slog.NewTextHandler(b.log, nil)))
	if err != nil {
		b.t.Fatal(err)
	}
	b.service = s
	if b.Client, err = client.New(s.URL, s.Keeper); err != nil {
		b.t.Fatal(err)
	}
	if shown := s.Certificate(); shown.Own {
		b.Trust(shown.Key)
	}
}

// patience bounds every wait. It is long: a machine may be slow, and a wait that
// succeeds is as short as it can be.
const patience = 90 * time.Second

// idlePatience bounds waits for what is done with the lowest priority: beside programs that
// take all of the processor it gets hardly any.
const idlePatience = 6 * patience

// until waits for a condition on the bench and returns the bench that met it.
func (b *bench) until(what string, met func(api.Bench) bool) api.Bench {
	b.t.Helper()
	deadline, come := time.Now().Add(patience), 0
	var last api.Bench
	for time.Now().Before(deadline) {
		var err error
		if last, err = client.Ask(b.t.Context(), b.Client, ops.GetBench); err != nil {
			b.t.Fatal(err)
		}
		if met(last) {
			return last
		}
		if r := last.Run; r != nil && r.Progress != nil && r.Progress.Command != come { // slowly, but it goes on
			deadline, come = time.Now().Add(patience), r.Progress.Command
		}
		<-time.After(10 * time.Millisecond)
	}
	b.t.Fatalf("waited in vain for %s; the bench is %+v, its run %+v", what, last, last.Run)
	return last
}

func (b *bench) live() *bench {
	b.t.Helper()
	b.until("a live link", func(now api.Bench) bool { return now.Link.State == "live" })
	return b
}

func (b *bench) untilRun(states ...string) api.Run {
	b.t.Helper()
	now := b.until("a run that is "+strings.Join(states, " or "), func(now api.Bench) bool {
		for _, s := range states {
			if now.Run != nil && now.Run.State == s {
				return true
			}
		}
		return now.Run != nil && now.Run.Over
	})
	for _, s := range states {
		if now.Run.State == s {
			return *now.Run
		}
	}
	b.t.Fatalf("the run is %s (%s), want %v", now.Run.State, now.Run.Reason, states)
	return api.Run{}
}

// coupon is a small part's G-code.
func coupon(t testing.TB, layers int) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := samples.Coupon(layers).Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func (b *bench) send(name string, body []byte, print bool) (api.Stored, error) {
	return b.Send(b.t.Context(), client.Sending{Name: name, Body: bytes.NewReader(body), Size: int64(len(body)), Then: map[bool]string{true: "print"}[print]})
}

// clear says that the bed is clear.
func (b *bench) clear() {
	b.t.Helper()
	if _, err := client.Call(b.t.Context(), b.Client, ops.SayBed, ops.Body(api.SayBed{State: "clear"})); err != nil {
		b.t.Fatal(err)
	}
}

// mustSend stores a file, and starts it on a bed that is said to be clear.
func (b *bench) mustSend(name string, body []byte, print bool) api.Stored {
	b.t.Helper()
	if print {
		b.clear()
	}
	stored, err := b.send(name, body, print)
	if err != nil {
		b.t.Fatal(err)
	}
	if print && stored.Run == nil {
		b.t.Fatalf("not started: %v", stored.Not)
	}
	return stored
}

// executed returns the commands that the stand-in carried out.
func (b *bench) executed() []simprinter.Executed {
	var out []simprinter.Executed
	b.device.Do(func(board *simprinter.Board) { out = board.Executed() })
	return out
}

// recording fetches what the flight recorder holds.
func (b *bench) recording(w io.Writer) error {
	return client.Fetch(b.t.Context(), b.Client, ops.GetRecording, ops.Nothing{}, w)
}
