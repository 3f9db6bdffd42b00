package client

import (
	"archive/zip"
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// Recorded is one event of a recording.
type Recorded struct {
	At   time.Time
	Mark byte // > written to the printer, < read from it, = measured, ! decided
	Text string
}

// ReadRecording calls f with every event of a recording in an archive on disk.
func ReadRecording(path string, f func(Recorded) error) error {
	archive, err := zip.OpenReader(path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("there is no file %s", path)
	}
	if err != nil {
		return fmt.Errorf("%s is no recording: %w", path, err)
	}
	defer archive.Close()
	log, err := archive.Open("recording.log")
	if err != nil {
		return fmt.Errorf("%s is no recording: there is no recording.log in it", path)
	}
	defer log.Close()
	lines := bufio.NewScanner(log)
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		e, err := parseRecorded(lines.Text())
		if err != nil {
			return fmt.Errorf("%s, line %d of recording.log: %w", path, n, err)
		}
		if err := f(e); err != nil {
			return err
		}
	}
	return lines.Err()
}

func parseRecorded(line string) (Recorded, error) {
	at, rest, _ := strings.Cut(line, " ")
	mark, quoted, _ := strings.Cut(rest, " ")
	micros, err := strconv.ParseInt(at, 10, 64)
	text, unquote := strconv.Unquote(quoted)
	if err != nil || unquote != nil || len(mark) != 1 || !strings.Contains("><=!", mark) {
		return Recorded{}, fmt.Errorf("found %.60q, which is no event", line)
	}
	return Recorded{At: time.UnixMicro(micros), Mark: mark[0], Text: text}, nil
}
