// Package ops is every operation of the contract, each declared once: what it is
// called, where it is, which scope it needs, what goes in and what comes out. The
// service mounts its handlers on these values, the OpenAPI document and the client's
// calls are made from them, and so are the commands that show what one answers.
//
// An operation that is declared and not mounted keeps the service from starting.
package ops

import (
	"net/http"
	"slices"
)

// A Call is what is the same for operations of any types.
type Call struct {
	ID, Method string
	Path       string // with the names of its parameters in braces
	Scope      string // which whoever calls must have
	Summary    string // a sentence without its full stop
	Status     int    // when all is well; 0: 200, or 204 where nothing comes out
	Problems   []int  // the statuses of problems that are its own
	None       string // what 204 means, which is answered where there is nothing yet; empty: there always is
}

// An Op is an operation. In is a struct: its fields are parameters, by their tags path and
// query, but for Body, which is sent as JSON. Out is what is answered as JSON, Nothing, or
// Bytes.
type Op[In, Out any] struct{ Call }

// Nothing goes in, or comes out.
type Nothing struct{}

// Bytes come out, of a media type of their own.
type Bytes struct{}

// all are the operations that were declared.
var all []Call

// All returns every operation of the contract.
func All() []Call { return slices.Clone(all) }

// declare declares an operation. The statuses are those of its problems, and that of its
// success if it is another than is usual.
func declare[In, Out any](id, method, path, scope, summary string, statuses []int) Op[In, Out] {
	c := Call{ID: id, Method: method, Path: path, Scope: scope, Summary: summary}
	for _, s := range statuses {
		if s < http.StatusMultipleChoices {
			c.Status = s
		} else {
			c.Problems = append(c.Problems, s)
		}
	}
	all = append(all, c)
	return Op[In, Out]{c}
}

func get[In, Out any](id, path, scope, summary string, statuses ...int) Op[In, Out] {
	return declare[In, Out](id, http.MethodGet, path, scope, summary, statuses)
}

func put[In, Out any](id, path, scope, summary string, statuses ...int) Op[In, Out] {
	return declare[In, Out](id, http.MethodPut, path, scope, summary, statuses)
}

func post[In, Out any](id, path, scope, summary string, statuses ...int) Op[In, Out] {
	return declare[In, Out](id, http.MethodPost, path, scope, summary, statuses)
}

func patch[In, Out any](id, path, scope, summary string, statuses ...int) Op[In, Out] {
	return declare[In, Out](id, http.MethodPatch, path, scope, summary, statuses)
}

func remove[In, Out any](id, path, scope, summary string, statuses ...int) Op[In, Out] {
	return declare[In, Out](id, http.MethodDelete, path, scope, summary, statuses)
}

// orNone says what it means that there is nothing yet.
func (o Op[In, Out]) orNone(words string) Op[In, Out] {
	o.None = words
	return o
}
