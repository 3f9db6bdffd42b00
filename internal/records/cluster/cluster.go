// Package cluster runs a private PostgreSQL cluster from Debian's packages, on
// loopback, for one data folder.
//
// It promises that Start ends with a server that answers or with one line that
// says what is in the way: it makes the cluster if there is none, takes over one
// that a killed service left running, clears a lock file that belongs to nobody,
// and drops to another user where it is root, as PostgreSQL demands. It leaves
// to records what is in the database.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Cluster is a server that runs.
type Cluster struct {
	URL string // where its database is: postgres://…

	dir   string
	bin   string
	owner *identity
	port  int
	quit  chan struct{} // closed by Stop
	ended chan struct{} // closed when the watch has ended

	mu   sync.Mutex // guards what follows
	pid  int
	gone chan struct{} // closed when a server that is our child has ended; nil for one taken over
}

const (
	role     = "diathermon"
	database = "diathermon"
	patience = 60 * time.Second // for a server that recovers after a power cut

	stopWithin = 20 * time.Second // for a server that writes out what it holds
)

// settings keep the server small and its writing low.
var settings = []string{
	"listen_addresses=127.0.0.1", "unix_socket_directories=", "max_connections=24",
	"shared_buffers=24MB", "work_mem=2MB", "maintenance_work_mem=16MB", "jit=off",
	"max_wal_size=256MB", "min_wal_size=32MB", "checkpoint_timeout=15min", "wal_compression=on",
	"max_parallel_workers_per_gather=0", "max_wal_senders=0", "wal_level=minimal", "archive_mode=off",
	"autovacuum_naptime=5min", "log_min_messages=warning", "log_timezone=UTC", "timezone=UTC",
}

// Start brings up the cluster in dir, an absolute path. The cluster stays up
// until Stop, whatever happens to ctx afterwards.
func Start(ctx context.Context, dir string) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	owner, err := ownerOf(dir)
	if err != nil {
		return nil, err
	}
	if err := owner.reach(dir); err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir, bin: bin, owner: owner, quit: make(chan struct{}), ended: make(chan struct{})}
	password, err := c.create(ctx, bin, owner)
	if err != nil {
		return nil, err
	}
	running := false
	if c.port, running = c.leftover(); !running {
		if c.port, err = freePort(); err != nil {
			return nil, err
		}
	}
	c.URL = address(c.port, password)
	if !running {
		if err := c.launch(); err != nil {
			return nil, err
		}
	}
	go c.watch()
	if err := c.ready(ctx); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// relaunchAfter is how long a server that has ended by itself stays away.
const relaunchAfter = time.Second

// watch starts the server again if it ends by itself: whoever killed it, the
// records must go on.
func (c *Cluster) watch() {
	defer close(c.ended)
	ticker := time.NewTicker(relaunchAfter)
	defer ticker.Stop()
	for {
		select {
		case <-c.quit:
			return
		case <-ticker.C:
		}
		if c.runs() {
			continue
		}
		if _, running := c.leftover(); !running {
			c.launch() // it is tried again if this fails
		}
	}
}

// runs reports whether the server's process is there.
func (c *Cluster) runs() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-c.gone: // never, for a server taken over
		return false
	default:
	}
	_, err := os.Stat(fmt.Sprintf("/proc/%d", c.pid))
	return err == nil
}

func address(port int, password string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(role, password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: database, RawQuery: "sslmode=disable"}
	return u.String()
}

// binaries finds the newest PostgreSQL that Debian's packages have installed.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed: run 'apt-get install postgresql', or name a server with --database")
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// identity is the user that the server runs as; nil is the service's own.
type identity struct {
	name     string
	uid, gid int
}

// ownerOf chooses the user: our own, or where that is root, the one who owns the
// cluster or the account of Debian's package.
func ownerOf(dir string) (*identity, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	if info, err := os.Stat(dir); err == nil {
		if st := info.Sys().(*syscall.Stat_t); st.Uid != 0 {
			return &identity{name: fmt.Sprintf("user %d", st.Uid), uid: int(st.Uid), gid: int(st.Gid)}, nil
		}
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL does not run as root and there is no user 'postgres' to run it as: run 'apt-get install postgresql'")
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &identity{name: "user postgres", uid: uid, gid: gid}, nil
}

// reach makes dir for the identity and checks that every folder above lets it
// through.
func (o *identity) reach(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if o == nil {
		return nil
	}
	for at := filepath.Dir(dir); ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err != nil {
			return err
		}
		st := info.Sys().(*syscall.Stat_t)
		through := info.Mode().Perm()&0o001 != 0 || int(st.Uid) == o.uid && info.Mode().Perm()&0o100 != 0 || int(st.Gid) == o.gid && info.Mode().Perm()&0o010 != 0
		if !through {
			return fmt.Errorf("PostgreSQL runs as %s, which may not enter %s: choose a data folder elsewhere, such as /var/lib/diathermon, or run 'chmod o+x %s'", o.name, at, at)
		}
		if at == filepath.Dir(at) {
			break
		}
	}
	return os.Chown(dir, o.uid, o.gid)
}

