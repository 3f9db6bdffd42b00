package api

import "time"

// Trial is what a program that was just connected finds: that it reached the host, that
// its token is good, and whether the printer is ready.
type Trial struct {
	Name    string   `json:"name" doc:"Of the token"`
	Scopes  []string `json:"scopes"`
	Printer string   `json:"printer" doc:"Its name"`
	Ready   bool     `json:"ready" doc:"A file could be started now"`
	Why     string   `json:"why,omitempty" doc:"Why not"`
	Do      string   `json:"do,omitempty"`
}

// Addresses are where the host is reached, and by which doors files come.
type Addresses struct {
	URLs   []string `json:"urls" doc:"Of this host, as other devices reach it; none if it listens on its own computer alone"`
	Folder string   `json:"folder" doc:"Path of the folder for file managers, below a URL"`
	Watch  *Watched `json:"watched,omitempty" doc:"The folder on the host's disk that is watched, if one is"`
	Seal   *Seal    `json:"seal,omitempty" doc:"The certificate, if the host speaks TLS itself"`
}

// Seal is a certificate.
type Seal struct {
	Own         bool      `json:"own" doc:"The host has made it itself: nobody else vouches for it"`
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of the certificate, as browsers show it"`
	Key         string    `json:"key" doc:"SHA-256 of its public key (RFC 7469, 2.4), by which programs know it: it stays when the certificate is renewed"`
	Until       time.Time `json:"until" doc:"The certificate is good until then"`
}

// Watched is a folder on the host's disk from which files are taken.
type Watched struct {
	Path  string `json:"path"`
	Start bool   `json:"start" doc:"What is put into its folders print and queue is started, or waits"`
	There bool   `json:"there"`
	Why   string `json:"why,omitempty" doc:"It is not there"`
	Taken int    `json:"taken" doc:"Files, since the host began"`
	Last  string `json:"last,omitempty" doc:"What was said last of a file that was not taken"`
}
