package desk

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// An answer is encoded before its status is sent, so that one that cannot be, for a
// number in it that JSON does not know, is a 500 and not a broken 200.

// encoded is JSON that is ready to be sent.
type encoded []byte

// An EncodeError is what a handler panics with whose answer cannot be encoded; recover
// answers for it.
type EncodeError struct{ error }

// encode is the transformer that encodes what an operation answers.
func encode(_ huma.Context, _ string, v any) (any, error) {
	switch v.(type) {
	case nil, []byte, encoded:
		return v, nil
	}
	out, err := json.Marshal(v)
	if err != nil {
		panic(EncodeError{err})
	}
	return encoded(append(out, '\n')), nil
}

// encodedFormat sends what encode has made.
var encodedFormat = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		out, ready := v.(encoded)
		if !ready {
			return fmt.Errorf("%T was not encoded", v)
		}
		_, err := w.Write(out)
		return err
	},
	Unmarshal: json.Unmarshal,
}

// WriteJSON answers with a value.
func WriteJSON(w http.ResponseWriter, status int, media string, v any) {
	out, err := json.Marshal(v)
	if err != nil {
		panic(EncodeError{err})
	}
	w.Header().Set("Content-Type", media)
	w.WriteHeader(status)
	w.Write(append(out, '\n'))
}
