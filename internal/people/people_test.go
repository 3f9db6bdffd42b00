package people

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/access"
)

// kept keeps tokens and accounts.
type kept struct {
	mu       sync.Mutex
	tokens   map[string]access.Token
	accounts map[string]access.Account
}

func (k *kept) Tokens(context.Context) (out []access.Token, _ error) {
	for _, t := range k.tokens {
		out = append(out, t)
	}
	return out, nil
}
func (k *kept) PutToken(_ context.Context, t access.Token) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.tokens[t.ID] = t
	return nil
}
func (k *kept) DeleteToken(_ context.Context, id string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.tokens, id)
	return nil
}
func (k *kept) Accounts(context.Context) (out []access.Account, _ error) {
	for _, a := range k.accounts {
		out = append(out, a)
	}
	return out, nil
}
func (k *kept) PutAccount(_ context.Context, a access.Account) error {
	k.accounts[a.ID] = a
	return nil
}
func (k *kept) DeleteAccount(_ context.Context, id string) error {
	delete(k.accounts, id)
	return nil
}

func (k *kept) Passkeys(context.Context) ([]access.Passkey, error) { return nil, nil }
func (k *kept) PutPasskey(context.Context, access.Passkey) error   { return nil }
func (k *kept) DeletePasskey(context.Context, string) error        { return nil }

func crowd(t *testing.T) (*People, *kept, *Holder) {
	k := &kept{tokens: map[string]access.Token{}, accounts: map[string]access.Account{}}
	p, err := Open(t.Context(), k, "", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	h, err := p.put(t.Context(), "the keeper's", access.Token{Name: KeeperName, Scopes: access.All})
	if err != nil {
		t.Fatal(err)
	}
	return p, k, h
}

// problem is what an error is answered with.
func problem(err error) int {
	switch {
	case errors.As(err, new(TooManyError)), errors.Is(err, ErrAsking):
		return 429
	case errors.Is(err, ErrSignIn), errors.Is(err, ErrCode):
		return 401
	}
	return 0
}

func TestAPasswordIsLongEnoughAndNoneOfTheCommonest(t *testing.T) {
	for password, good := range map[string]bool{
		"": false, "short": false, "password": false, "PassWord": false, "12345678": false, "iloveyou": false, "Mira Vega": false, strings.Repeat("x", 257): false,
		"three words together": true, "pässwörter sind lang": true, "        ": true, "qmzvtrwp": true,
	} {
		if err := checkPassword(password, "Mira Vega"); (err == nil) != good {
			t.Errorf("%q: %v", password, err)
		}
	}
	stored := hashed("three words together")
	if !strings.HasPrefix(stored, "$argon2id$v=19$m=12288,t=3,p=1$") || !matches(stored, "three words together") || matches(stored, "three words togethex") {
		t.Errorf("%s", stored)
	}
	// The first vector of the reference implementation's tests for version 0x13 that has
	// little to compute.
	if !matches("$argon2id$v=19$m=256,t=2,p=1$c29tZXNhbHQ$nf65EOgLrQMR/uIPnA4rEsF5h7TKyQwu9U1bMCHGi/4", "password") {
		t.Error("another program's hash of this password does not match")
	}
	for _, bad := range []string{"", "$argon2id$", "$argon2id$v=19$m=65536,t=3,p=0$AAAA$AAAA", "$argon2id$v=19$m=99999999,t=3,p=4$AAAA$AAAA", "$argon2i$v=19$m=64,t=3,p=4$AAAA$AAAA", "$argon2id$v=19$m=64,t=3,p=4$AAAA$"} {
		if matches(bad, "password") {
			t.Errorf("%q matches", bad)
		}
	}
}

func TestATokenIsNoneFromTheMomentInWhichItExpires(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, _, keeper := crowd(t)
		until := time.Now().Add(time.Hour)
		token, _, err := p.MakeToken(t.Context(), keeper, "slicer", []string{access.Send}, &until)
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Hour - time.Second)
		if _, good := p.Find(token); !good {
			t.Error("a second before it expires it is none")
		}
		time.Sleep(2 * time.Second)
		if _, good := p.Find(token); good {
			t.Error("a second after it has expired it opens the door still")
		}
	})
}

