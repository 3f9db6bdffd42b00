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

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/durable"
	"diathermon/internal/gate"
	"diathermon/internal/heatlog"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/journal"
	"diathermon/internal/lean"
	"diathermon/internal/people"
	"diathermon/internal/qrcode"
	"diathermon/internal/records"
	"diathermon/internal/seal"
	"diathermon/internal/shelf"
	"diathermon/internal/web"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/setup"
)

// A Service is a host that runs.
type Service struct {
	URL    string // where the HTTP side answers
	Keeper string // the token that may do everything
	Shelf  *shelf.Shelf
	Host   *host.Host

	people  *people.People
	seal    *seal.Seal // nil: it does not speak TLS
	guard   *guard.Access
	log     *slog.Logger
	listens net.Addr
	server  *http.Server
	cool    func()   // ends the host, with heaters off; nil: it does not work yet
	closers []func() // in the order of their making
	failed  chan error
	again   chan struct{}
}

// dataMode lets nobody look into the data folder, and PostgreSQL's user pass through
// it to its own.
const dataMode = 0o711

// KeeperFile is where the keeper's token is, in the data folder.
const KeeperFile = "keeper-token"

// AddressFile is where it says at which address the service answers, for programs on the
// same computer.
const AddressFile = "address"

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
	s := &Service{log: logger, failed: make(chan error, 1), again: make(chan struct{}, 1)}
	if err := s.start(ctx, c); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Keep brings a service up, calls up with it, and keeps it up until ctx ends: it begins
// anew whenever that is asked for, so that what was said of the printer is taken up.
func Keep(ctx context.Context, c Config, logger *slog.Logger, up func(*Service) error) error {
	lean.Stay()
	for {
		s, err := Start(ctx, c, logger)
		if err != nil {
			return err
		}
		err = up(s)
		begins := false
		if err == nil {
			select {
			case <-ctx.Done():
				logger.Info("stopping")
			case err = <-s.failed:
			case <-s.again:
				logger.Info("beginning anew, as the printer is described now")
				begins = true
			}
		}
		s.Close()
		if !begins {
			return err
		}
		c.WithdrawTokens, c.Past, c.ClearBed = false, 0, false // of the first start alone
	}
}

// work runs f until the service is closed, or what is returned is called.
func (s *Service) work(f func(context.Context)) (end func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		f(ctx)
	}()
	end = func() { cancel(); <-done }
	s.closers = append(s.closers, end)
	return end
}

// How often, and after how long, the lock is tried again. A lock outlives its file for
// the moment between the fork and the start of any other program.
const (
	lockTries = 20
	lockEvery = 25 * time.Millisecond
)

// lock keeps a second service away from the data folder. The kernel lets go of
// it when the process ends, however it ends.
func (s *Service) lock(data string) error {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, durable.FileMode)
	if err != nil {
		return fmt.Errorf("the data folder cannot be used: %w", err)
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	for tries := 0; err != nil && tries < lockTries; tries++ { // a program that is just being started has it still
		time.Sleep(lockEvery)
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil {
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
	l = gate.New(l, gate.Ordinary(), func(address string) bool { return w.Proxy.Trusts(address) || s.people.Near(address) })
	if s.seal != nil {
		l = s.seal.Listener(l)
	}
	go func() {
		if err := s.server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
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
func (s *Service) SignInLink() string { return s.URL + "/sign-in#" + s.people.Code() }

// Certificate is what the host's certificate is known by; nothing, if it has none.
func (s *Service) Certificate() seal.Shown {
	if s.seal == nil {
		return seal.Shown{}
	}
	return s.seal.Shown()
}

// Code is the address of the console for a phone's camera, to be shown in a terminal;
// empty: other devices do not reach it.
func (s *Service) Code() (string, error) {
	if all := setup.Reachable(s.seal.Scheme(), s.listens); len(all) > 0 {
		return qrcode.Terminal(all[0])
	}
	return "", nil
}

// PairCode returns a new code that lets one program in.
func (s *Service) PairCode() string { return s.people.Code() }

// Close ends everything, the last made first, but for the host: its heaters wait for
// nobody.
func (s *Service) Close() {
	if s.cool != nil {
		s.cool()
	}
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
	s.closers = nil
}
