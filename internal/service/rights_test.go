package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/access"
	"diathermon/internal/people"
	"diathermon/internal/web"
	"diathermon/internal/web/guard"
)

// names are tokens by what they may do, in memory.
type names map[string]access.Token

func (n names) Tokens(context.Context) (out []access.Token, _ error) {
	for _, t := range n {
		out = append(out, t)
	}
	return out, nil
}
func (n names) Accounts(context.Context) ([]access.Account, error) {
	var out []access.Account
	for _, r := range access.Roles {
		out = append(out, access.Account{ID: string(r), Name: string(r), Role: r})
	}
	return out, nil
}
func (n names) PutAccount(context.Context, access.Account) error   { return nil }
func (n names) DeleteAccount(context.Context, string) error        { return nil }
func (n names) Passkeys(context.Context) ([]access.Passkey, error) { return nil, nil }
func (n names) PutPasskey(context.Context, access.Passkey) error   { return nil }
func (n names) DeletePasskey(context.Context, string) error        { return nil }
func (n names) PutToken(context.Context, access.Token) error       { return nil }
func (n names) DeleteToken(_ context.Context, id string) error {
	delete(n, id)
	return nil
}

func TestEveryOperationAsksForTheScopeThatItNames(t *testing.T) {
	synctest.Test(t, scopesAreAskedFor)
}

