package digest_test

import (
	"errors"
	"io"
	"strings"
	"testing"

	"diathermon/internal/digest"
)

// The first input of the vectors that BLAKE3's authors publish, and the first two of
// FIPS 180's for SHA-256.
func TestDigestsAreThoseOfTheirStandards(t *testing.T) {
	for known, body := range map[string]string{
		"blake3-af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262": "",
		"blake3-6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85": "abc",
		"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855":        "",
		"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad":        "abc",
	} {
		got, n, err := digest.Again(strings.NewReader(body), known)
		if got != known || n != int64(len(body)) || err != nil {
			t.Errorf("%q: got %s of %d bytes, %v; want %s", body, got, n, err, known)
		}
	}
}

func TestBytesOfAnotherDigestAreNoticedAtTheirEnd(t *testing.T) {
	for _, known := range []string{"blake3-6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"} {
		for body, want := range map[string]error{"abc": nil, "abd": digest.ErrOther, "": digest.ErrOther} {
			got, err := io.ReadAll(digest.Checked(strings.NewReader(body), known))
			if string(got) != body || !errors.Is(err, want) {
				t.Errorf("%q of %s: %q, %v; want %v", body, known, got, err, want)
			}
		}
	}
}
