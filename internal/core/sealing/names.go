package sealing

import (
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"strings"

	"spindle/internal/core/fault"
)

const (
	vectorSize = 16  // bytes
	cutNames   = 120 // letters, so that each part may be the name of a file
)

// LongestKey is how many bytes a key may have whose name is sealed.
const LongestKey = 618

// SealName gives the name under which a key is kept. The error has the code name-too-long.
func (k *Keys) SealName(key string) (string, error) {
	if len(key) > LongestKey {
		return "", fault.New(fault.Invalid, "name-too-long", "a key of %d bytes is too long to be sealed",
			len(key)).In("key").
			Do("sealed names are of keys up to %d bytes; leave it out, or seal contents alone", LongestKey)
	}
	out := make([]byte, vectorSize+len(key))
	vector := k.vector([]byte(key))
	copy(out, vector)
	cipher.NewCTR(k.hide, vector).XORKeyStream(out[vectorSize:], []byte(key))
	text := strings.ToLower(letters.EncodeToString(out))
	var parts []string
	for ; len(text) > cutNames; text = text[cutNames:] {
		parts = append(parts, text[:cutNames])
	}
	return strings.Join(append(parts, text), "/"), nil
}

func (k *Keys) vector(key []byte) []byte {
	h := hmac.New(sha256.New, k.sign)
	h.Write(key)
	return h.Sum(nil)[:vectorSize]
}

// OpenName gives the key of a name; ok is false for one that these keys did not seal.
func (k *Keys) OpenName(name string) (key string, ok bool) {
	for i := cutNames; i < len(name); i += cutNames + 1 {
		if name[i] != '/' {
			return "", false
		}
	}
	b, err := letters.DecodeString(strings.ToUpper(strings.ReplaceAll(name, "/", "")))
	if err != nil || len(b) <= vectorSize {
		return "", false
	}
	plain := make([]byte, len(b)-vectorSize)
	cipher.NewCTR(k.hide, b[:vectorSize]).XORKeyStream(plain, b[vectorSize:])
	if !hmac.Equal(k.vector(plain), b[:vectorSize]) {
		return "", false
	}
	again, err := k.SealName(string(plain))
	return string(plain), err == nil && again == name
}
