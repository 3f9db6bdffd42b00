package api

import "time"

// AskIn asks to be let in.
type AskIn struct {
	Name    string   `json:"name"`              // the program's, or what the browser is called
	Scopes  []string `json:"scopes,omitempty"`  // of a program
	Browser bool     `json:"browser,omitempty"` // a browser asks, and will sign in with the code that it gets
}

// Asked is what who asks shows and keeps.
type Asked struct {
	ID      string    `json:"id"`
	Secret  string    `json:"secret"`  // for who asked alone
	Letters string    `json:"letters"` // to be shown to the person
	Printer string    `json:"printer"`
	Expires time.Time `json:"expires"`
}

// AskOutcome asks what has become of it.
type AskOutcome struct {
	Secret string `json:"secret"`
}

// Outcome is what has become of it; token or code come once.
type Outcome struct {
	State string `json:"state"` // waiting, granted, denied or expired
	Token string `json:"token,omitempty"`
	Code  string `json:"code,omitempty"`
}

// Me is who asks.
type Me struct {
	Name    string   `json:"name" doc:"The person's, or the program's"`
	Role    string   `json:"role,omitempty" enum:"watcher,operator,keeper" doc:"Of a person with an account"`
	Account string   `json:"account,omitempty" doc:"The account's ID"`
	Token   string   `json:"token" doc:"The ID of the token or session that asks"`
	Scopes  []string `json:"scopes"`
	Fresh   bool     `json:"fresh" doc:"Nobody has an account on this host yet"`
}

// Account is a person.
type Account struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Role    string    `json:"role" enum:"watcher,operator,keeper"`
	Created time.Time `json:"created"`
	Maker   string    `json:"maker,omitempty" doc:"Who made it; nobody, where the host did"`
	Given   []string  `json:"given" doc:"The programs and browsers that are let in by it, and end with it"`
	Made    []string  `json:"made" doc:"Whose accounts were made by it"`
}

// Accounts are all persons.
type Accounts struct {
	Accounts []Account `json:"accounts"`
}

// MakeAccount makes an account.
type MakeAccount struct {
	Name     string `json:"name"`
	Role     string `json:"role" enum:"watcher,operator,keeper"`
	Password string `json:"password"`
}

// ChangeAccount changes one; what is left out stays.
type ChangeAccount struct {
	Role     *string `json:"role,omitempty" enum:"watcher,operator,keeper"`
	Password *string `json:"password,omitempty"`
}

// ChangePassword changes one's own.
type ChangePassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// PasskeyOffer is what a browser answers with a passkey.
type PasskeyOffer struct {
	Ticket  string `json:"ticket"`
	Options any    `json:"options" doc:"As the browser takes them: PublicKeyCredentialCreationOptionsJSON, or …RequestOptionsJSON (Web Authentication, level 3)"`
}

// MakePasskey is what a browser has made.
type MakePasskey struct {
	Ticket string `json:"ticket" doc:"Of the offer"`
	Name   string `json:"name" doc:"By which its owner knows it"`
	Answer any    `json:"answer" doc:"RegistrationResponseJSON (Web Authentication, level 3)"`
}

// Passkey is what is known of one.
type Passkey struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used,omitempty" doc:"Last"`
}

// Passkeys are somebody's.
type Passkeys struct {
	Passkeys []Passkey `json:"passkeys"`
}

// TokenInfo is what is known of a token: never the token itself.
type TokenInfo struct {
	ID       string     `json:"id"`
	Name     string     `json:"name" doc:"The program's; of a session, the person's"`
	Kind     string     `json:"kind" enum:"program,session"`
	Account  string     `json:"account,omitempty" doc:"Whose session it is, by the account's ID"`
	Scopes   []string   `json:"scopes"`
	Maker    string     `json:"maker" doc:"Who made it; of a session, the address it was begun from"`
	Created  time.Time  `json:"created"`
	Used     *time.Time `json:"used,omitempty" doc:"Last"`
	UsedFrom string     `json:"used_from,omitempty" doc:"The address"`
	Expires  *time.Time `json:"expires,omitempty"`
	Own      bool       `json:"own" doc:"It is the one that asks"`
	Given    []string   `json:"given" doc:"The programs and browsers that are let in by it, and end with it"`
	Made     []string   `json:"made" doc:"Whose accounts were made with it"`
}

// Becomes is what becomes of what a token or an account has given when it is taken away.
type Becomes string

// What may become of it.
const (
	BecomesEnded    Becomes = "end"       // it ends, too; accounts that were made with it stay
	BecomesEndedAll Becomes = "end-all"   // and these accounts go
	BecomesMine     Becomes = "take-over" // it is mine from now on
)

// Tokens are tokens, sessions among them.
type Tokens struct {
	Tokens []TokenInfo `json:"tokens"`
}

// MakeToken makes a token for a program.
type MakeToken struct {
	Name    string     `json:"name"`
	Scopes  []string   `json:"scopes" doc:"Some of read, send, start, operate, keep; none that you have not got"`
	Expires *time.Time `json:"expires,omitempty"`
}

// MadeToken is a new token; it is shown this once.
type MadeToken struct {
	Token string    `json:"token"`
	Info  TokenInfo `json:"info"`
}

// Pairing is somebody who asks to be let in.
type Pairing struct {
	Name    string    `json:"name" doc:"As who asks says"`
	Letters string    `json:"letters" doc:"That who asks shows, too"`
	Kind    string    `json:"kind" enum:"program,session"`
	Scopes  []string  `json:"scopes" doc:"Asked for; a browser gets what you have"`
	From    string    `json:"from" doc:"The address"`
	Asked   time.Time `json:"asked"`
	Expires time.Time `json:"expires"`
}

// Pairings are all who ask.
type Pairings struct {
	Pairings []Pairing `json:"pairings"`
}

// Answer says yes or no.
type Answer struct {
	Letters string   `json:"letters" doc:"That who asks shows"`
	Allow   bool     `json:"allow"`
	Scopes  []string `json:"scopes,omitempty" doc:"In place of those that were asked for"`
}
