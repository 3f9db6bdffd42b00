package durable

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A Count is a number that outlives the process and not the computer: it lies in memory
// that the kernel keeps under a name. Setting it costs a store, and no disk is waited
// for. It is for one process at a time.
type Count struct {
	path string
	page []byte // nil once it is removed
}

// memory is where the kernel keeps memory under names.
var memory = "/dev/shm"

// countSize is what is kept of a Count, in bytes.
const countSize = 8

// NewCount returns the count of that name, made or begun anew with 0.
func NewCount(name string) (*Count, error) {
	c, err := openCount(name, os.O_CREATE)
	if err == nil {
		c.Set(0)
	}
	return c, err
}

// OpenCount returns the count of that name as it was set last. It fails with
// os.ErrNotExist where none was made since the computer started.
func OpenCount(name string) (*Count, error) { return openCount(name, 0) }

func openCount(name string, flag int) (*Count, error) {
	path := filepath.Join(memory, name)
	f, err := os.OpenFile(path, os.O_RDWR|syscall.O_NOFOLLOW|flag, FileMode)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := ours(f); err != nil {
		return nil, err
	}
	if flag != 0 { // so that a store finds its page, however full the memory is
		if err := fallocate(f, 0, countSize); err != nil {
			return nil, fmt.Errorf("there is no memory for %s: %w", path, err)
		}
	}
	if info, err := f.Stat(); err != nil || info.Size() != countSize {
		return nil, errors.Join(err, fmt.Errorf("%s is no count", path))
	}
	page, err := unix.Mmap(int(f.Fd()), 0, countSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, err
	}
	return &Count{path, page}, nil
}

// ours says why a file is not memory, or not this user's alone: everybody may make files
// where the kernel keeps memory.
func ours(f *os.File) error {
	var on unix.Statfs_t
	if err := unix.Fstatfs(int(f.Fd()), &on); err != nil {
		return err
	}
	var file unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &file); err != nil {
		return err
	}
	switch {
	case on.Type != unix.TMPFS_MAGIC:
		return fmt.Errorf("%s is on a disk", f.Name())
	case file.Mode&unix.S_IFMT != unix.S_IFREG || file.Nlink != 1 || file.Mode&0o077 != 0,
		int(file.Uid) != os.Geteuid():
		return fmt.Errorf("%s is somebody else's", f.Name())
	}
	return nil
}

// Set sets the count.
func (c *Count) Set(n int) {
	if c.page != nil {
		atomic.StoreInt64(c.at(), int64(n))
	}
}

// Get returns the count; 0 once it is removed.
func (c *Count) Get() int {
	if c.page == nil {
		return 0
	}
	return int(atomic.LoadInt64(c.at()))
}

func (c *Count) at() *int64 { return (*int64)(unsafe.Pointer(unsafe.SliceData(c.page))) }

// Close leaves the count to the next process.
func (c *Count) Close() error {
	page := c.page
	c.page = nil
	return unix.Munmap(page)
}

// Remove ends the count, which nobody needs any more.
func (c *Count) Remove() error { return errors.Join(c.Close(), os.Remove(c.path)) }

// RemoveCount removes the count of that name, which nobody has open.
func RemoveCount(name string) error { return os.Remove(filepath.Join(memory, name)) }