func scopesAreAskedFor(t *testing.T) {
	text, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		Paths map[string]map[string]struct {
			OperationID string
			Security    []map[string][]string
		}
	}
	if err := json.Unmarshal(text, &d); err != nil {
		t.Fatal(err)
	}
	kept := names{}
	keep := func(name, account string, scopes ...string) {
		hash := sha256.Sum256([]byte(name))
		kept[name] = access.Token{ID: name, Name: name, Hash: hash[:], Scopes: strings.Join(scopes, " "), Account: account, Session: account != ""}
	}
	for _, scope := range access.Scopes {
		keep("all-but-"+scope, "", slices.DeleteFunc(slices.Clone(access.Scopes), func(s string) bool { return s == scope })...)
		keep("only-"+scope, "", scope)
	}
	for _, role := range access.Roles {
		keep("a-"+string(role), string(role))
	}
	log := slog.New(slog.DiscardHandler)
	known, err := people.Open(t.Context(), kept, "", log)
	if err != nil {
		t.Fatal(err)
	}
	old, yesterday := sha256.Sum256([]byte("too-old")), time.Now().Add(-24*time.Hour)
	kept["old"] = access.Token{ID: "old", Hash: old[:], Scopes: access.All, Expires: &yesterday}
	if _, err := people.Open(t.Context(), kept, "", log); err != nil || kept["old"].ID != "" {
		t.Errorf("a token that is too old is kept (%v)", err)
	}
	h := (&web.Server{Areas: bare(), Access: guard.NewAccess(known, 8437, log), Logger: log}).Handler()
	ask := func(method, path, token string) int {
		patient, cancel := context.WithTimeout(t.Context(), time.Minute) // of the bubble's: there is no host that answers
		defer cancel()
		r := httptest.NewRequestWithContext(patient, method, path, nil)
		r.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code
	}
	want := map[string]string{ // what changes something; everything else is read
		"put-file": access.Send, "post-file": access.Send, "change-file": access.Send, "rehearse-file": access.Send, "stop-rehearsal": access.Send, "remove-file": access.Keep, "apply-tuning": access.Keep, "bound-guard": access.Keep, "start-run": access.Start, "pick-up-run": access.Start,
		"trim-run": access.Operate, "set-until": access.Operate, "drop-until": access.Operate, "hold-run": access.Operate, "resume-run": access.Operate, "stop-run": access.Operate, "reconnect": access.Operate, "set-heat": access.Operate, "cool": access.Operate,
		"look-back": access.Operate, "begin-warm-up": access.Operate, "end-warm-up": access.Operate, "put-warm-up": access.Operate, "delete-warm-up": access.Operate, "tune-heater": access.Operate, "acknowledge-alarm": access.Operate,
		"add-queue-entry": access.Start, "change-queue-entry": access.Start, "remove-queue-entry": access.Start, "start-next": access.Start, "get-file-beginning": access.Send,
		"say-bed": access.Operate, "load-slot": access.Operate, "set-output": access.Operate, "perform-routine": access.Operate, "answer-question": access.Operate, "stop-performance": access.Operate, "store-routine": access.Keep, "describe-printer": access.Keep, "set-around": access.Keep, "take-up-printer": access.Keep, "remove-routine": access.Keep,
		"press": access.Operate, "drop-presses": access.Operate, "home": access.Operate, "park": access.Operate, "turn-motors-off": access.Operate, "get-endstops": access.Operate,
		"say": access.Operate, "measure-wire": access.Operate,
		"list-pairings": access.Keep, "answer-pairing": access.Keep, "list-accounts": access.Keep, "make-account": access.Keep, "change-account": access.Keep, "remove-account": access.Keep,
		"try-connection": access.Send, "list-tokens": access.Keep, "make-token": access.Keep, "withdraw-token": access.Keep,
	}
	looked, rights := 0, map[string]string{}
	for path, operations := range d.Paths {
		for method, op := range operations {
			looked++
			scope := cmp.Or(want[op.OperationID], access.Read)
			if named := op.Security[0]["token"]; !slices.Equal(named, []string{scope}) {
				t.Errorf("%s names the scopes %q, want %q", op.OperationID, named, scope)
			}
			address := strings.NewReplacer("{name}", "x", "{id}", "x", "{heater}", "bed", "{guard}", "jump", "{number}", "0").Replace(path)
			rights[op.OperationID] = scope
			for token, t1 := range kept {
				may := strings.Fields(t1.Scopes)
				if t1.Account != "" {
					may = access.Role(t1.Account).Scopes()
				}
				if got := ask(strings.ToUpper(method), address, token); (got == http.StatusForbidden) == slices.Contains(may, scope) || got == http.StatusUnauthorized {
					t.Errorf("%s with the token %s, which may %q: %d", op.OperationID, token, may, got)
				}
			}
			if got := ask(strings.ToUpper(method), address, "too-old"); got != http.StatusUnauthorized {
				t.Errorf("%s with no good token: %d", op.OperationID, got)
			}
		}
	}
	if looked < 60 || ask("GET", "/v1/openapi.json", "all-but-"+access.Keep) != http.StatusOK {
		t.Errorf("%d operations", looked)
	}
	compareRights(t, rights)
}

var update = flag.Bool("update", false, "write docs/rights.md anew")

// compareRights fails unless docs/rights.md has the table of roles and operations that is
// in force.
func compareRights(t *testing.T, scopes map[string]string) {
	var b strings.Builder
	b.WriteString("# Rights\n\nWhich scope an operation asks of a token, and which role's accounts have it. The table is compared with what the service does in every `make test` (`go test ./internal/service -run Scope -update` writes it anew).\n\n| operation | scope | watcher | operator | keeper |\n|---|---|---|---|---|\n")
	for _, op := range slices.Sorted(maps.Keys(scopes)) {
		fmt.Fprintf(&b, "| `%s` | `%s` |", op, scopes[op])
		for _, role := range access.Roles {
			mark := " |"
			if slices.Contains(role.Scopes(), scopes[op]) {
				mark = " yes |"
			}
			b.WriteString(mark)
		}
		b.WriteString("\n")
	}
	const path = "../../docs/rights.md"
	if *update {
		os.WriteFile(path, []byte(b.String()), 0o644)
	}
	if there, err := os.ReadFile(path); err != nil || string(there) != b.String() {
		t.Errorf("docs/rights.md is not what is in force (%v): write it anew", err)
	}
}
