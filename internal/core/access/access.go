// Package access is what is known of those who may use a host, and what each may do.
package access

import (
	"slices"
	"strings"
	"time"
)

// The scopes of a token. An operation needs one of them.
const (
	Read    = "read"    // see everything
	Send    = "send"    // put files on the shelf
	Start   = "start"   // start a run
	Operate = "operate" // hold, resume, stop, heat, say
	Keep    = "keep"    // remove files, change settings, let others in
)

// Scopes are all there are, from the least on.
var Scopes = []string{Read, Send, Start, Operate, Keep}

// All is a token's scopes when it may do everything.
var All = strings.Join(Scopes, " ")

// A Role is what an account may do. An emergency stop is for everybody who may see the
// printer.
type Role string

// The roles.
const (
	Watcher  Role = "watcher"  // looks
	Operator Role = "operator" // prints
	Keeper   Role = "keeper"   // keeps the host: files, settings, accounts, tokens
)

// Roles are all there are, from the least on.
var Roles = []Role{Watcher, Operator, Keeper}

// rights is the one table of what a role may do.
var rights = map[Role][]string{
	Watcher:  {Read},
	Operator: {Read, Send, Start, Operate},
	Keeper:   {Read, Send, Start, Operate, Keep},
}

// Scopes are the role's; a role that is not known has none.
func (r Role) Scopes() []string { return rights[r] }

// Known reports whether there is such a role.
func (r Role) Known() bool { return rights[r] != nil }

// A Kind of who has a token.
type Kind string

// The kinds.
const (
	Program Kind = "program"
	Session Kind = "session" // a browser's, from its signing in
)

// KindOf is that of a token or a pairing, by whether it is a session.
func KindOf(session bool) Kind {
	if session {
		return Session
	}
	return Program
}

// Account is a person.
type Account struct {
	ID       string // UUID
	Name     string
	Role     Role
	Password string // as a string of the PHC form, never the password itself; empty: there is none
	Created  time.Time
	Maker    string // who made it, by name; empty: the host itself
	Giver    string // the ID of the token that it was made with; empty: none's
}

// Passkey is what is kept of a key that a person's device holds: nothing that signs in.
type Passkey struct {
	ID         string // the credential's, in base64url
	Account    string // whose
	Name       string
	Credential []byte // as JSON: public key, counter and flags
	Created    time.Time
	Used       *time.Time
	Giver      string // the ID of the session in which it was made
}

// Token is what is kept of a key to a host: never the key itself.
type Token struct {
	ID       string // UUID
	Name     string // the program or browser that has it
	Hash     []byte // SHA-256 of the token
	Scopes   string // separated by spaces; of an account's session, the account's role says
	Created  time.Time
	Expires  *time.Time // nil: never
	Session  bool       // a browser's, from its signing in
	Account  string     // whose session it is; empty: nobody's
	Maker    string     // who made it, by name
	Used     *time.Time // last; nil: never
	UsedFrom string     // the address
	Giver    string     // the ID of the token, or account, that gave it, and with whose rights it ends; empty: the host
}

// Asked returns scopes as they are kept, in order and each once, and whether all of them
// are known and there is one.
func Asked(scopes []string) (string, bool) {
	var out []string
	for _, s := range Scopes {
		if slices.Contains(scopes, s) {
			out = append(out, s)
		}
	}
	known := !slices.ContainsFunc(scopes, func(s string) bool { return !slices.Contains(Scopes, s) })
	return strings.Join(out, " "), known && len(out) > 0
}

// Both are the scopes that two have, in order.
func Both(a, b []string) []string {
	var out []string
	for _, s := range Scopes {
		if slices.Contains(a, s) && slices.Contains(b, s) {
			out = append(out, s)
		}
	}
	return out
}