func TestFewWrongPasswordsAreLookedAtAndTheOwnerComesIn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, _, keeper := crowd(t)
		if _, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Keeper, "three words together"); err != nil {
			t.Fatal(err)
		}
		token, err := p.SignIn(t.Context(), "192.0.2.9", "", "mira", "three words together")
		if err != nil {
			t.Fatal(err)
		}
		in, _ := p.Find(token)
		mark := p.Mark(in)
		looked, minutes := 0, 3
		for i := range minutes * 60 * 20 { // from as many addresses as there are tries, and from one
			from := "192.0.2.7"
			if i%2 == 0 {
				from = "198.51." + string(rune('0'+i%10)) + "." + string(rune('0'+i/10%10))
			}
			if _, err := p.SignIn(t.Context(), from, "", "Mira", "wrong"); problem(err) == 401 {
				looked++
			} else if problem(err) != 429 {
				t.Fatal(err)
			}
			time.Sleep(50 * time.Millisecond)
		}
		if looked >= 20*minutes {
			t.Errorf("%d wrong passwords were looked at in %d minutes", looked, minutes)
		}
		if _, err := p.SignIn(t.Context(), "192.0.2.7", mark, "Mira", "three words together"); err != nil {
			t.Errorf("the owner, from a browser that has signed in before: %v", err)
		}
		if _, err := p.SignIn(t.Context(), "198.51.8.9", mark+"0", "Mira", "three words together"); problem(err) != 429 {
			t.Errorf("with a mark that is made up: %v", err)
		}
		if _, err := p.SignIn(t.Context(), "192.0.2.9", "", "Mira", "three words together"); err != nil {
			t.Errorf("from a network that she was in from before: %v", err)
		}
		time.Sleep(time.Minute)
		if _, err := p.SignIn(t.Context(), "192.0.2.7", "", "Mira", "three words together"); err != nil {
			t.Errorf("a minute later: %v", err)
		}
	})
}

func TestARoleHoldsAtOnce(t *testing.T) {
	p, k, keeper := crowd(t)
	mira, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Keeper, "three words together")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.MakeAccount(t.Context(), keeper, "MIRA", access.Watcher, "three words together"); !errors.Is(err, ErrName) {
		t.Errorf("a second one of that name: %v", err)
	}
	token, err := p.SignIn(t.Context(), "192.0.2.1", "", "Mira", "three words together")
	if err != nil {
		t.Fatal(err)
	}
	h, _ := p.Find(token)
	down := access.Operator
	if _, err := p.ChangeAccount(t.Context(), mira.ID, Change{Role: &down}, keeper); !errors.Is(err, ErrLast) {
		t.Errorf("the last keeper became an operator: %v", err)
	}
	tom, err := p.MakeAccount(t.Context(), keeper, "Tom", access.Keeper, "other words together")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.ChangeAccount(t.Context(), mira.ID, Change{Role: &down}, keeper); err != nil || len(h.May()) != 4 {
		t.Errorf("she may %q, %v", h.May(), err)
	}
	if _, _, err := p.MakeToken(t.Context(), h, "slicer", []string{access.Keep}, nil); !errors.Is(err, ErrScopes) {
		t.Errorf("she gave what she has not got: %v", err)
	}
	if _, _, err := p.MakeToken(t.Context(), h, "slicer", []string{access.Send, "dance"}, nil); !errors.Is(err, ErrScopes) {
		t.Errorf("a scope that is none: %v", err)
	}
	if err := p.ChangePassword(t.Context(), h, "wrong", "new words together"); !errors.Is(err, ErrPassword) {
		t.Errorf("by a wrong old one: %v", err)
	}
	other, _ := p.SignIn(t.Context(), "192.0.2.2", "", "Mira", "three words together")
	if err := p.ChangePassword(t.Context(), h, "three words together", "new words together"); err != nil {
		t.Error(err)
	}
	if _, in := p.Find(other); in {
		t.Error("another session of hers goes on with the old password")
	}
	if _, in := p.Find(token); !in {
		t.Error("the session that changed it ended")
	}
	if err := p.RemoveAccount(t.Context(), mira.ID); err != nil {
		t.Error(err)
	}
	if _, in := p.Find(token); in || len(h.May()) != 0 {
		t.Errorf("her session goes on without an account, and may %q", h.May())
	}
	again, err := Open(t.Context(), k, "", slog.New(slog.DiscardHandler))
	if err != nil || len(again.Accounts()) != 1 || again.Accounts()[0].ID != tom.ID {
		t.Errorf("kept are %v, %v", again.Accounts(), err)
	}
	if err := p.RemoveAccount(t.Context(), tom.ID); err != nil || !p.Fresh() {
		t.Errorf("the last of all: %v", err)
	}
}

