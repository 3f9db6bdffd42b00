package desk

import (
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// Archive describes a call that answers with a ZIP archive.
func Archive(op huma.Operation) huma.Operation {
	op.Responses = map[string]*huma.Response{"200": {
		Description: "The archive", Content: map[string]*huma.MediaType{"application/zip": {Schema: &huma.Schema{Type: "string", Format: "binary"}}},
	}}
	return op
}

// SendArchive sends an archive to be kept under a name of its own.
func SendArchive(w http.ResponseWriter, name string, write func(io.Writer) error) {
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "diathermon-"+name+".zip"))
	if err := write(w); err != nil {
		panic(http.ErrAbortHandler) // so that nobody takes the part for the whole
	}
}
