// Package service puts the rooms together into one running host: the data
// folder, the database, the shelf, the printer and the HTTP side.
//
// It promises that Start ends with everything up or with one line that says what
// is in the way and nothing left running, and that Close leaves the printer with
// its heaters off.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"diathermon/internal/awake"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/durable"
	"diathermon/internal/gate"
	"diathermon/internal/heatlog"
	"diathermon/internal/history"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/journal"
	"diathermon/internal/records"
	"diathermon/internal/records/cluster"
	"diathermon/internal/shelf"
	"diathermon/internal/web"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/wire"
)

// A Service is a host that runs.
type Service struct {
	URL    string // where the HTTP side answers
	Keeper string // the token that may do everything
	Shelf  *shelf.Shelf
	Host   *host.Host

	access  *guard.Access
	log     *slog.Logger
	server  *http.Server
	closers []func() // in the order of their making
	failed  chan error
}

// dataMode lets nobody look into the data folder, and PostgreSQL's user pass through
// it to its own.
const dataMode = 0o711

// KeeperFile is where the keeper's token is, in the data folder.
const KeeperFile = "keeper-token"

// recorder takes what the host tells: readings go to the temperature log, the
// rest to the records.
type recorder struct {
	*records.Writer
	heat *heatlog.Log
}

// Readings takes samples of heaters.
func (r recorder) Readings(samples []heat.Sample) { r.heat.Note(samples) }

// books lets the host see journals as it wants them.
type books struct{ *journal.Folder }

// Begin makes the journal of a run.
func (b books) Begin(r run.Record) (printing.Book, error) { return b.Folder.Begin(r) }

// Unfinished returns the run that was cut off last.
func (b books) Unfinished() (*run.Life, printing.Book, error) {
	life, book, err := b.Folder.Unfinished()
	return life, book, err
}

// Start brings a service up. It must be closed.
func Start(ctx context.Context, c Config, logger *slog.Logger) (*Service, error) {
	s := &Service{log: logger, failed: make(chan error, 1)}
	if err := s.start(ctx, c); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) start(ctx context.Context, c Config) error {
	if err := c.Check(); err != nil {
		return err
	}
	data, err := filepath.Abs(c.Data)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(data, dataMode); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w", err)
	}
	os.Chmod(data, dataMode) // of one that is there from before, unless it is another's
	if err := s.lock(data); err != nil {
		return err
	}
	listener, err := listen(c.Listen)
	if err != nil {
		return err
	}
	s.closers = append(s.closers, func() { listener.Close() })
	address := c.Database
	if address == "" {
		private, err := cluster.Start(ctx, filepath.Join(data, "database"))
		if err != nil {
			return err
		}
		s.closers = append(s.closers, func() {
			if err := private.Stop(); err != nil {
				s.log.Error("the database", "error", err)
			}
		})
		address = private.URL
	}
	kept, err := records.Open(ctx, address, s.log)
	if err != nil {
		return err
	}
	s.closers = append(s.closers, func() { kept.Close() })
	writer, err := records.NewWriter(kept, filepath.Join(data, "records-waiting.jsonl"), s.log)
	if err != nil {
		return err
	}
	s.work(writer.Work)
	if err := flush(ctx, writer); err != nil { // what waited is read below
		return fmt.Errorf("the database does not take the records that waited for it: %w", err)
	}
	if err := makeUp(ctx, kept, writer, c.Past); err != nil {
		return err
	}
	readings, err := heatlog.Open(ctx, filepath.Join(data, "heat"), kept, s.log)
	if err != nil {
		return err
	}
	readings.Keep = c.Heat.Keep
	s.work(readings.Work)
	if s.Shelf, err = shelf.Open(ctx, filepath.Join(data, "shelf"), kept); err != nil {
		return err
	}
	s.work(s.Shelf.Renew)
	journals, err := journal.Open(filepath.Join(data, "journal"))
	if err != nil {
		return err
	}
	login := &awake.Login{Name: c.Printer.Name, Log: s.log}
	sleepy := ""
	if err := login.Available(); err != nil {
		sleepy = err.Error()
	}
	settings := c.host()
	settings.Recorder, settings.Files, settings.Journal, settings.Log = recorder{writer, readings}, s.Shelf, books{journals}, s.log
	settings.After = readings.Last()
	if settings.Holds, err = openHolds(filepath.Join(data, "printer-holds.json"), s.log); err != nil {
		return err
	}
	if settings.Learned, err = kept.Learned(ctx); err != nil {
		return err
	}
	if settings.Alarms, err = kept.Alarms(ctx, true, 100); err != nil {
		return err
	}
	if err := readyMade(ctx, kept, data); err != nil {
		return err
	}
	settings.Awake, settings.Sleepy = login, sleepy
	s.Host = host.New(settings)
	interrupted, err := s.Host.Run.TakeUp(ctx)
	if err != nil {
		return err
	}
	if n, err := kept.Abandoned(ctx, time.Now().UTC(), interrupted); err != nil {
		return err
	} else if n > 0 {
		s.log.Warn("a run was going on when the service last ended and has no journal; it is recorded as broken", "runs", n)
	}
	s.Shelf.Guard(s.Host.Run.InUse)
	s.work(s.Host.Work)
	port := listener.Addr().(*net.TCPAddr).Port
	if s.access, err = guard.NewAccess(ctx, kept, port, s.log); err != nil {
		return err
	}
	if c.WithdrawTokens {
		if err := s.access.WithdrawAll(ctx, filepath.Join(data, KeeperFile)); err != nil {
			return err
		}
	}
	if s.Keeper, err = s.access.Keeper(ctx, filepath.Join(data, KeeperFile)); err != nil {
		return err
	}
	s.URL = "http://" + reachable(listener.Addr().(*net.TCPAddr))
	s.serve(listener, &web.Server{
		Printer: c.Printer.machine(), Access: s.access, Logger: s.log, Flush: writer.Flush,
		Host: s.Host, Link: s.Host.Link, Run: s.Host.Run, Runs: kept, Recordings: journals, Shelf: s.Shelf,
		Heat: s.Host.Heat, HeatLog: readings, HeatPast: kept, HeatKept: kept, WarmUps: kept, PartOff: c.Heat.PartOff,
		Wire: wire.Area{Hand: s.Host.Hand, Traffic: s.Host.Wire, Capacity: s.Host.Capacity, Recorder: s.Host},
	})
	return nil
}

