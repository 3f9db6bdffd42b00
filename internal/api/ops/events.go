package ops

import "diathermon/internal/core/access"

// The operations of live events, and of the document of all operations.
var (
	Events = get[WhichEvents, Bytes]("events", "/v1/events", access.Read,
		"Live events. First everything as it is now, then what changes")
	GetOpenAPI = get[Nothing, Bytes]("get-openapi", "/v1/openapi.json", access.Read, "This document")
)
