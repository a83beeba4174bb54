package keyring

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"

	"spindle/internal/core/fault"
)

// Cost of a password's digest: RFC 9106, section 4, second recommended option.
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
)

// hashing bounds how many digests are worked out at a time, and so their memory.
var hashing = make(chan struct{}, 2)

// HashPassword gives a password's digest in the usual coding. The error for one
// that is too easy to guess has the code password-weak.
func HashPassword(ctx context.Context, password string) (string, error) {
	n := utf8.RuneCountInString(password)
	switch {
	case n < 10 || len(password) > 256:
		return "", fault.New(fault.Invalid, "password-weak", "a password has 10 to 256 characters, and this one %d", n).
			In("password").Do("take a sentence")
	case strings.Count(password, password[:1]) == len(password):
		return "", fault.New(fault.Invalid, "password-weak", "the password is one character again and again").In("password").
			Do("take a sentence")
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	sum, err := argon(ctx, password, salt, argonTime, argonMemory, argonThreads)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(sum)), err
}

func argon(ctx context.Context, password string, salt []byte, t, m uint32, p uint8) ([]byte, error) {
	select {
	case hashing <- struct{}{}:
		defer func() { <-hashing }()
		return argon2.IDKey([]byte(password), salt, t, m, p, 32), nil
	case <-ctx.Done():
		return nil, fault.New(fault.Unavailable, "cancelled", "the request was given up").Because(ctx.Err())
	}
}

// nobody is the digest that a name is compared with that nobody has, so that it
// takes as long as one that somebody has.
const nobody = "$argon2id$v=19$m=65536,t=3,p=4$c3BpbmRsZSBub2JvZHkgIQ$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// CheckPassword compares a password with a digest; "" for that of nobody. It
// takes the same time either way.
func CheckPassword(ctx context.Context, password, coded string) (bool, error) {
	known := coded != ""
	if !known {
		coded = nobody
	}
	parts := strings.Split(coded, "$")
	var m, t uint32
	var p uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fault.New(fault.Internal, "password-damaged", "a stored password cannot be read")
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false, err
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false, err
	}
	if len(password) > 256 {
		password = password[:256]
	}
	got, err := argon(ctx, password, salt, t, m, p)
	return subtle.ConstantTimeCompare(got, want) == 1 && known && err == nil, err
}