// past keeps a made-up past.
type past struct {
	*records.Records
	*records.Writer
}

// Run takes a run.
func (p past) Run(r run.Record) { p.Writer.Run(r) }

// Learned takes what has been learned of a heater.
func (p past) Learned(h heat.Heater, l heat.Learner) { p.Writer.Learned(h, l) }

// makeUp fills an empty log with a made-up past, for the demo.
func makeUp(ctx context.Context, kept *records.Records, writer *records.Writer, warp float64) error {
	if warp <= 0 {
		return nil
	}
	if last, err := kept.Last(ctx); err != nil || !last.IsZero() {
		return err
	}
	if err := history.Make(ctx, past{kept, writer}, time.Now(), warp); err != nil {
		return fmt.Errorf("making up the past: %w", err)
	}
	return writer.Flush(ctx)
}

// flushTime is how long records that waited may take at the start.
const flushTime = time.Minute

func flush(ctx context.Context, w *records.Writer) error {
	ctx, cancel := context.WithTimeout(ctx, flushTime)
	defer cancel()
	return w.Flush(ctx)
}

// readyMade puts the ready-made warm-ups there at the first start.
func readyMade(ctx context.Context, kept *records.Records, data string) error {
	there := filepath.Join(data, "warm-ups-made")
	if _, err := os.Stat(there); err == nil {
		return nil
	}
	for _, w := range heat.ReadyMade() {
		if err := kept.PutWarmUp(ctx, w); err != nil {
			return err
		}
	}
	return os.WriteFile(there, nil, durable.FileMode)
}

// work runs f until the service is closed.
func (s *Service) work(f func(context.Context)) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		f(ctx)
	}()
	s.closers = append(s.closers, func() { cancel(); <-done })
}

// lock keeps a second service away from the data folder. The kernel lets go of
// it when the process ends, however it ends.
func (s *Service) lock(data string) error {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, durable.FileMode)
	if err != nil {
		return fmt.Errorf("the data folder cannot be used: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		holder := make([]byte, 20)
		n, _ := f.Read(holder)
		f.Close()
		return fmt.Errorf("another Diathermon (process %s) uses the data folder %s: stop it, or choose another with --data", holder[:n], data)
	}
	if err := f.Truncate(0); err == nil {
		fmt.Fprintf(f, "%d", os.Getpid())
	}
	s.closers = append(s.closers, func() { f.Close() })
	return nil
}

func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is in use by another program: stop it, or choose another address with --listen", address)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened at: %w", address, err)
	}
	return l, nil
}

// reachable is the address to type for a listener that listens everywhere.
func reachable(a *net.TCPAddr) string {
	if !a.IP.IsUnspecified() {
		return a.String()
	}
	name, err := os.Hostname()
	if err != nil {
		name = "localhost"
	}
	return net.JoinHostPort(name, fmt.Sprint(a.Port))
}

func (s *Service) serve(l net.Listener, w *web.Server) {
	ctx, cancel := context.WithCancel(context.Background())
	s.server = &http.Server{
		Handler:           w.Handler(),
		ConnContext:       gate.Context,
		ConnState:         gate.State,
		MaxHeaderBytes:    64 << 10,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return ctx },
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	go func() {
		if err := s.server.Serve(gate.New(l, gate.Ordinary())); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
	s.closers = append(s.closers, func() {
		cancel() // live events end
		wait, done := context.WithTimeout(context.Background(), 3*time.Second)
		defer done()
		if s.server.Shutdown(wait) != nil {
			s.server.Close()
		}
	})
}

// SignInLink returns a new link that signs one browser in.
func (s *Service) SignInLink() string { return s.URL + "/sign-in#" + s.access.Code() }

// PairCode returns a new code that lets one program in.
func (s *Service) PairCode() string { return s.access.Code() }

// Failed delivers the error of an HTTP side that has ended by itself.
func (s *Service) Failed() <-chan error { return s.failed }

// Close ends everything, the last made first.
func (s *Service) Close() {
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
	s.closers = nil
}

// Document returns the OpenAPI document of the HTTP side.
func Document() ([]byte, error) { return web.Document() }
