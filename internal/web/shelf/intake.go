package shelf

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/textproto"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/access"
	"diathermon/internal/doors"
	"diathermon/internal/facts"
	"diathermon/internal/shelf"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/runs"
)

// upload describes and mounts one way to store a file.
func (a Area) upload(d *desk.Desk, c ops.Call, pattern, media string, handler func(http.ResponseWriter, *http.Request) error) {
	op := d.Describe(c)
	stored := &huma.Response{
		Description: "Stored; with then=print also started and with then=queue waiting, or why not",
		Content:     map[string]*huma.MediaType{"application/json": {Schema: d.Schema(api.Stored{})}},
		Headers:     map[string]*huma.Param{"Location": {Schema: &huma.Schema{Type: "string"}, Description: "Where the file is"}},
	}
	same := *stored
	same.Description = "The same bytes were there already"
	op.Responses = map[string]*huma.Response{"201": stored, "200": &same}
	if op.Method == http.MethodPut {
		op.Responses["202"] = &huma.Response{Description: "The piece is here; the rest is to follow", Content: map[string]*huma.MediaType{"application/json": {Schema: d.Schema(api.Beginning{})}}}
		op.Parameters = append(op.Parameters, &huma.Param{Name: "Content-Range", In: "header", Description: "RFC 9110; which bytes of the file these are, as bytes FIRST-LAST/SIZE", Schema: &huma.Schema{Type: "string"}})
	}
	body := &huma.Schema{Type: "string", Format: "binary"}
	if media == "multipart/form-data" {
		body = &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{"file": body}}
	} else {
		op.Parameters = append(op.Parameters, &huma.Param{Name: "name", In: "path", Required: true, Description: "Name on the shelf", Schema: &huma.Schema{Type: "string"}})
	}
	op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{media: {Schema: body}}}
	op.Parameters = append(op.Parameters,
		&huma.Param{Name: "replace", In: "query", Description: "Other bytes of the same name may go", Schema: &huma.Schema{Type: "boolean"}},
		&huma.Param{Name: "then", In: "query", Description: "What becomes of it once it is stored: nothing, it is started, or it waits in turn", Schema: &huma.Schema{Type: "string", Enum: []any{"store", "print", "queue"}}},
		&huma.Param{Name: "Content-Digest", In: "header", Description: "RFC 9530; a sha-256 in it is checked, unless these are some bytes of the file only", Schema: &huma.Schema{Type: "string"}},
		&huma.Param{Name: "Repr-Digest", In: "header", Description: "RFC 9530; a sha-256 of the whole file in it is checked", Schema: &huma.Schema{Type: "string"}},
	)
	d.Raw(op, pattern, handler)
}

// mountIntake mounts the ways to store a file.
func (a Area) mountIntake(d *desk.Desk) {
	a.upload(d, ops.PutFile.Call, "/v1/shelf/*", "application/octet-stream", a.putFile)
	a.upload(d, ops.PostFile.Call, "", "multipart/form-data", a.postFile)
	desk.Show(d, ops.GetFileBeginning, func(ctx context.Context, in *ops.Name) (api.Beginning, error) {
		b, err := a.Shelf.Begun(ctx, guard.Self(ctx), in.Name)
		return api.Beginning{Name: in.Name, ReceivedBytes: b.Bytes, Digest: b.Digest}, err
	})
}

// coming tells of the files that are on their way.
func coming(all []*shelf.Coming) []api.Coming {
	out := make([]api.Coming, len(all))
	for i, c := range all {
		out[i] = api.Coming{Name: c.Name, Sender: c.Sender, ReceivedBytes: c.Bytes(), Since: c.Since.UTC()}
		if c.Size >= 0 {
			out[i].Size = &c.Size
		}
	}
	return out
}

func (a Area) putFile(w http.ResponseWriter, r *http.Request) error {
	// The name is the rest of the address as it was sent, so that a slash in it is
	// seen and named, whether it was escaped or not.
	_, raw, _ := strings.Cut(r.URL.EscapedPath(), "/v1/shelf/")
	name, err := url.PathUnescape(raw)
	if err != nil {
		return fmt.Errorf("%w: %v", shelf.ErrName, err)
	}
	arrival := shelf.Arrival{Name: name, Body: r.Body, Size: r.ContentLength}
	if err := ranged(r, &arrival); err != nil {
		return err
	}
	return a.store(w, r, r.URL.Query(), arrival, func() []string { return nil })
}

// ranged reads which bytes of a file a body has (RFC 9110, 14.4 and 14.5).
func ranged(r *http.Request, a *shelf.Arrival) error {
	field := r.Header.Get("Content-Range")
	if field == "" {
		return nil
	}
	var first, last, size int64
	if n, err := fmt.Sscanf(field, "bytes %d-%d/%d", &first, &last, &size); n != 3 || err != nil || first < 0 || last < first || size <= last || fmt.Sprintf("bytes %d-%d/%d", first, last, size) != field {
		return &api.Problem{Status: http.StatusBadRequest, Title: "this Content-Range cannot be read", Detail: fmt.Sprintf("%q came; it should look like bytes 1000-1999/5000: the first byte, the last, and how many the whole file has", field)}
	}
	if r.ContentLength >= 0 && r.ContentLength != last-first+1 {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the Content-Range does not fit the body", Detail: fmt.Sprintf("%s are %d bytes, and the body has %d", field, last-first+1, r.ContentLength)}
	}
	a.Size, a.Offset, a.Piece = size, first, last+1 < size
	return nil
}

