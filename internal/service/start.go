package service

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/awake"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/doors"
	"diathermon/internal/doors/dav"
	watch "diathermon/internal/doors/folder"
	"diathermon/internal/durable"
	"diathermon/internal/heatlog"
	"diathermon/internal/hindsight"
	"diathermon/internal/history"
	"diathermon/internal/host"
	"diathermon/internal/journal"
	"diathermon/internal/notices"
	"diathermon/internal/people"
	"diathermon/internal/queue"
	"diathermon/internal/records"
	"diathermon/internal/records/cluster"
	"diathermon/internal/rehearsal"
	"diathermon/internal/routines"
	"diathermon/internal/seal"
	"diathermon/internal/shelf"
	"diathermon/internal/stock"
	"diathermon/internal/survey"
	"diathermon/internal/web"
	"diathermon/internal/web/guard"
)

// starting is what the steps of a start hand on to one another.
type starting struct {
	*Service
	config    Config
	data      string // the data folder
	listener  net.Listener
	kept      *records.Records
	writer    *records.Writer
	readings  *heatlog.Log
	hindsight *hindsight.Hindsight
	journals  *journal.Folder
	survey    *survey.Survey
	routines  *routines.Routines
	stock     *stock.Stock
	stage     *rehearsal.Stage
	told      *durable.Value[motion.Limits] // by the printer, of its axes
	begun     string                        // the turn of the queue whose run was cut off
	line      *queue.Queue
	described *describing
	notices   *notices.Notices
	around    *routinesAround
	intake    doors.Intake
	mount     *dav.Door
	watched   *watch.Folder // nil: none is
}

// start takes the steps of a start, each of which leaves behind in closers what ends
// it.
func (s *Service) start(ctx context.Context, c Config) error {
	at := &starting{Service: s, config: c}
	for _, step := range []func(context.Context) error{at.folder, at.database, at.records, at.files, at.host, at.doors, at.sealed, at.access, at.openNotices, at.http, at.announce} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// in is a path in the data folder.
func (s *starting) in(name string) string { return filepath.Join(s.data, name) }

// folder takes the data folder and the address, which nobody else may have.
func (s *starting) folder(context.Context) (err error) {
	if err := s.config.Check(); err != nil {
		return err
	}
	if s.data, err = filepath.Abs(s.config.Data); err != nil {
		return err
	}
	if err := os.MkdirAll(s.data, dataMode); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w", err)
	}
	os.Chmod(s.data, dataMode) // of one that is there from before, unless it is another's
	if err := s.lock(s.data); err != nil {
		return err
	}
	if err := s.openDescription(); err != nil {
		return err
	}
	if s.listener, err = listen(s.config.Listen); err != nil {
		return err
	}
	s.listens = s.listener.Addr()
	s.closers = append(s.closers, func() { s.listener.Close() })
	return nil
}

