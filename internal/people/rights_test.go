package people

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/access"
)

// ways are how somebody who may let others in can make something of that: each returns what
// has come of it, which lets its owner in.
var ways = map[string]func(*testing.T, *People, *Holder, string) (string, error){
	"a browser, with the token as its code": func(t *testing.T, p *People, _ *Holder, token string) (string, error) {
		return p.Spend(t.Context(), "192.0.2.1", token, ConsoleName, true)
	},
	"a program, with the token as its code": func(t *testing.T, p *People, _ *Holder, token string) (string, error) {
		return p.Spend(t.Context(), "192.0.2.1", token, "slicer", false)
	},
	"a token": func(t *testing.T, p *People, h *Holder, _ string) (string, error) {
		made, _, err := p.MakeToken(t.Context(), h, "slicer", []string{access.Keep}, nil)
		return made, err
	},
	"a browser that is let in": func(t *testing.T, p *People, h *Holder, _ string) (string, error) {
		one, secret, _ := p.Ask("192.0.2.1", false, "browser", nil, true)
		if _, err := p.Answer(h, one.Letters, true, nil); err != nil {
			return "", err
		}
		_, code, err := p.Outcome(t.Context(), one.ID, secret)
		if err != nil {
			return "", err
		}
		return p.Spend(t.Context(), "192.0.2.1", code, ConsoleName, true)
	},
	"a program that is let in": func(t *testing.T, p *People, h *Holder, _ string) (string, error) {
		one, secret, _ := p.Ask("192.0.2.1", false, "slicer", []string{access.Keep}, false)
		if _, err := p.Answer(h, one.Letters, true, nil); err != nil {
			return "", err
		}
		_, token, err := p.Outcome(t.Context(), one.ID, secret)
		return token, err
	},
}

func TestNobodyGivesWhatTheyHaveNotGot(t *testing.T) {
	for what, way := range ways {
		synctest.Test(t, func(t *testing.T) {
			p, _, keeper := crowd(t)
			until := time.Now().Add(time.Hour)
			token, _, err := p.MakeToken(t.Context(), keeper, "door", []string{access.Keep}, &until)
			if err != nil {
				t.Fatal(err)
			}
			door, _ := p.Find(token)
			made, err := way(t, p, door, token)
			if err != nil {
				t.Fatal(err)
			}
			h, in := p.Find(made)
			if !in || !slices.Equal(h.May(), []string{access.Keep}) || h.Expires == nil || h.Expires.After(until) {
				t.Errorf("%s: of a token that may keep for an hour came one that may %q until %v", what, h.May(), h.Expires)
			}
			second, err := ways["a browser, with the token as its code"](t, p, h, made)
			if err != nil {
				t.Fatal(err)
			}
			if err := p.Withdraw(t.Context(), door, "the owner"); err != nil {
				t.Fatal(err)
			}
			for _, one := range []string{made, second} {
				if _, in := p.Find(one); in {
					t.Errorf("%s: what a token has given goes on after it was withdrawn", what)
				}
			}
			if len(h.May()) != 0 || len(p.Tokens()) != 1 {
				t.Errorf("%s: it may %q, and %d tokens are left", what, h.May(), len(p.Tokens()))
			}
		})
	}
}

func TestARightThatWasTakenAwayGivesNothingAfterwards(t *testing.T) {
	for what, way := range ways {
		p, _, keeper := crowd(t)
		token, _, _ := p.MakeToken(t.Context(), keeper, "door", []string{access.Keep}, nil)
		door, _ := p.Find(token)
		if strings.Contains(what, "let in") { // it says yes, and is withdrawn before who asks comes for it
			one, secret, _ := p.Ask("192.0.2.1", false, "slicer", []string{access.Keep}, strings.Contains(what, "browser"))
			if _, err := p.Answer(door, one.Letters, true, nil); err != nil {
				t.Fatal(err)
			}
			p.Withdraw(t.Context(), door, "the owner")
			_, key, err := p.Outcome(t.Context(), one.ID, secret)
			if err == nil && one.Session {
				key, err = p.Spend(t.Context(), "192.0.2.1", key, ConsoleName, true)
			}
			if err == nil || key != "" {
				t.Errorf("%s: %q %v", what, key, err)
			}
			continue
		}
		p.Withdraw(t.Context(), door, "the owner")
		if made, err := way(t, p, door, token); err == nil || made != "" {
			t.Errorf("%s: %q", what, made)
		}
	}
}

