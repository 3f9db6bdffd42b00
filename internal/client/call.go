package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
)

// Call makes a call of an operation and returns what it answers. Where there is nothing
// yet the error says so.
func Call[In, Out any](ctx context.Context, c *Client, op ops.Op[In, Out], in In) (Out, error) {
	var out Out
	path, body := place(op.Path, in)
	answer := any(&out)
	if _, nothing := answer.(*ops.Nothing); nothing {
		answer = nil
	}
	err := c.call(ctx, op.Method, path, body, answer)
	if errors.Is(err, errNone) {
		err = &api.Problem{Status: http.StatusNotFound, Title: op.None}
	}
	return out, err
}

// Ask is Call of an operation into which nothing goes.
func Ask[Out any](ctx context.Context, c *Client, op ops.Op[ops.Nothing, Out]) (Out, error) {
	return Call(ctx, c, op, ops.Nothing{})
}

// Do is Call of an operation that answers with nothing.
func Do[In any](ctx context.Context, c *Client, op ops.Op[In, ops.Nothing], in In) error {
	_, err := Call(ctx, c, op, in)
	return err
}

// Fetch writes the bytes that an operation answers with to w.
func Fetch[In any](ctx context.Context, c *Client, op ops.Op[In, ops.Bytes], in In, w io.Writer) error {
	path, _ := place(op.Path, in)
	res, err := c.do(ctx, op.Method, path, nil, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// place puts an operation's parameters into its path and the query behind it, by the tags
// that the service reads them by, and returns its body; nil: it has none.
func place(path string, in any) (where string, body any) {
	p := placing{path: path, query: url.Values{}}
	p.take(reflect.ValueOf(in))
	if len(p.query) > 0 {
		p.path += "?" + p.query.Encode()
	}
	return p.path, p.body
}

// placing is what place comes to.
type placing struct {
	path  string
	query url.Values
	body  any
}

// take takes the fields of an operation's input.
func (p *placing) take(in reflect.Value) {
	for i := range in.NumField() {
		field, v := in.Type().Field(i), in.Field(i)
		inPath, inQuery := field.Tag.Get("path"), field.Tag.Get("query")
		switch {
		case field.Anonymous:
			p.take(v)
		case inPath != "":
			p.path = strings.Replace(p.path, "{"+inPath+"}", url.PathEscape(parameter(v)), 1)
		case inQuery != "":
			if empty := v.Kind() == reflect.Slice && v.Len() == 0; !empty && !v.IsZero() {
				p.query.Set(inQuery, parameter(v))
			}
		case field.Name == "Body" && !(v.Kind() == reflect.Pointer && v.IsNil()):
			p.body = v.Interface()
		}
	}
}

// parameter writes a parameter as the service reads it.
func parameter(v reflect.Value) string {
	if at, is := v.Interface().(time.Time); is {
		return at.UTC().Format(time.RFC3339Nano)
	}
	if v.Kind() != reflect.Slice {
		return fmt.Sprint(v.Interface())
	}
	all := make([]string, v.Len())
	for i := range all {
		all[i] = parameter(v.Index(i))
	}
	return strings.Join(all, ",")
}
