package client

import (
	"context"
	"net/http"

	"diathermon/internal/api"
)

// Press moves the head or filament, and returns where the head is going.
func (c *Client) Press(ctx context.Context, p api.Press) (api.Motion, error) {
	return c.motion(ctx, "presses", p)
}

// DropPresses forgets what was pressed and has not begun.
func (c *Client) DropPresses(ctx context.Context) (api.Motion, error) {
	var out api.Motion
	return out, c.call(ctx, http.MethodDelete, "/v1/motion/presses", nil, &out)
}

// Home homes axes, of XYZ; all without any.
func (c *Client) Home(ctx context.Context, axes string) (api.Motion, error) {
	return c.motion(ctx, "home", api.Home{Axes: axes})
}

// Park lifts the nozzle and takes it to a corner.
func (c *Client) Park(ctx context.Context) (api.Motion, error) { return c.motion(ctx, "park", nil) }

// MotorsOff lets the axes go.
func (c *Client) MotorsOff(ctx context.Context) (api.Motion, error) {
	return c.motion(ctx, "motors-off", nil)
}

func (c *Client) motion(ctx context.Context, what string, in any) (api.Motion, error) {
	var out api.Motion
	return out, c.call(ctx, http.MethodPost, "/v1/motion/"+what, in, &out)
}

// Endstops asks the printer what its endstops say.
func (c *Client) Endstops(ctx context.Context) (api.Endstops, error) {
	return get[api.Endstops](ctx, c, "/v1/motion/endstops")
}