func (o *identity) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"LC_ALL=C", "PATH=/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C in the terminal is for us alone
	if o != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(o.uid), Gid: uint32(o.gid)}
	}
	return cmd
}

// create makes the cluster unless it is there, and returns its password. A
// cluster whose making was cut short is made again.
func (c *Cluster) create(ctx context.Context, bin string, owner *identity) (string, error) {
	secret := filepath.Join(c.dir, "password")
	data := filepath.Join(c.dir, "data")
	password, err := os.ReadFile(secret)
	if err == nil {
		if made, err := os.ReadFile(filepath.Join(data, "PG_VERSION")); err == nil {
			if have := filepath.Base(filepath.Dir(bin)); strings.TrimSpace(string(made)) != have {
				older := filepath.Join("/usr/lib/postgresql", strings.TrimSpace(string(made)), "bin")
				return "", fmt.Errorf("the cluster in %s was made by PostgreSQL %s and this machine has %s: install postgresql-%s or upgrade it with %s/pg_upgrade", c.dir, strings.TrimSpace(string(made)), have, strings.TrimSpace(string(made)), filepath.Dir(older))
			}
			return string(password), nil
		}
	}
	if err := os.RemoveAll(data); err != nil {
		return "", err
	}
	fresh := rand.Text()
	draft := secret + ".new"
	if err := os.WriteFile(draft, []byte(fresh), 0o600); err != nil {
		return "", err
	}
	if owner != nil {
		if err := os.Chown(draft, owner.uid, owner.gid); err != nil {
			return "", err
		}
	}
	initdb := owner.command(ctx, filepath.Join(bin, "initdb"), "--pgdata", data, "--username", role, "--pwfile", draft,
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--no-locale", "--no-instructions", "--wal-segsize", "4")
	if out, err := initdb.CombinedOutput(); err != nil {
		return "", fmt.Errorf("making the database cluster in %s: %w: %s", data, err, lastLine(out))
	}
	return fresh, os.Rename(draft, secret) // only now is the cluster whole
}

func lastLine(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return lines[len(lines)-1]
}

// leftover looks at the lock file: a server that still runs is taken over, a
// lock that belongs to no server of this cluster is cleared.
func (c *Cluster) leftover() (port int, running bool) {
	data := filepath.Join(c.dir, "data")
	lock := filepath.Join(data, "postmaster.pid")
	b, err := os.ReadFile(lock)
	if err != nil {
		return 0, false
	}
	fields := strings.Split(string(b), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(fields[0]))
	if err == nil && pid > 1 {
		if at, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid)); err == nil && same(at, data) && len(fields) > 3 {
			if port, err := strconv.Atoi(strings.TrimSpace(fields[3])); err == nil {
				c.mu.Lock()
				defer c.mu.Unlock()
				c.pid, c.gone = pid, nil
				return port, true
			}
		}
	}
	os.Remove(lock)
	return 0, false
}

func same(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// launch starts the server as a child. Its words go to a log in the cluster's
// folder, begun anew at each start.
func (c *Cluster) launch() error {
	args := []string{"-D", filepath.Join(c.dir, "data"), "-p", strconv.Itoa(c.port)}
	for _, s := range settings {
		args = append(args, "-c", s)
	}
	log, err := os.Create(filepath.Join(c.dir, "server.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := c.owner.command(context.Background(), filepath.Join(c.bin, "postgres"), args...)
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	gone := make(chan struct{})
	go func() {
		cmd.Wait()
		close(gone)
	}()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pid, c.gone = cmd.Process.Pid, gone
	return nil
}

// ready waits until the server answers and the database is there.
func (c *Cluster) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	admin, err := url.Parse(c.URL)
	if err != nil {
		return err
	}
	admin.Path = "postgres"
	for {
		conn, err := pgx.Connect(ctx, admin.String())
		if err == nil {
			defer conn.Close(context.Background())
			var there bool
			err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", database).Scan(&there)
			if err == nil && !there {
				_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{database}.Sanitize())
			}
			return err
		}
		c.mu.Lock()
		gone := c.gone
		c.mu.Unlock()
		select {
		case <-gone: // a nil channel for a server taken over
			words, _ := os.ReadFile(filepath.Join(c.dir, "server.log"))
			return fmt.Errorf("PostgreSQL did not start: %s (its log is %s)", lastLine(words), filepath.Join(c.dir, "server.log"))
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL in %s does not answer: %w", c.dir, err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Stop ends the server cleanly and waits for it.
func (c *Cluster) Stop() error {
	close(c.quit)
	<-c.ended
	if err := syscall.Kill(c.pid, syscall.SIGINT); err != nil {
		if errors.Is(err, syscall.ESRCH) {
			return nil
		}
		return err
	}
	for deadline := time.Now().Add(stopWithin); time.Now().Before(deadline); <-time.After(20 * time.Millisecond) {
		if !c.runs() {
			return nil
		}
	}
	return fmt.Errorf("PostgreSQL (process %d) does not stop", c.pid)
}
