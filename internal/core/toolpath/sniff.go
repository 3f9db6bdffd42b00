package toolpath

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
)

// sniffed is how much of a file Sniff wants.
const sniffed = 512

// Read is Scan of a file that may be anything.
func Read(r io.Reader, o Options) (Summary, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	head, err := in.Peek(sniffed)
	if err != nil && err != io.EOF {
		return Summary{}, err
	}
	if err := Sniff(head); err != nil {
		return Summary{}, err
	}
	return Scan(in, o)
}

// Sniff says in words what the beginning of a file is if it is plainly not
// G-code, or nil. It wants the first 512 bytes, or all of a shorter file.
func Sniff(head []byte) error {
	body := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(body) == 0 {
		return errors.New("the file is empty")
	}
	for _, k := range known {
		if bytes.HasPrefix(body, []byte(k.magic)) {
			return errors.New(k.what)
		}
	}
	if len(head) > tarMagic+5 && string(head[tarMagic:tarMagic+5]) == "ustar" {
		return errors.New("this is a tar archive: unpack it first")
	}
	if n := bytes.IndexByte(head, 0); n >= 0 {
		if len(head) >= 84 {
			return errors.New("this is binary data, perhaps a model (STL): slice it first and send the slicer's G-code as text")
		}
		return fmt.Errorf("this is binary data (a zero byte at %d): G-code is text", n)
	}
	return nil
}

// tarMagic is where a tar archive says what it is.
const tarMagic = 257

var known = []struct{ magic, what string }{
	{"solid ", "this is a model (STL), not G-code: slice it first"},
	{"solid\n", "this is a model (STL), not G-code: slice it first"},
	{"PK\x03\x04", "this is a ZIP archive or a 3MF model, not G-code: slice it, or unpack it, first"},
	{"\x89PNG", "this is a picture (PNG), not G-code"},
	{"\xff\xd8\xff", "this is a picture (JPEG), not G-code"},
	{"GIF8", "this is a picture (GIF), not G-code"},
	{"%PDF", "this is a PDF document, not G-code"},
	{"\x1f\x8b", "this is a gzip archive: unpack it first"},
	{"BZh", "this is a bzip2 archive: unpack it first"},
	{"\xfd7zXZ\x00", "this is an xz archive: unpack it first"},
	{"\x28\xb5\x2f\xfd", "this is a zstd archive: unpack it first"},
	{"7z\xbc\xaf\x27\x1c", "this is a 7z archive: unpack it first"},
	{"Rar!\x1a\x07", "this is a RAR archive: unpack it first"},
	{"\x7fELF", "this is a program, not G-code"},
	{"MZ\x90\x00", "this is a program, not G-code"},
	{"BM", "this is a picture (BMP), not G-code"},
	{"II*\x00", "this is a picture (TIFF), not G-code"},
	{"MM\x00*", "this is a picture (TIFF), not G-code"},
	{"RIFF", "this is a picture or a sound (RIFF), not G-code"},
	{"ISO-10303-21;", "this is a model (STEP), not G-code: slice it first"},
	{"mtllib ", "this is a model (OBJ), not G-code: slice it first"},
	{"v ", "this is a model (OBJ), not G-code: slice it first"},
	{"o ", "this is a model (OBJ), not G-code: slice it first"},
	{"OFF\n", "this is a model (OFF), not G-code: slice it first"},
	{"<?xml", "this is an XML file, perhaps a model: slice it first"},
	{"<html", "this is a web page, not G-code"},
	{"<!DOCTYPE", "this is a web page, not G-code"},
	{"<!doctype", "this is a web page, not G-code"},
	{"GCDE", "this is G-code in a packed binary form: let the slicer write plain text G-code"},
	{"\xfe\xff", "this is text in UTF-16: let the slicer write plain text"},
	{"\xff\xfe", "this is text in UTF-16: let the slicer write plain text"},
	{"ply\n", "this is a model (PLY), not G-code: slice it first"},
	{"{", "this is JSON, not G-code"},
}
