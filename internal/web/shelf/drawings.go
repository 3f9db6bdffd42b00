package shelf

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/survey"
	"diathermon/internal/web/desk"
)

// mountDrawings mounts what the survey draws of a file.
func (a Area) mountDrawings(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: survey.ErrNothing, Status: http.StatusNotFound, Title: "there is nothing to draw"},
	)
	picture := servesRanges(d, ops.GetFilePicture.Call, "image/png",
		&huma.Param{Name: "size", In: "query", Description: "Pixels of a side at the least: the next of 64, 256 and 800 is sent", Schema: &huma.Schema{Type: "integer"}})
	drawn := func(op huma.Operation) huma.Operation {
		op.Responses["204"] = &huma.Response{Description: "It has not been drawn yet"}
		return op
	}
	d.Raw(drawn(picture), "", a.picture)
	d.Raw(drawn(servesRanges(d, ops.GetFileLayers.Call, "application/vnd.diathermon.layers")), "", a.layers)
}

// drawing serves what open opens of the file that is asked for.
func (a Area) drawing(w http.ResponseWriter, r *http.Request, media string, open func(toolpath.File) (*os.File, string, error)) error {
	f, err := a.Shelf.Known(r.Context(), asked(r))
	if err != nil {
		return err
	}
	file, kind, err := open(f)
	if errors.Is(err, survey.ErrNotYet) { // which whoever asks expects, and is no error
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s: %w", f.Name, err)
	}
	defer file.Close()
	w.Header().Set("ETag", fmt.Sprintf(`"%s-%s"`, f.Digest, kind))
	w.Header().Set("Content-Type", media)
	w.Header().Set("Cache-Control", "private, no-cache") // a file may be replaced: asked for again, it is not sent again
	http.ServeContent(w, r, "", f.Stored, file)
	return nil
}

func (a Area) picture(w http.ResponseWriter, r *http.Request) error {
	pixels := survey.Sizes[0]
	if asked := r.URL.Query().Get("size"); asked != "" {
		var err error
		if pixels, err = strconv.Atoi(asked); err != nil || pixels <= 0 {
			return &api.Problem{Status: http.StatusBadRequest, Title: fmt.Sprintf("size=%s is no number of pixels", asked), Detail: "ask for 64, 256 or 800"}
		}
	}
	return a.drawing(w, r, "image/png", func(f toolpath.File) (*os.File, string, error) {
		file, which, err := a.Survey.Picture(f, pixels)
		return file, survey.Version + "-" + which, err
	})
}

func (a Area) layers(w http.ResponseWriter, r *http.Request) error {
	return a.drawing(w, r, "application/vnd.diathermon.layers", func(f toolpath.File) (*os.File, string, error) {
		file, err := a.Survey.Layers(f)
		return file, survey.Version + "-layers", err
	})
}