func (a Area) postFile(w http.ResponseWriter, r *http.Request) error {
	parts, err := newForm(r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return &api.Problem{Status: http.StatusBadRequest, Title: "this is not a form with a file", Detail: "send multipart/form-data with one part that has a file name, or PUT the bytes to /v1/shelf/NAME"}
	}
	asked := r.URL.Query()
	for {
		header, err := parts.next()
		if err == io.EOF {
			return &api.Problem{Status: http.StatusBadRequest, Title: "there is no file in this form", Detail: "one part must have a file name"}
		}
		if err != nil {
			return fmt.Errorf("%w: the form breaks off: %v", shelf.ErrShort, err)
		}
		field, name := disposition(header)
		if name != "" {
			return a.store(w, r, asked, shelf.Arrival{Name: name, Body: parts.content(header), Size: -1}, func() []string { return further(parts) })
		}
		if field == "then" || field == "replace" {
			value, err := io.ReadAll(io.LimitReader(parts.content(header), longestField))
			if err != nil {
				return fmt.Errorf("%w: the form breaks off: %v", shelf.ErrShort, err)
			}
			asked.Set(field, string(value))
		}
	}
}

// longestField is how much of a form's field is read.
const longestField = 64

// mostNamed is how many files of a form are named that were not taken.
const mostNamed = 20

// further returns the names of the files that come behind the one of a form that was
// taken. A form that breaks off behind it takes nothing away from that.
func further(parts *form) []string {
	var names []string
	for {
		header, err := parts.next()
		if err != nil {
			return names
		}
		if _, name := disposition(header); name != "" && len(names) < mostNamed {
			names = append(names, name)
		}
	}
}

// disposition reads what a form's part is called, and its file name as it was sent: what
// slashes in it are is for the shelf to judge.
func disposition(header textproto.MIMEHeader) (field, name string) {
	_, params, err := mime.ParseMediaType(header.Get("Content-Disposition"))
	if err != nil {
		return "", ""
	}
	return params["name"], params["filename"]
}

// store takes an arrival in, does with it what is asked for, and answers. Others returns
// the names of what came with it and was not taken, once it is stored.
func (a Area) store(w http.ResponseWriter, r *http.Request, asked url.Values, in shelf.Arrival, others func() []string) error {
	in.Replace = asked.Get("replace") == "true"
	fields := []string{"Repr-Digest", "Content-Digest"}
	if in.Offset > 0 || in.Piece {
		fields = fields[:1] // the other is about the piece
	}
	for _, field := range fields {
		sum, err := digest(r.Header.Get(field))
		if err != nil {
			return &api.Problem{Status: http.StatusBadRequest, Title: "the " + field + " cannot be read", Detail: err.Error()}
		}
		if in.SHA256 == nil {
			in.SHA256 = sum
		}
	}
	then, err := doors.Named(asked.Get("then"))
	if err != nil {
		return &api.Problem{Status: http.StatusBadRequest, Title: fmt.Sprintf("then=%s is not known", asked.Get("then")), Detail: "use then=print or then=queue, or leave it out"}
	}
	if then.Starts() {
		if p := a.lacking(r.Context(), access.Start); p != nil {
			return p
		}
	}
	in.Sender, in.Whose = guard.Caller(r.Context()), guard.Self(r.Context())
	t, err := a.Intake.Take(r.Context(), in, then)
	if errors.Is(err, shelf.ErrMore) {
		desk.WriteJSON(w, http.StatusAccepted, "application/json", api.Beginning{Name: t.File.Name, ReceivedBytes: t.File.Size})
		return nil
	}
	if err != nil {
		return err
	}
	w.Header().Set("Location", guard.Base(r.Context())+"/v1/shelf/"+url.PathEscape(t.File.Name))
	out := a.taken(r.Context(), t)
	out.NotTaken = others()
	status := http.StatusCreated
	if t.Outcome == shelf.Same {
		status = http.StatusOK
	}
	desk.WriteJSON(w, status, "application/json", out)
	return nil
}

// taken tells what became of a file.
func (a Area) taken(ctx context.Context, t doors.Taken) api.Stored {
	out := api.Stored{File: a.known(facts.Of(t.File, a.Printer), nil), Outcome: string(t.Outcome)}
	if t.Run != nil || t.Not != nil || t.Why != nil { // what it is started by
		if whole, err := a.whole(ctx, t.File, nil); err == nil {
			out.File = whole
		}
	}
	switch {
	case t.Not != nil:
		out.Not = a.problem(t.Not)
	case t.Run != nil:
		begun := runs.NowOf(*t.Run)
		out.Run = &begun
	case t.Place > 0:
		if out.Place = t.Place; t.Why != nil {
			out.Not = a.problem(t.Why)
		}
	}
	return out
}

// digest reads the sha-256 of a Content-Digest or Repr-Digest field (RFC 9530); nil if it
// has none.
func digest(field string) ([]byte, error) {
	for item := range strings.SplitSeq(field, ",") {
		if value, ok := strings.CutPrefix(strings.TrimSpace(item), "sha-256="); ok {
			sum, err := base64.StdEncoding.DecodeString(strings.Trim(value, ":"))
			if err != nil || len(sum) != 32 {
				return nil, errors.New("it should look like sha-256=:BASE64: with 32 bytes in it")
			}
			return sum, nil
		}
	}
	return nil, nil
}
