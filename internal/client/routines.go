package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"diathermon/internal/api"
)

// Routines lists routines.
func (c *Client) Routines(ctx context.Context) (api.Routines, error) {
	return get[api.Routines](ctx, c, "/v1/routines")
}

// Routine returns one.
func (c *Client) Routine(ctx context.Context, name string) (api.Routine, error) {
	return get[api.Routine](ctx, c, routinePath(name))
}

// CheckRoutine says what a text would do as a routine; nothing is stored.
func (c *Client) CheckRoutine(ctx context.Context, text string) (api.Routine, error) {
	var out api.Routine
	return out, c.call(ctx, http.MethodPost, "/v1/routines/check", api.RoutineText{Text: text}, &out)
}

// StoreRoutine stores a routine under the name that its text has.
func (c *Client) StoreRoutine(ctx context.Context, name, text string) (api.Routine, error) {
	var out api.Routine
	return out, c.call(ctx, http.MethodPut, routinePath(name), api.RoutineText{Text: text}, &out)
}

// RemoveRoutine removes what the keeper has written.
func (c *Client) RemoveRoutine(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, routinePath(name), nil, nil)
}

// Perform performs a routine with values for its parameters.
func (c *Client) Perform(ctx context.Context, name string, values map[string]string) (api.Performance, error) {
	var out api.Performance
	return out, c.call(ctx, http.MethodPost, routinePath(name)+"/performances", api.Perform{Values: values}, &out)
}

// AnswerQuestion answers what a performance asks.
func (c *Client) AnswerQuestion(ctx context.Context, id string, a api.QuestionAnswer) (api.Performance, error) {
	var out api.Performance
	return out, c.call(ctx, http.MethodPost, performancePath(id)+"/answers", a, &out)
}

// StopPerformance stops a performance, into its safe state.
func (c *Client) StopPerformance(ctx context.Context, id string) (api.Performance, error) {
	var out api.Performance
	return out, c.call(ctx, http.MethodPost, performancePath(id)+"/stop", nil, &out)
}

// Performances lists what was performed, the newest first.
func (c *Client) Performances(ctx context.Context, limit int) (api.Performances, error) {
	return get[api.Performances](ctx, c, "/v1/performances?limit="+strconv.Itoa(limit))
}

// Performance returns one with all that it did.
func (c *Client) Performance(ctx context.Context, id string) (api.Performance, error) {
	return get[api.Performance](ctx, c, performancePath(id))
}

func routinePath(name string) string { return "/v1/routines/" + url.PathEscape(name) }

func performancePath(id string) string { return "/v1/performances/" + url.PathEscape(id) }

// Outputs lists fans, lights and pins.
func (c *Client) Outputs(ctx context.Context) (api.Outputs, error) {
	return get[api.Outputs](ctx, c, "/v1/outputs")
}

// SetOutput sets one, 0 to 100 %.
func (c *Client) SetOutput(ctx context.Context, name string, level float64) (api.Outputs, error) {
	var out api.Outputs
	return out, c.call(ctx, http.MethodPut, "/v1/outputs/"+url.PathEscape(name), api.OutputLevel{Level: level}, &out)
}