func TestAnAccountIsMadeByWhomeverItIsNotMoreThan(t *testing.T) {
	p, _, keeper := crowd(t)
	mira, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Keeper, "three words together")
	if err != nil || mira.Maker != KeeperName || mira.Giver != keeper.ID {
		t.Fatal(mira, err)
	}
	until := time.Now().Add(time.Hour)
	for what, of := range map[string]struct {
		scopes  []string
		expires *time.Time
	}{"keep alone": {[]string{access.Keep}, nil}, "everything, for an hour": {access.Scopes, &until}} {
		token, _, _ := p.MakeToken(t.Context(), keeper, "door", of.scopes, of.expires)
		door, _ := p.Find(token)
		for _, role := range access.Roles {
			if a, err := p.MakeAccount(t.Context(), door, string(role), role, "three words together"); !errors.Is(err, ErrScopes) {
				t.Errorf("%s made %+v, %v", what, a, err)
			}
		}
		tom, err := p.MakeAccount(t.Context(), keeper, "Tom", access.Watcher, "three words together")
		if err != nil {
			t.Fatal(err)
		}
		up, password := access.Keeper, "other words together"
		if _, err := p.ChangeAccount(t.Context(), tom.ID, Change{Role: &up}, door); !errors.Is(err, ErrScopes) {
			t.Errorf("%s made a keeper of a watcher: %v", what, err)
		}
		if _, err := p.ChangeAccount(t.Context(), mira.ID, Change{Password: &password}, door); !errors.Is(err, ErrScopes) {
			t.Errorf("%s took a keeper's place: %v", what, err)
		}
		if err := p.RemoveAccount(t.Context(), tom.ID); err != nil {
			t.Error(err)
		}
	}
}

// keepers are two keepers with a session each, and a slicer that the first has let in.
func keepers(t *testing.T) (p *People, k *kept, mira, tom *Holder, slicer string) {
	p, k, keeper := crowd(t)
	in := func(name string) *Holder {
		if _, err := p.MakeAccount(t.Context(), keeper, name, access.Keeper, "three words together"); err != nil {
			t.Fatal(err)
		}
		token, err := p.SignIn(t.Context(), "192.0.2.1", "", name, "three words together")
		if err != nil {
			t.Fatal(err)
		}
		h, _ := p.Find(token)
		return h
	}
	mira, tom = in("Mira"), in("Tom")
	slicer, _, err := p.MakeToken(t.Context(), mira, "slicer", []string{access.Send, access.Keep}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return p, k, mira, tom, slicer
}

func TestWhatAPersonHasGivenEndsWithThemAndNotWithABrowser(t *testing.T) {
	good := func(p *People, token string) bool { _, in := p.Find(token); return in }
	t.Run("signed out", func(t *testing.T) {
		p, k, mira, _, slicer := keepers(t)
		if err := p.Retire(t.Context(), mira); err != nil || !good(p, slicer) {
			t.Fatalf("the slicer went with a browser that was signed out (%v)", err)
		}
		if again, err := Open(t.Context(), k, "", slog.New(slog.DiscardHandler)); err != nil || !good(again, slicer) {
			t.Errorf("after a new start it is gone (%v)", err)
		}
		if err := p.RemoveAccount(t.Context(), mira.Account); err != nil || good(p, slicer) {
			t.Errorf("her account is gone, and what she gave goes on (%v)", err)
		}
	})
	t.Run("another password", func(t *testing.T) {
		p, _, mira, tom, slicer := keepers(t)
		password := "other words together"
		if _, err := p.ChangeAccount(t.Context(), mira.Account, Change{Password: &password}, tom); err != nil || mira.Good() || !good(p, slicer) {
			t.Errorf("the session is good: %v, the slicer: %v (%v)", mira.Good(), good(p, slicer), err)
		}
	})
	t.Run("withdrawn", func(t *testing.T) {
		p, _, mira, _, slicer := keepers(t)
		tokens, _ := p.Given(mira.ID)
		if !slices.Equal(tokens, []string{"slicer"}) {
			t.Errorf("it has given %q", tokens)
		}
		if err := p.Withdraw(t.Context(), mira, "Tom"); err != nil || good(p, slicer) {
			t.Errorf("a browser that was withdrawn has left a token behind (%v)", err)
		}
	})
	t.Run("taken over", func(t *testing.T) {
		p, _, mira, tom, slicer := keepers(t)
		if err := errors.Join(p.TakeOver(t.Context(), mira.ID, tom), p.RemoveAccount(t.Context(), mira.Account)); err != nil || !good(p, slicer) {
			t.Errorf("what another keeper has taken over is gone (%v)", err)
		}
	})
	t.Run("taken over by whom it is not", func(t *testing.T) {
		p, _, mira, tom, _ := keepers(t)
		less, _, _ := p.MakeToken(t.Context(), tom, "door", []string{access.Keep}, nil)
		door, _ := p.Find(less)
		if err := p.TakeOver(t.Context(), mira.Account, door); !errors.Is(err, ErrScopes) {
			t.Errorf("who may less took it over: %v", err)
		}
		if err := p.TakeOver(t.Context(), tom.Account, door); !errors.Is(err, ErrScopes) {
			t.Errorf("it took over what it comes of itself: %v", err)
		}
		until := time.Now().Add(time.Hour)
		short, _, _ := p.MakeToken(t.Context(), tom, "guest", access.Scopes, &until)
		guest, _ := p.Find(short)
		if err := p.TakeOver(t.Context(), mira.Account, guest); !errors.Is(err, ErrScopes) {
			t.Errorf("who is let in for an hour took it over: %v", err)
		}
	})
	t.Run("no keeper any more", func(t *testing.T) {
		p, _, mira, tom, slicer := keepers(t)
		down := access.Operator
		if _, err := p.ChangeAccount(t.Context(), mira.Account, Change{Role: &down}, tom); err != nil {
			t.Fatal(err)
		}
		if h, in := p.Find(slicer); !in || !slices.Equal(h.May(), []string{access.Send}) {
			t.Errorf("it may %q", h.May())
		}
	})
	t.Run("grown old", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			p, _, mira, _, slicer := keepers(t)
			ctx, end := context.WithCancel(t.Context())
			go p.Work(ctx)
			time.Sleep(91 * 24 * time.Hour)
			if mira.Good() || !good(p, slicer) {
				t.Errorf("the session is good: %v, the slicer: %v", mira.Good(), good(p, slicer))
			}
			end()
			synctest.Wait()
		})
	})
}

