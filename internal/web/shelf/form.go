package shelf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/textproto"
	"strings"
)

// A form reads the parts of a form as they come (RFC 7578; RFC 2046, 5.1). The library's
// reader does the same by 4 KiB at a time, each of which it searches byte by byte for the
// end of a line: of a hundred megabytes that takes longer than storing them.
type form struct {
	in     *bufio.Reader
	dashes []byte // two of them, and the boundary
	bare   bool   // lines end without a carriage return
	begun  bool   // the first boundary has been seen
	inside bool   // a part whose end has not been seen
	fresh  bool   // and of which nothing has been read
	last   bool   // the closing delimiter has
}

const (
	formBuffer    = 256 << 10
	longestHead   = 64 << 10 // bytes of a part's header, and of what stands before the first part
	mostLinesHead = 200
)

var (
	errNoForm = errors.New("this is no form")
	errHead   = errors.New("a part's header is too long, or is none")
)

// newForm returns the form of a body, whose media type tells what parts its parts.
func newForm(contentType string, body io.Reader) (*form, error) {
	media, parameters, err := mime.ParseMediaType(contentType)
	boundary := parameters["boundary"]
	if err != nil || media != "multipart/form-data" || boundary == "" || len(boundary) > 70 {
		return nil, errNoForm
	}
	return &form{in: bufio.NewReaderSize(body, formBuffer), dashes: []byte("--" + boundary)}, nil
}

// next goes on to the next part and returns its header; io.EOF if there is none.
func (f *form) next() (textproto.MIMEHeader, error) {
	if f.last {
		return nil, io.EOF
	}
	if !f.begun {
		if err := f.begin(); err != nil {
			return nil, err
		}
	}
	if _, err := io.Copy(io.Discard, body{f}); err != nil { // what is left of the part before
		return nil, err
	}
	if f.last {
		return nil, io.EOF
	}
	var head bytes.Buffer
	for range mostLinesHead {
		line, err := f.in.ReadSlice('\n')
		if err != nil {
			return nil, broken(err)
		}
		if head.Write(line); head.Len() > longestHead {
			return nil, errHead
		}
		if len(bytes.TrimRight(line, "\r\n")) == 0 {
			f.inside, f.fresh = true, true
			header, err := textproto.NewReader(bufio.NewReader(&head)).ReadMIMEHeader()
			if err != nil {
				return nil, fmt.Errorf("%w: %w", errHead, err)
			}
			return header, nil
		}
	}
	return nil, errHead
}

// begin skips what stands before the first part.
func (f *form) begin() error {
	for skipped := 0; skipped <= longestHead; {
		line, err := f.in.ReadSlice('\n')
		skipped += len(line)
		rest, found := bytes.CutPrefix(line, f.dashes)
		switch {
		case found && err == nil && len(bytes.TrimSpace(rest)) == 0:
			f.begun, f.bare = true, !bytes.HasSuffix(rest, []byte("\r\n"))
			return nil
		case found && bytes.HasPrefix(rest, []byte("--")):
			f.last = true
			return io.EOF
		case err != nil && err != bufio.ErrBufferFull:
			if err == io.EOF && skipped == 0 {
				return err
			}
			return broken(err)
		}
	}
	return errHead
}

// broken is the error of a form that ends too early.
func broken(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// content is what the part that next came to holds.
func (f *form) content(header textproto.MIMEHeader) io.Reader {
	if strings.EqualFold(header.Get("Content-Transfer-Encoding"), "quoted-printable") {
		return quotedprintable.NewReader(body{f})
	}
	return body{f}
}

// body is what is left of the part that a form is in.
type body struct{ *form }

// Read reads the part, up to its end.
func (b body) Read(p []byte) (int, error) {
	f := b.form
	switch {
	case !f.inside:
		return 0, io.EOF
	case len(p) == 0:
		return 0, nil
	}
	for want := len(f.dashes) + 4; ; want = f.in.Buffered() + 1 {
		_, short := f.in.Peek(min(want, f.in.Size()))
		seen, _ := f.in.Peek(f.in.Buffered())
		n, delimiter := f.search(seen, short != nil)
		switch {
		case n > 0:
			n = copy(p, seen[:n])
			f.in.Discard(n)
			f.fresh = false
			return n, nil
		case delimiter > 0:
			return 0, f.end(delimiter)
		case short != nil:
			return 0, broken(short)
		}
	}
}

// search returns how many of the bytes that are seen belong to the part for certain, and,
// if none does, the length of the delimiter that stands there; neither, if more must be
// seen to tell. All says that no more will come.
func (f *form) search(seen []byte, all bool) (n, delimiter int) {
	for from := 0; ; {
		i := bytes.Index(seen[from:], f.dashes)
		if i < 0 {
			break
		}
		at, after := from+i, from+i+len(f.dashes)
		from = at + 1
		before := f.lineEnd(seen[:at])
		if before < 0 {
			continue
		}
		rest := seen[after:]
		if longer(rest, all) {
			continue
		}
		if at > before {
			return at - before, 0
		}
		if all || bytes.IndexByte(rest, '\n') >= 0 || bytes.HasPrefix(rest, []byte("--")) || len(rest) > longestPadding {
			return 0, after
		}
		return 0, 0
	}
	if all {
		return len(seen), 0
	}
	return max(len(seen)-len(f.dashes)-1, 0), 0 // the rest may be the beginning of a delimiter
}

// longer reports whether the boundary goes on, and is another one.
func longer(rest []byte, all bool) bool {
	switch {
	case len(rest) == 0:
		return false
	case rest[0] == '-' && len(rest) == 1:
		return all
	case rest[0] == '-':
		return rest[1] != '-'
	}
	return bytes.IndexByte([]byte(" \t\r\n"), rest[0]) < 0
}

// longestPadding is how many blanks may stand behind a delimiter (RFC 2046, 5.1.1).
const longestPadding = 1 << 10

// lineEnd is how many bytes at the end of a text are that of the line before a delimiter,
// which belongs to it; -1: there is none. A part may also have nothing in it at all.
func (f *form) lineEnd(text []byte) int {
	switch {
	case bytes.HasSuffix(text, []byte("\r\n")) && !f.bare:
		return 2
	case bytes.HasSuffix(text, []byte("\n")) && f.bare:
		return 1
	case len(text) == 0 && f.fresh:
		return 0
	}
	return -1
}

// end reads the delimiter of so many bytes that ends the part, and the rest of its line.
func (f *form) end(delimiter int) error {
	f.in.Discard(delimiter)
	f.inside = false
	line, err := f.in.ReadSlice('\n')
	rest, closing := bytes.CutPrefix(line, []byte("--"))
	rest = bytes.TrimLeft(rest, " \t")
	ends := string(rest) == "\r\n" && !f.bare || string(rest) == "\n" && f.bare
	switch {
	case err == io.EOF && len(rest) == 0, closing && ends:
		f.last = true // what there is has come whole
	case err != nil:
		return broken(err)
	case !ends:
		return fmt.Errorf("%w: %q stands behind a boundary", errNoForm, line)
	}
	return io.EOF
}