func TestSixLettersLetAProgramIn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, _, keeper := crowd(t)
		one, secret, err := p.Ask("192.0.2.1", false, "slicer", []string{access.Send}, false)
		if err != nil || len(one.Letters) != 6 {
			t.Fatal(one, err)
		}
		if got, key, err := p.Outcome(t.Context(), one.ID, secret); err != nil || got.State != Waiting || key != "" {
			t.Errorf("%+v %q %v", got, key, err)
		}
		if _, _, err := p.Outcome(t.Context(), one.ID, "wrong"); !errors.Is(err, ErrMissing) {
			t.Errorf("with another's secret: %v", err)
		}
		if _, err := p.Answer(keeper, " "+strings.ToLower(one.Letters[:3]+" "+one.Letters[3:]), true, nil); err != nil {
			t.Error(err)
		}
		if n := len(p.Tokens()); n != 1 { // the keeper's
			t.Errorf("%d tokens are there before it comes for its own", n)
		}
		_, key, err := p.Outcome(t.Context(), one.ID, secret)
		h, in := p.Find(key)
		if err != nil || !in || h.Token.Scopes != access.Send || h.Maker != KeeperName {
			t.Errorf("it got %+v, %v", h, err)
		}
		if _, again, err := p.Outcome(t.Context(), one.ID, secret); again != "" || err == nil {
			t.Error("its token was handed out twice")
		}

		two, secret, _ := p.Ask("192.0.2.1", false, "slicer", []string{access.Keep}, false)
		for range 3 {
			p.Answer(keeper, "AAAAAA", true, nil)
		}
		if _, err := p.Answer(keeper, two.Letters, true, nil); !errors.Is(err, ErrMissing) {
			t.Errorf("after three wrong tries: %v", err)
		}
		if got, _, _ := p.Outcome(t.Context(), two.ID, secret); got.State != Denied {
			t.Errorf("it is told %s", got.State)
		}

		old, secret, _ := p.Ask("192.0.2.1", false, "slicer", []string{access.Send}, false)
		time.Sleep(5*time.Minute + time.Second)
		if _, err := p.Answer(keeper, old.Letters, true, nil); !errors.Is(err, ErrMissing) {
			t.Errorf("after five minutes: %v", err)
		}
		if got, _, _ := p.Outcome(t.Context(), old.ID, secret); got.State != Expired {
			t.Errorf("it is told %s", got.State)
		}
		for i := range 4 {
			if _, _, err := p.Ask("192.0.2.1", false, "slicer", []string{access.Send}, false); (problem(err) == 429) != (i == 3) {
				t.Errorf("request %d of one address: %v", i, err)
			}
		}
		if _, _, err := p.Ask("192.0.2.99", false, "slicer", []string{access.Send}, false); err != nil {
			t.Errorf("another address: %v", err)
		}
	})
}

func TestABrowserBecomesWhoeverLetItIn(t *testing.T) {
	p, _, keeper := crowd(t)
	mira, _ := p.MakeAccount(t.Context(), keeper, "Mira", access.Operator, "three words together")
	token, _ := p.SignIn(t.Context(), "192.0.2.1", "", "Mira", "three words together")
	h, _ := p.Find(token)
	one, secret, err := p.Ask("192.0.2.3", false, "browser", nil, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Answer(h, one.Letters, true, []string{access.Keep}); err != nil {
		t.Fatal(err)
	}
	_, code, _ := p.Outcome(t.Context(), one.ID, secret)
	in, err := p.Spend(t.Context(), "192.0.2.3", code, ConsoleName, true)
	if err != nil {
		t.Fatal(err)
	}
	if b, _ := p.Find(in); b.Account != mira.ID || len(b.May()) != 4 {
		t.Errorf("it is %q and may %q", b.Account, b.May())
	}
	if _, err := p.Spend(t.Context(), "192.0.2.3", code, ConsoleName, true); problem(err) != 401 {
		t.Errorf("its code was good twice: %v", err)
	}
}

func TestAPasswordOfAnOlderVersionIsKeptAnew(t *testing.T) {
	p, k, keeper := crowd(t)
	mira, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Watcher, "three words together")
	if err != nil {
		t.Fatal(err)
	}
	mira.Password = "$argon2id$v=19$m=256,t=2,p=1$c29tZXNhbHQ$nf65EOgLrQMR/uIPnA4rEsF5h7TKyQwu9U1bMCHGi/4" // "password", by another program
	p.accounts[mira.ID] = &mira
	for range 20 { // as often as somebody likes who was in from there before
		if _, err := p.SignIn(t.Context(), "192.0.2.9", "", "Mira", "password"); err != nil {
			t.Fatal(err)
		}
	}
	if now := k.accounts[mira.ID].Password; !strings.HasPrefix(now, costs) || !matches(now, "password") {
		t.Errorf("it is kept as %s", now)
	}
}