func TestWhatGoesOnEndsWithTheRightToIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, _, mira, tom, _ := keepers(t)
		until := time.Now().Add(time.Hour)
		token, _, _ := p.MakeToken(t.Context(), mira, "sender", []string{access.Send, access.Read}, &until)
		sender, _ := p.Find(token)
		ended := map[string]bool{}
		pass := func(what string, h *Holder, scope string) {
			w := p.Pass(h, func() { ended[what] = true })
			t.Cleanup(w.Close)
			if !w.May(scope) {
				t.Fatalf("%s: may not", what)
			}
		}
		pass("hers as a keeper", mira, access.Keep)
		pass("hers as one who sees", mira, access.Read)
		pass("a program's", sender, access.Send)
		down := access.Watcher
		if _, err := p.ChangeAccount(t.Context(), mira.Account, Change{Role: &down}, tom); err != nil {
			t.Fatal(err)
		}
		if fmt.Sprint(ended) != "map[a program's:true hers as a keeper:true]" {
			t.Errorf("with her role ended %v", ended)
		}
		pass("another of the program", sender, access.Read)
		if w := p.Pass(sender, func() {}); w.May(access.Send) {
			t.Error("a program may send still, let in by whom may not")
		}
		time.Sleep(time.Hour + time.Second)
		synctest.Wait()
		if !ended["another of the program"] {
			t.Error("it goes on after its token has expired")
		}
		late := false
		if p.Pass(sender, func() { late = true }); !late {
			t.Error("a request of a token that has ended since goes on")
		}
	})
}

