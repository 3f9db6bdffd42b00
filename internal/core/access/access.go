// Package access is what is known of those who may use a host.
package access

import "time"

// Token is what is kept of a key to a host: never the key itself.
type Token struct {
	ID      string // UUID
	Name    string // the program or browser that has it
	Hash    []byte // SHA-256 of the token
	Scopes  string // separated by spaces
	Created time.Time
	Expires *time.Time // nil: never
}
