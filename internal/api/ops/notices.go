package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of what persons are told.
var (
	ListNotices = get[Nothing, api.Notices]("list-notices", "/v1/notices", access.Read,
		"What persons were told last")
	ListBrowsers = get[Nothing, api.CalledBrowsers]("list-browsers", "/v1/notices/browsers", access.Read,
		"The browsers that are called, by whom they can be called")
	CallBrowser = post[With[api.CallBrowser], api.CalledBrowser]("call-browser", "/v1/notices/browsers", access.Read,
		"Let a browser be called from now on; one that is called already is changed", 422)
	LeaveBrowser = remove[ID, Nothing]("leave-browser", "/v1/notices/browsers/{id}", access.Read,
		"Call a browser no more: one's own, or any by whoever keeps the host", 404)
	TryBrowser = post[ID, Nothing]("try-browser", "/v1/notices/browsers/{id}/trial", access.Read,
		"Call a browser now, to see whether notices arrive", 202, 404, 429)
)
