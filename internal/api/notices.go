package api

import "time"

// Notice is one thing that a person would want to be told.
type Notice struct {
	ID     string    `json:"id" doc:"In the order of their making"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" enum:"done,stopped,held,broken,interrupted,alarm,cool,waits,asked,warm,trial" doc:"Stable: programs go by it"`
	Title  string    `json:"title" example:"Vesper: dust-cap.gcode is done"`
	Text   string    `json:"text"`
	Urgent bool      `json:"urgent,omitempty" doc:"It needs a person"`
	Run    string    `json:"run,omitempty" doc:"Id of the run that it is of"`
	Quiet  bool      `json:"quiet,omitempty" doc:"A person has done it by hand: nobody is called"`
}

// Notices are the last ones.
type Notices struct {
	Notices []Notice `json:"notices" doc:"The newest first"`
}

// CallBrowser lets a browser be called by Web Push (RFC 8030).
type CallBrowser struct {
	Name     string   `json:"name" maxLength:"60" doc:"By which a person knows it again" example:"my phone"`
	Endpoint string   `json:"endpoint" maxLength:"2000" doc:"Of its push service"`
	Key      string   `json:"key" maxLength:"100" doc:"Its public key p256dh, base64url (RFC 8291)"`
	Secret   string   `json:"secret" maxLength:"40" doc:"Its authentication secret, base64url (RFC 8291)"`
	Kinds    []string `json:"kinds,omitempty" enum:"done,stopped,held,broken,interrupted,alarm,cool,waits,asked,warm,trial" doc:"For which it is called; none: for all"`
}

// CalledBrowser is a browser that is called.
type CalledBrowser struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Service string    `json:"service" doc:"Host name of its push service"`
	Kinds   []string  `json:"kinds" doc:"For which it is called; none: for all"`
	By      string    `json:"by" doc:"Whose it is"`
	Since   time.Time `json:"since"`
	Waiting int       `json:"waiting" doc:"Notices that it has not got yet"`
	Trouble string    `json:"trouble,omitempty" doc:"Why it was not reached last"`
}

// CalledBrowsers are the browsers that are called.
type CalledBrowsers struct {
	Key      string          `json:"key" doc:"The host's public key for push services (RFC 8292), base64url"`
	Browsers []CalledBrowser `json:"browsers" doc:"One's own; of whoever keeps the host all"`
}