func TestNobodysSessionsKeepOthersOut(t *testing.T) {
	p, _, keeper := crowd(t)
	for _, of := range []struct {
		name string
		role access.Role
	}{{"Mira", access.Keeper}, {"Tom", access.Watcher}} {
		if _, err := p.MakeAccount(t.Context(), keeper, of.name, of.role, "three words together"); err != nil {
			t.Fatal(err)
		}
	}
	owner, err := p.SignIn(t.Context(), "192.0.2.1", "", "Mira", "three words together")
	if err != nil {
		t.Fatal(err)
	}
	var tom access.Account
	for _, a := range p.Accounts() {
		if a.Name == "Tom" {
			tom = a
		}
	}
	for range 600 { // as whoever has a passkey signs in
		if _, err := p.enter(t.Context(), "192.0.2.2", right{account: tom.ID}.session("192.0.2.2")); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(p.holders(func(h *Holder) bool { return h.Account == tom.ID })); n > mostOfAnybody {
		t.Errorf("one person has %d sessions", n)
	}
	if _, in := p.Find(owner); !in {
		t.Error("the owner was thrown out")
	}
	if _, err := p.SignIn(t.Context(), "192.0.2.1", "", "Mira", "three words together"); err != nil {
		t.Errorf("the owner is kept out: %v", err)
	}
	for i := range mostSessions * 2 { // and as many who are all others
		other := fmt.Sprint("other ", i%90)
		p.accounts[other] = &access.Account{ID: other, Name: other, Role: access.Watcher}
		if _, err := p.enter(t.Context(), "192.0.2.4", right{account: other}.session("192.0.2.4")); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(p.Tokens()); n > mostSessions+1 {
		t.Errorf("there are %d sessions", n-1)
	}
	for range mostSessions * 2 { // and as many who are nobody's
		if _, err := p.Spend(t.Context(), "192.0.2.3", p.Code(), ConsoleName, true); err != nil {
			t.Fatal(err)
		}
	}
	if _, in := p.Find(owner); !in || len(p.Tokens()) > mostSessions+1 {
		t.Errorf("the owner is in: %v, with %d tokens", in, len(p.Tokens()))
	}
}

func TestBrowsersAndNetworksAreKnownAfterANewStart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "familiar.json")
	k := &kept{tokens: map[string]access.Token{}, accounts: map[string]access.Account{}}
	open := func() *People {
		p, err := Open(t.Context(), k, path, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := open()
	keeper, err := p.put(t.Context(), "the keeper's", access.Token{Name: KeeperName, Scopes: access.All})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Keeper, "three words together"); err != nil {
		t.Fatal(err)
	}
	token, err := p.SignIn(t.Context(), "192.0.2.9", "", "Mira", "three words together")
	if err != nil {
		t.Fatal(err)
	}
	h, _ := p.Find(token)
	mark := p.Mark(h)
	for i := range 10 { // a token is seen everywhere
		p.Used(keeper, fmt.Sprintf("198.51.100.%d", i))
	}
	if n := len(p.familiar.networks[keeper.ID]); n != mostNetworks || len(p.familiar.at) != mostNetworks+1 {
		t.Errorf("one token made %d networks familiar, of %d", n, len(p.familiar.at))
	}
	if err := p.familiar.keep(p.there); err != nil {
		t.Fatal(err)
	}
	p = open()
	if !p.Familiar("203.0.113.1", mark) || p.Familiar("203.0.113.1", mark+"0") || p.Familiar("203.0.113.1", "") || !p.Familiar("192.0.2.9", "") {
		t.Error("who was in before is not known, or who was not is")
	}
	if near := slices.DeleteFunc([]int{0, 1, 2, 3, 4, 5, 6, 7, 8, 9}, func(i int) bool { return !p.Near(fmt.Sprintf("198.51.100.%d", i)) }); len(near) != mostNetworks {
		t.Errorf("one token made %v familiar", near)
	}
}

func TestManyOffersTakeNobodysAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newOffers()
		first, err := o.ticket(offer{Until: time.Now().Add(offerLife)})
		if err != nil {
			t.Fatal(err)
		}
		for range 5000 {
			o.ticket(offer{Until: time.Now().Add(offerLife)})
		}
		one, err := o.read(first, "")
		if err != nil || len(o.answered) != 0 {
			t.Fatalf("%v, with %d in memory", err, len(o.answered))
		}
		if _, err := o.read(first, "somebody"); err == nil {
			t.Error("it was another's")
		}
		for _, spoilt := range []string{"", ".", first + "A", "A" + first, first[:len(first)-2]} {
			if _, err := o.read(spoilt, ""); err == nil {
				t.Errorf("%q is good", spoilt)
			}
		}
		if o.answer(one) != nil || o.answer(one) == nil {
			t.Error("it was answered twice, or never")
		}
		if _, err := o.read(first, ""); err == nil {
			t.Error("it is good after it was answered")
		}
		for last := range 4 { // the same seal, written in another way
			seal, text, _ := strings.Cut(first, ".")
			if _, err := o.read(seal[:len(seal)-1]+string("AQgw"[last])+"."+text, ""); err == nil {
				t.Error("it was read again")
			}
		}
		late, _ := o.ticket(offer{Until: time.Now().Add(offerLife)})
		time.Sleep(offerLife + time.Second)
		if _, err := o.read(late, ""); err == nil {
			t.Error("it is good for ever")
		}
	})
}

func TestNothingIsDoneOfWhatIsRefused(t *testing.T) {
	p, k, keeper := crowd(t)
	mira, err := p.MakeAccount(t.Context(), keeper, "Mira", access.Keeper, "three words together")
	if err != nil {
		t.Fatal(err)
	}
	token, err := p.SignIn(t.Context(), "192.0.2.1", "", "Mira", "three words together")
	if err != nil {
		t.Fatal(err)
	}
	h, _ := p.Find(token)
	if _, err := p.MakeAccount(t.Context(), h, "Tom", access.Watcher, "three words together"); err != nil {
		t.Fatal(err)
	}
	_, slicer, err := p.MakeToken(t.Context(), h, "slicer", []string{access.Send}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, what := range []Becomes{Ends, EndsAll, Taken} {
		if err := p.TakeAwayAccount(t.Context(), mira.ID, what, keeper); !errors.Is(err, ErrLast) {
			t.Errorf("%s: the last keeper was removed: %v", what, err)
		}
		if !h.Good() || len(p.Accounts()) != 2 || k.tokens[slicer.ID].Giver != h.ID {
			t.Errorf("%s: the session is good: %v, %d accounts, the slicer is let in by %s", what, h.Good(), len(p.Accounts()), k.tokens[slicer.ID].Giver)
		}
	}
}
