package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of persons, programs and their tokens.
var (
	ListPairings = get[Nothing, api.Pairings]("list-pairings", "/v1/pairings", access.Keep,
		"Who asks to be let in")
	AnswerPairing = post[With[api.Answer], api.Pairing]("answer-pairing", "/v1/pairings", access.Keep,
		"Let somebody in who shows these letters, or not", 400, 404)
	GetMe = get[Nothing, api.Me]("get-me", "/v1/me", access.Read,
		"Who I am, and what I may do")
	ChangeMyPassword = put[With[api.ChangePassword], Nothing]("change-my-password", "/v1/me/password", access.Read,
		"Change my password; my other sessions end", 400, 409, 429)
	ListMySessions = get[Nothing, api.Tokens]("list-my-sessions", "/v1/me/sessions", access.Read,
		"The browsers that I am signed in from")
	EndMySession = remove[ID, Nothing]("end-my-session", "/v1/me/sessions/{id}", access.Read,
		"End one of my sessions", 404)
	ListMyPasskeys = get[Nothing, api.Passkeys]("list-my-passkeys", "/v1/me/passkeys", access.Read,
		"The passkeys that sign me in")
	OfferPasskey = post[Nothing, api.PasskeyOffer]("offer-passkey", "/v1/me/passkeys/offer", access.Read,
		"Begin to make a passkey; the host is to be reached by a name, and by TLS unless it is this computer", 201, 400, 404)
	MakePasskey = post[With[api.MakePasskey], api.Passkey]("make-passkey", "/v1/me/passkeys", access.Read,
		"Keep the passkey that a browser has made", 201, 400, 404)
	RemoveMyPasskey = remove[ID, Nothing]("remove-my-passkey", "/v1/me/passkeys/{id}", access.Read,
		"Remove one of my passkeys: it signs in no more", 404)
	ListAccounts = get[Nothing, api.Accounts]("list-accounts", "/v1/accounts", access.Keep,
		"Who has an account")
	MakeAccount = post[With[api.MakeAccount], api.Account]("make-account", "/v1/accounts", access.Keep,
		"Make an account", 201, 400)
	ChangeAccount = patch[IDWith[api.ChangeAccount], api.Account]("change-account", "/v1/accounts/{id}", access.Keep,
		"Give an account another role, or another password, which ends its sessions", 400, 404, 409)
	RemoveAccount = remove[Ending, Nothing]("remove-account", "/v1/accounts/{id}", access.Keep,
		"Remove an account, and end its sessions and what they have given", 400, 404, 409)
	ListTokens = get[Nothing, api.Tokens]("list-tokens", "/v1/tokens", access.Keep,
		"Every token that is good, sessions among them, when it was used last and from where")
	MakeToken = post[With[api.MakeToken], api.MadeToken]("make-token", "/v1/tokens", access.Keep,
		"Make a token for a program; it is shown this once", 201, 400, 409)
	WithdrawToken = remove[Ending, Nothing]("withdraw-token", "/v1/tokens/{id}", access.Keep,
		"Withdraw a token or end a session, at once, and what it has given", 400, 404, 409)
)
