package people

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"
	"golang.org/x/time/rate"
)

// The costs of a password: the set with three passes of those that OWASP's Password Storage
// Cheat Sheet holds for equal. The computer has little memory, and a print goes on in it
// whoever tries passwords: RFC 9106's smallest set takes 64 MiB. One is computed at a time.
const (
	passes  = 3
	memory  = 12 << 10 // KiB
	lanes   = 1
	saltLen = 16
	hashLen = 32
)

// costs are those of a password that is kept now.
var costs = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$", argon2.Version, memory, passes, lanes)

// How long a password is, in characters. There are no other rules but that it is none of
// the commonest.
const (
	shortestPassword = 8
	longestPassword  = 256
)

// commonest are the first five bytes of the SHA-256 of each of the five thousand commonest
// passwords of eight characters and more, in order, in small letters: those of the list of
// passwords in the package @zxcvbn-ts/language-common 4.1.3 (MIT licence).
//
//go:embed commonest.bin
var commonest []byte

const commonestLen = 5

func common(password string) bool {
	sum := sha256.Sum256([]byte(strings.ToLower(password)))
	lo, hi := 0, len(commonest)/commonestLen
	for lo < hi {
		mid := (lo + hi) / 2
		switch c := bytes.Compare(commonest[mid*commonestLen:(mid+1)*commonestLen], sum[:commonestLen]); {
		case c == 0:
			return true
		case c < 0:
			lo = mid + 1
		default:
			hi = mid
		}
	}
	return false
}

// checkPassword says why a password is none, or nil. What it is for may not be it.
func checkPassword(password string, notThese ...string) error {
	switch n := utf8.RuneCountInString(password); {
	case n < shortestPassword:
		return fmt.Errorf("%w: it has %d characters, and it takes %d: a few words in a row are easy to keep in mind", ErrPassword, n, shortestPassword)
	case n > longestPassword:
		return fmt.Errorf("%w: it has more than %d characters", ErrPassword, longestPassword)
	case common(password):
		return fmt.Errorf("%w: it is one of the commonest, which are tried first: take a few words in a row", ErrPassword)
	}
	for _, s := range notThese {
		if s != "" && strings.EqualFold(password, s) {
			return fmt.Errorf("%w: it is a name", ErrPassword)
		}
	}
	return nil
}

// One password is computed at a time: it takes memory. Strangers stand in a line of their
// own before that, so that who was in before waits for one of them at the most.
var computing, strangers sync.Mutex

func derive(password string, salt []byte, time, memory uint32, lanes uint8, n int) []byte {
	computing.Lock()
	defer computing.Unlock()
	return argon2.IDKey([]byte(norm.NFKC.String(password)), salt, time, memory, lanes, uint32(n))
}

// hashed is a password as it is kept.
func hashed(password string) string {
	salt := make([]byte, saltLen)
	rand.Read(salt)
	enc := base64.RawStdEncoding
	return costs + enc.EncodeToString(salt) + "$" + enc.EncodeToString(derive(password, salt, passes, memory, lanes, hashLen))
}

// nobodys is compared with where there is no account, so that it takes as long.
var nobodys = sync.OnceValue(func() string { return hashed(rand.Text()) })

// matches reports whether a password is the one that is kept.
func matches(kept, password string) bool {
	var version, m, t, p int
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &m, &t, &p); err != nil || version != argon2.Version || m > 1<<20 || t > 100 || p < 1 || p > 255 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(derive(password, salt, uint32(t), uint32(m), uint8(p), len(want)), want) == 1
}

// signIns slows down those who try passwords, before anything is computed. Each address
// has a few tries and then one now and then, and so have all addresses together; a browser
// or a network from which its owner was in before has tries of its own, so that the owner
// comes in whoever else is trying.
type signIns struct {
	mu    sync.Mutex
	all   *rate.Limiter
	each  map[string]*rate.Limiter // by address, or by account and where it is known
	fresh []string                 // of each, the oldest first
}

// How often passwords may be tried: less than twenty wrong ones a minute are looked at.
var (
	passwordsOfOne = pace{15 * time.Second, 5}
	passwordsOfAll = pace{6 * time.Second, 8}
)

func newSignIns() *signIns {
	return &signIns{all: passwordsOfAll.limiter(), each: map[string]*rate.Limiter{}}
}

// matches is the function of that name, in the turn of who asks.
func (s *signIns) matches(kept, password string, known bool) bool {
	if !known {
		strangers.Lock()
		defer strangers.Unlock()
	}
	return matches(kept, password)
}

func (s *signIns) limiter(key string) *rate.Limiter {
	l := s.each[key]
	if l == nil {
		if len(s.fresh) >= guessers {
			delete(s.each, s.fresh[0])
			s.fresh = s.fresh[1:]
		}
		l = passwordsOfOne.limiter()
		s.each[key], s.fresh = l, append(s.fresh, key)
	}
	return l
}

// admit takes a try, for an account that is known where it comes from or not. It returns
// how long to stay away if there is none left. Who is known by a mark has tries that
// nobody at the same address takes away.
func (s *signIns) admit(from, mark string, known bool, account string, now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if known {
		return take(s.limiter(own(from, mark, account)), now)
	}
	mine := s.limiter(neighbourhood(from).String())
	if wait := take(mine, now); wait > 0 {
		return wait
	}
	return take(s.all, now)
}

// own is what somebody's own tries go by who is known.
func own(from, mark, account string) string {
	return cmp.Or(mark, neighbourhood(from).String()) + " " + account
}

// forgive gives the tries back of somebody who is known and had the right password.
func (s *signIns) forgive(from, mark, account string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.each[own(from, mark, account)] != nil {
		s.each[own(from, mark, account)] = passwordsOfOne.limiter()
	}
}

func take(l *rate.Limiter, now time.Time) time.Duration {
	r := l.ReserveN(now, 1)
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return wait
	}
	return 0
}
