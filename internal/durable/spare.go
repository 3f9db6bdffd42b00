package durable

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// ErrSpare means that what is left of the disk is kept for what a print writes.
var ErrSpare = errors.New("what is left of the disk is kept for prints")

// What is left free by whoever stores what others send: of a large disk so many bytes, of a
// small one a share.
const (
	spareMost  = 256 << 20
	spareShare = 20
)

// room tells how many bytes of a folder's disk are free, and how many there are.
var room = func(dir string) (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, 0, &os.PathError{Op: "statfs", Path: dir, Err: err}
	}
	return int64(st.Bavail) * int64(st.Bsize), int64(st.Blocks) * int64(st.Bsize), nil
}

// Room tells how many bytes of a folder's disk are free, and how many there are.
func Room(dir string) (free, total int64, err error) { return room(dir) }

// Spare is the error of so many bytes more from outside in a folder, if they would take what
// journals, records and logs need.
func Spare(dir string, more int64) error {
	free, total, err := room(dir)
	if err != nil {
		return err
	}
	if spare := min(spareMost, total/spareShare); free-max(more, 0) < spare {
		return fmt.Errorf("%w: %d MB are free, and %d MB stay so", ErrSpare, free/1e6, spare/1e6)
	}
	return nil
}
