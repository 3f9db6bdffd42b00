package durable

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"
)

// line is a record of the tests'.
func line(n int) []byte { return Line(fmt.Appendf(nil, "%d record", n)) }

var good = Lines(func(line []byte) bool {
	_, ok := Body(line)
	return ok
})

// records are the numbers of the records that a file holds.
func records(t *testing.T, path string, o Options) []int {
	t.Helper()
	l, data, err := Open(path, good, o)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var out []int
	for line := range bytes.Lines(data) {
		n, err := strconv.Atoi(strings.Fields(string(line))[1])
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, n)
	}
	return out
}

// inOrder reports whether what is there are the first records, at least so many.
func inOrder(t *testing.T, what string, got []int, least, most int) {
	t.Helper()
	if len(got) < least || len(got) > most {
		t.Fatalf("%s: %d records are there, want %d to %d", what, len(got), least, most)
	}
	for i, n := range got {
		if n != i {
			t.Fatalf("%s: the records are %v", what, got)
		}
	}
}

var ways = map[string]Options{"as it comes": {}, "in blocks": {Block: 512}}

func TestALogIsReadUpToWhereverItWasCutOrSpoilt(t *testing.T) {
	for what, o := range ways {
		path := filepath.Join(t.TempDir(), "log")
		l, _, err := Open(path, good, o)
		if err != nil {
			t.Fatal(err)
		}
		ends := []int{0}
		for n := range 12 {
			if err := l.Append(line(n)); err != nil {
				t.Fatal(err)
			}
			ends = append(ends, ends[n]+len(line(n)))
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		whole, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for at := range ends[12] {
			before := 0
			for ends[before+1] <= at {
				before++
			}
			for how, spoil := range map[string]func([]byte) []byte{
				"is cut off":           func(b []byte) []byte { return b[:at] },
				"is spoilt":            func(b []byte) []byte { b[at] ^= 0x21; return b },
				"is followed by zeros": func(b []byte) []byte { clear(b[at:]); return b },
			} {
				if err := os.WriteFile(path, spoil(bytes.Clone(whole)), 0o600); err != nil {
					t.Fatal(err)
				}
				inOrder(t, fmt.Sprintf("%s, byte %d %s", what, at, how), records(t, path, o), before, before)
				l, _, err := Open(path, good, o)
				if err != nil {
					t.Fatal(err)
				}
				if err := errors.Join(l.Append(line(before)), l.Close()); err != nil {
					t.Fatal(err)
				}
				inOrder(t, fmt.Sprintf("%s, byte %d %s, and written on", what, at, how), records(t, path, o), before+1, before+1)
			}
		}
	}
}

// faulty is a disk on which one call, or every call from it on, fails.
type faulty struct {
	disk
	calls   atomic.Int64
	fails   int  // the call that does, from 1
	row     int  // so many calls in a row
	halfway bool // a write takes half of its bytes before that
	safe    []byte
}

func (d *faulty) fail() error {
	if n := int(d.calls.Add(1)); n >= d.fails && n < d.fails+d.row {
		return syscall.ENOSPC
	}
	return nil
}

func (d *faulty) open(path string, flag int) (*os.File, error) {
	if err := d.fail(); err != nil {
		return nil, err
	}
	return d.disk.open(path, flag)
}

func (d *faulty) write(f *os.File, b []byte) (int, error) {
	if err := d.fail(); err != nil {
		if d.halfway {
			d.disk.write(f, b[:len(b)/2])
		}
		return len(b) / 2, err
	}
	return d.disk.write(f, b)
}

func (d *faulty) writeAt(f *os.File, b []byte, at int64) error {
	if err := d.fail(); err != nil {
		if d.halfway {
			d.disk.writeAt(f, b[:len(b)/2], at)
		}
		return err
	}
	return d.disk.writeAt(f, b, at)
}

func (d *faulty) truncate(f *os.File, size int64) error {
	if err := d.fail(); err != nil {
		return err
	}
	return d.disk.truncate(f, size)
}

func (d *faulty) allocate(f *os.File, from, n int64) error {
	if err := d.fail(); err != nil {
		return err
	}
	return d.disk.allocate(f, from, n)
}

func (d *faulty) sync(f *os.File) error {
	if err := d.fail(); err != nil {
		return err
	}
	if b, err := os.ReadFile(f.Name()); err == nil { // what a power cut would leave from now on
		d.safe = b
	}
	return d.disk.sync(f)
}

func (d *faulty) rename(from, to string) error {
	if err := d.fail(); err != nil {
		return err
	}
	return d.disk.rename(from, to)
}

// on lets f run on a disk that fails, and returns whether the call that was to fail
// came.
func on(d *faulty, f func()) bool {
	d.disk = sys
	sys = d
	defer func() { sys = d.disk }()
	f()
	return int(d.calls.Load()) >= d.fails
}

func TestWhateverCallFailsNothingIsLostThatWasSynced(t *testing.T) {
	for what, o := range ways {
		for _, row := range []int{1, 3, 1000} {
			for _, halfway := range []bool{false, true} {
				for call := 1; ; call++ {
					path := filepath.Join(t.TempDir(), "log")
					synced, appended := 0, 0
					var l *Log
					d := &faulty{fails: call, row: row, halfway: halfway}
					came := on(d, func() {
						var err error
						if l, _, err = Open(path, good, o); err != nil {
							l = nil
							return
						}
						for n := range 30 {
							l.Append(line(n)) // whatever it says: it is written with the next
							appended++
							for try := 0; try < 2 && n%4 == 3 && synced < appended; try++ { // what failed is done the next time
								if l.Sync() == nil {
									synced = appended
								}
							}
						}
					})
					if l == nil {
						continue
					}
					name := fmt.Sprintf("%s, %d calls from call %d on fail, halfway %v", what, row, call, halfway)
					there, err := os.ReadFile(path)
					if err != nil && synced > 0 {
						t.Fatalf("%s: %v", name, err)
					}
					for after, left := range map[string][]byte{"the process": there, "the power": d.safe} {
						second := path + ".copy"
						if err := os.WriteFile(second, left, 0o600); err != nil {
							t.Fatal(err)
						}
						inOrder(t, name+", and "+after+" ends", records(t, second, o), synced, appended)
					}
					if err := l.Close(); err != nil { // the disk is well again
						t.Fatalf("%s: %v", name, err)
					}
					inOrder(t, name+", and then it is well", records(t, path, o), appended, appended)
					if !came {
						break
					}
				}
			}
		}
	}
}

func TestAFileIsReplacedAsAWholeOrNotAtAll(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(path, []byte("before"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, halfway := range []bool{false, true} {
		for call := 1; ; call++ {
			var failed error
			came := on(&faulty{fails: call, row: 1, halfway: halfway}, func() { failed = Replace(path, Bytes([]byte("and after"))) })
			now, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			if text := string(now); text != "before" && text != "and after" || failed == nil && text != "and after" {
				t.Errorf("call %d failed, %v, and the file is %q", call, failed, text)
			}
			if left, err := filepath.Glob(path + ".*"); err != nil || len(left) > 0 {
				t.Errorf("call %d failed, and %v is left", call, left)
			}
			os.WriteFile(path, []byte("before"), 0o600)
			if !came {
				if failed != nil {
					t.Errorf("nothing failed, and it says %v", failed)
				}
				break
			}
		}
	}
	if err := Replace(path, func(w io.Writer) error {
		io.WriteString(w, "half of")
		return errors.New("it has been thought better of")
	}); err == nil {
		t.Error("what could not be written is no error")
	}
	if now, _ := os.ReadFile(path); string(now) != "before" {
		t.Errorf("the file is %q", now)
	}
}

func TestWhatIsWrittenOverStaysWhereItIs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log")
	l, _, err := Open(path, func(b []byte) int { return min(len(b), 4) }, Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(l.Append([]byte("0000")), l.Append([]byte("abcd")), l.Over(1, []byte("12"))); err != nil {
		t.Fatal(err)
	}
	if err := l.Over(7, []byte("xy")); err == nil {
		t.Error("what is not there yet was written over")
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if b, _ := os.ReadFile(path); string(b) != "0120abcd" {
		t.Errorf("the file is %q", b)
	}
}

func TestALogThatWasRemovedStaysAway(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log")
	l := New(path, Options{})
	if err := errors.Join(l.Append(line(0)), l.Remove(), l.Append(line(1)), l.Sync()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what was appended late has made it anew: %v", err)
	}
}

func TestALogIsForcedOntoTheDiskAsOftenAsItSays(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &faulty{fails: 1 << 30}
		on(d, func() {
			l, _, err := Open(filepath.Join(t.TempDir(), "log"), good, Options{Every: 5 * time.Second})
			if err != nil {
				t.Fatal(err)
			}
			if err := l.Append(line(0)); err != nil {
				t.Fatal(err)
			}
			before := d.calls.Load()
			time.Sleep(4 * time.Second)
			if d.calls.Load() != before {
				t.Error("it was forced too soon")
			}
			time.Sleep(2 * time.Second)
			if d.calls.Load() == before {
				t.Error("it was not forced")
			}
			before = d.calls.Load()
			time.Sleep(time.Minute)
			if d.calls.Load() != before {
				t.Error("it was forced although nothing was written")
			}
			if err := l.Remove(); err != nil {
				t.Error(err)
			}
			synctest.Wait()
		})
	})
}
