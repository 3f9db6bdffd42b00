package people

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"
	"golang.org/x/time/rate"
)

// The costs of a password: the second set that RFC 9106, 4, recommends, for where memory
// is short. One is computed at a time.
const (
	passes  = 3
	memory  = 64 << 10 // KiB
	lanes   = 4
	saltLen = 16
	hashLen = 32
)

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

// computing lets one password be computed at a time: it takes 64 MiB.
var computing sync.Mutex

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
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes, enc.EncodeToString(salt), enc.EncodeToString(derive(password, salt, passes, memory, lanes, hashLen)))
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
// from which its owner has signed in before has tries of its own, so that the owner comes
// in whoever else is trying.
type signIns struct {
	secret []byte // of the marks of known browsers, for as long as the host runs

	mu    sync.Mutex
	all   *rate.Limiter
	each  map[string]*rate.Limiter // by address, or mark
	fresh []string                 // of each, the oldest first
}

// How often passwords may be tried: less than twenty wrong ones a minute are looked at.
var (
	passwordsOfOne = pace{15 * time.Second, 5}
	passwordsOfAll = pace{6 * time.Second, 8}
)

func newSignIns() *signIns {
	s := &signIns{secret: make([]byte, 32), all: passwordsOfAll.limiter(), each: map[string]*rate.Limiter{}}
	rand.Read(s.secret)
	return s
}

// mark is what a browser keeps from which somebody has signed in, to be known by.
func (s *signIns) mark(account string) string {
	m := hmac.New(sha256.New, s.secret)
	m.Write([]byte(account))
	return account + "." + hex.EncodeToString(m.Sum(nil))
}

// known reports whether a browser has signed in as that account before.
func (s *signIns) known(mark, account string) bool {
	return account != "" && hmac.Equal([]byte(mark), []byte(s.mark(account)))
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

// admit takes a try. It returns how long to stay away if there is none left.
func (s *signIns) admit(from, mark, account string, now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known(mark, account) {
		return take(s.limiter("mark "+account), now)
	}
	mine := s.limiter(neighbourhood(from).String())
	if wait := take(mine, now); wait > 0 {
		return wait
	}
	return take(s.all, now)
}

func take(l *rate.Limiter, now time.Time) time.Duration {
	r := l.ReserveN(now, 1)
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return wait
	}
	return 0
}
