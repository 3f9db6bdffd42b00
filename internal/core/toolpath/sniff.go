package toolpath

import (
	"bytes"
	"errors"
	"fmt"
)

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
	if n := bytes.IndexByte(head, 0); n >= 0 {
		if len(head) >= 84 {
			return errors.New("this is binary data, perhaps a model (STL): slice it first and send the slicer's G-code as text")
		}
		return fmt.Errorf("this is binary data (a zero byte at %d): G-code is text", n)
	}
	return nil
}

var known = []struct{ magic, what string }{
	{"solid ", "this is a model (STL), not G-code: slice it first"},
	{"solid\n", "this is a model (STL), not G-code: slice it first"},
	{"PK\x03\x04", "this is a ZIP archive or a 3MF model, not G-code: slice it, or unpack it, first"},
	{"\x89PNG", "this is a picture (PNG), not G-code"},
	{"\xff\xd8\xff", "this is a picture (JPEG), not G-code"},
	{"GIF8", "this is a picture (GIF), not G-code"},
	{"%PDF", "this is a PDF document, not G-code"},
	{"\x1f\x8b", "this is a gzip archive: unpack it first"},
	{"<?xml", "this is an XML file, perhaps a model: slice it first"},
	{"<html", "this is a web page, not G-code"},
	{"<!DOCTYPE", "this is a web page, not G-code"},
	{"<!doctype", "this is a web page, not G-code"},
	{"GCDE", "this is G-code in a packed binary form: let the slicer write plain text G-code"},
	{"\xff\xfe", "this is text in UTF-16: let the slicer write plain text"},
	{"ply\n", "this is a model (PLY), not G-code: slice it first"},
	{"{", "this is JSON, not G-code"},
}