// database connects to the database, which is the service's own if none is named.
func (s *starting) database(ctx context.Context) (err error) {
	address := s.config.Database
	if address == "" {
		private, err := cluster.Start(ctx, s.in("database"))
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
	if s.kept, err = records.Open(ctx, address, s.log); err != nil {
		return err
	}
	s.closers = append(s.closers, func() { s.kept.Close() })
	return nil
}

// records lets records and readings be kept.
func (s *starting) records(ctx context.Context) (err error) {
	if s.writer, err = records.NewWriter(s.kept, s.in("records-waiting.jsonl"), s.log); err != nil {
		return err
	}
	s.work(s.writer.Work)
	if err := flush(ctx, s.writer); err != nil { // what waited is read below
		return fmt.Errorf("the database does not take the records that waited for it: %w", err)
	}
	if err := makeUp(ctx, s.kept, s.writer, s.config.Past); err != nil {
		return err
	}
	if s.readings, err = heatlog.Open(ctx, s.in("heat"), s.kept, s.log); err != nil {
		return err
	}
	s.readings.Keep = s.config.Heat.Keep
	s.work(s.readings.Work)
	return readyMade(ctx, s.kept, s.data)
}

// files opens the shelf and the journals.
func (s *starting) files(ctx context.Context) (err error) {
	s.told = keep[motion.Limits](s, "printer-axes.json", "what the printer tells of its axes", "it is asked anew")
	if s.Shelf, err = shelf.Open(ctx, s.in("shelf"), s.kept, s.reading()); err != nil {
		return err
	}
	s.work(s.Shelf.Renew)
	if s.survey, err = survey.New(s.Shelf, s.in("survey"), s.config.Printer.Printer, s.log); err != nil {
		return err
	}
	s.Shelf.Tell(s.survey.Look)
	s.work(s.survey.Work)
	s.journals, err = journal.Open(s.in("journal"))
	return err
}

// host brings the live machine up, with the run that was cut off, if there is one.
func (s *starting) host(ctx context.Context) (err error) {
	login := &awake.Login{Name: s.config.Printer.Name, Log: s.log}
	c := s.config.host()
	c.Recorder, c.Files, c.Journal, c.Awake, c.Log = recorder{s.writer, s.readings}, s.Shelf, books{s.journals}, login, s.log
	c.After = s.readings.Last()
	if !s.config.Unmeasured {
		c.Motion = s.axes
	}
	if err := login.Available(); err != nil {
		c.Sleepy = err.Error()
	}
	c.Holds = keep[map[string]wire.Holds](s, "printer-holds.json", "what printers can hold", "it is measured anew")
	if c.Learned, err = s.kept.Learned(ctx); err != nil {
		return err
	}
	if c.Alarms, err = s.kept.Alarms(ctx, true, 100); err != nil {
		return err
	}
	if c.Bed, c.KeepBed, err = s.openBed(); err != nil {
		return err
	}
	s.stock, err = stock.Open(s.in("slots.json"), c.Printer.Places(), c.Printer.Limits.Nozzle, s.changed(api.SlotsChanged))
	if err != nil {
		s.log.Warn("what was loaded is not known any more", "error", err)
	}
	c.Slots, c.Reading = s.stock.Slots, s.Shelf.Reading
	c.Habits = keep[run.Habits](s, "printer-pace.json",
		"what was learned of the time that runs take", "it is learned anew")
	computer := &around{data: s.data, unguarded: s.config.Unguarded, away: s.writer.Away, after: c.After}
	computer.look()
	s.work(computer.Work)
	c.Around = computer.Now
	c.Performed = &performed{path: s.in("performing.json")}
	if s.routines, err = routines.Open(s.in("routines")); err != nil {
		return err
	}
	c.Library = s.routines.Routine
	s.around = &routinesAround{
		kept: keep[run.Around](s, "around-runs.json", "which routines go around every run", "choose them again in Setup"),
	}
	c.Usually = s.around.Around
	s.Host = host.New(c)
	s.around.sound = s.Host.Routines
	s.described.host = s.Host
	if err := s.Host.Routines.TakeUp(); err != nil {
		s.log.Error("what was performed when the service last ended is not known", "error", err)
	}
	interrupted, err := s.Host.Run.TakeUp(ctx)
	if err != nil {
		return err
	}
	s.begun = interrupted.Entry
	if n, err := s.kept.Abandoned(ctx, time.Now().UTC(), interrupted.ID); err != nil {
		return err
	} else if n > 0 {
		s.log.Warn("a run was going on when the service last ended and has no journal; it is recorded as broken", "runs", n)
	}
	s.Shelf.Guard(s.Host.Run.InUse)
	s.cool = s.work(s.Host.Work)
	s.stage = rehearsal.NewStage(s.Shelf, s.rehearsed)
	s.work(s.stage.Work)
	s.hindsight = hindsight.New(c.Printer, s.readings, s.Host.Heat, c.Pace, s.log)
	s.work(s.hindsight.Work)
	return nil
}

// sealed gets the certificate, if there is to be one.
func (s *starting) sealed(context.Context) (err error) {
	w := s.config.Web
	if !w.sealed() {
		return nil
	}
	c := seal.Config{Certificate: w.Certificate, Key: w.Key, Folder: s.in("certificate"), Log: s.log, Names: []string{"localhost"}}
	if name, err := os.Hostname(); err == nil && name != "" && name != "localhost" {
		c.Names = []string{name, name + ".local", "localhost"}
	}
	if all, err := net.InterfaceAddrs(); err == nil {
		for _, a := range all {
			if n, ok := a.(*net.IPNet); ok {
				c.Addresses = append(c.Addresses, n.IP.String())
			}
		}
	}
	s.seal, err = seal.Open(c)
	return err
}

// access finds out who may come in.
func (s *starting) access(ctx context.Context) (err error) {
	at := s.listener.Addr().(*net.TCPAddr)
	s.URL = s.seal.Scheme() + "://" + reachable(at)
	if s.people, err = people.Open(ctx, s.kept, s.in("familiar.json"), s.log); err != nil {
		return err
	}
	s.work(s.people.Work)
	s.guard = guard.NewAccess(s.people, at.Port, s.log)
	if s.config.WithdrawTokens {
		if err := s.people.WithdrawAll(ctx, s.in(KeeperFile)); err != nil {
			return err
		}
	}
	local := at.AddrPort()
	if at.IP.IsUnspecified() {
		local = netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), local.Port())
	}
	if err := durable.Replace(s.in(AddressFile), durable.Bytes([]byte("http://"+local.String()+"\n"))); err != nil {
		return err
	}
	s.Keeper, err = s.people.Keeper(ctx, s.in(KeeperFile))
	return err
}

// doors lets files come in.
func (s *starting) doors(ctx context.Context) (err error) {
	before, err := s.kept.Entries(ctx)
	if err != nil {
		return err
	}
	if s.line, err = queue.Open(queue.Config{
		Path: s.in("queue.json"), Begun: s.begun, Shelf: s.Shelf, Host: s.Host.Run, Tell: s.changed(api.QueueChanged), Log: s.log,
	}, before); err != nil {
		return err
	}
	if len(before) > 0 {
		if err := s.kept.DropEntries(ctx); err != nil {
			return err
		}
	}
	s.work(s.line.Work)
	s.intake = doors.Intake{Shelf: s.Shelf, Host: s.Host.Run, Line: s.line}
	if s.mount, err = dav.Open(s.in("folder"), s.Shelf, s.intake); err != nil {
		return err
	}
	s.work(s.mount.Work)
	if c := s.config.Folder; c.Path != "" {
		s.watched = &watch.Folder{Path: c.Path, Start: c.Start, In: s.intake, Log: s.log}
		s.work(s.watched.Work)
	}
	return nil
}

// names are those that the host has besides its network's.
func (s *starting) names() []string { return slices.Concat(s.seal.Names(), s.config.Web.Names) }

// http lets them in.
func (s *starting) http(context.Context) error {
	proxy, err := s.config.Web.proxy()
	if err != nil {
		return err
	}
	s.serve(s.listener, &web.Server{
		Name: s.config.Printer.Name, Areas: s.areas(), Access: s.guard, Logger: s.log, Folder: s.mount, Sealed: s.seal != nil,
		Proxy: proxy, Names: s.names, FramedBy: s.config.Web.FramedBy,
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
func (p past) Learned(h heat.Heater, l heat.Learned) { p.Writer.Learned(h, l) }

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
