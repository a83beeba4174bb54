package sealing

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"strings"

	"filippo.io/age"
	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"

	"spindle/internal/core/fault"
)

// Sizes in bytes, and the work of argon2id.
const (
	SaltSize      = 16
	MasterSize    = 32
	LeastPassword = 12

	argonPasses = 3
	argonMemory = 64 << 10 // KiB
	argonLanes  = 4
)

var letters = base32.HexEncoding.WithPadding(base32.NoPadding)

// Salt is what makes the keys of one passphrase others at every place.
type Salt [SaltSize]byte

// NewSalt makes one.
func NewSalt() (s Salt) {
	_, _ = rand.Read(s[:]) // it never fails
	return s
}

// String writes a salt as a person can copy it, in groups.
func (s Salt) String() string {
	var out []string
	for b := strings.ToLower(letters.EncodeToString(s[:])); b != ""; b = b[min(len(b), 6):] {
		out = append(out, b[:min(len(b), 6)])
	}
	return strings.Join(out, "-")
}

// ParseSalt reads a salt; spaces, hyphens and case do not matter. The error has the code
// salt.
func ParseSalt(text string) (s Salt, err error) {
	clean := strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(text))
	b, err := letters.DecodeString(clean)
	if err != nil || len(b) != SaltSize {
		return s, fault.New(fault.Invalid, "salt", "%q is no salt", text).In("salt").
			Do("copy it from the recovery sheet: 26 letters and digits")
	}
	return Salt(b), nil
}

// MarshalText writes a salt.
func (s Salt) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads one.
func (s *Salt) UnmarshalText(b []byte) (err error) {
	*s, err = ParseSalt(string(b))
	return err
}

// Keys seal and open what one passphrase and salt protect.
type Keys struct {
	master   [MasterSize]byte
	identity *age.X25519Identity
	sign     []byte       // of names
	hide     cipher.Block // of names
	facts    cipher.AEAD
	about    cipher.AEAD
}

// Derive makes the keys of a passphrase, which is taken as its Unicode form NFC. It takes
// some tenths of a second and 64 MiB. The error has the code passphrase-weak.
func Derive(passphrase string, salt Salt) (*Keys, error) {
	p := norm.NFC.String(strings.TrimRight(passphrase, "\r\n"))
	if len(p) < LeastPassword {
		return nil, fault.New(fault.Invalid, "passphrase-weak", "the passphrase has less than %d characters", LeastPassword).
			In("passphrase").Do("take several words that nobody would guess together")
	}
	return FromMaster(argon2.IDKey([]byte(p), salt[:], argonPasses, argonMemory, argonLanes, MasterSize))
}

// FromMaster gives the keys whose Master was kept.
func FromMaster(master []byte) (*Keys, error) {
	if len(master) != MasterSize {
		return nil, fault.New(fault.Internal, "sealing-key", "a sealing key has %d bytes, not %d", len(master), MasterSize)
	}
	k := &Keys{master: [MasterSize]byte(master)}
	secret, err := k.key("age identity")
	if err != nil {
		return nil, err
	}
	if k.identity, err = age.ParseX25519Identity(identityText(secret)); err != nil {
		return nil, err
	}
	if k.sign, err = k.key("names: vector"); err != nil {
		return nil, err
	}
	raw, err := k.key("names: text")
	if err != nil {
		return nil, err
	}
	if k.hide, err = aes.NewCipher(raw); err != nil {
		return nil, err
	}
	if k.facts, err = k.aead("facts"); err != nil {
		return nil, err
	}
	k.about, err = k.aead("about")
	return k, err
}

func (k *Keys) key(purpose string) ([]byte, error) {
	return hkdf.Key(sha256.New, k.master[:], nil, "spindle sealing 1 "+purpose, 32)
}

func (k *Keys) aead(purpose string) (cipher.AEAD, error) {
	raw, err := k.key(purpose)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(raw)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// Master gives what all keys are made of. It is as secret as the passphrase.
func (k *Keys) Master() []byte { return k.master[:] }

// Recipient gives what contents are sealed for, by which keys are told apart. It is no
// secret.
func (k *Keys) Recipient() string { return k.identity.Recipient().String() }

// Identity gives the secret by which the ordinary program opens contents.
func (k *Keys) Identity() string { return k.identity.String() }

// identityText writes the secret of an X25519 identity as the format has it: Bech32 (BIP
// 173) in capitals.
func identityText(secret []byte) string {
	const alphabet, human = "qpzry9x8gf2tvdw0s3jn54khce6mua7l", "age-secret-key-"
	var data []byte // in fives of bits
	acc, bits := 0, 0
	for _, b := range secret {
		acc, bits = acc<<8|int(b), bits+8
		for ; bits >= 5; bits -= 5 {
			data = append(data, byte(acc>>(bits-5)&31))
		}
	}
	if bits > 0 {
		data = append(data, byte(acc<<(5-bits)&31))
	}
	var values []byte
	for _, c := range []byte(human) {
		values = append(values, c>>5)
	}
	values = append(values, 0)
	for _, c := range []byte(human) {
		values = append(values, c&31)
	}
	sum := polymod(append(append(values, data...), 0, 0, 0, 0, 0, 0)) ^ 1
	for i := range 6 {
		data = append(data, byte(sum>>(5*(5-i))&31))
	}
	out := []byte(human + "1")
	for _, v := range data {
		out = append(out, alphabet[v])
	}
	return strings.ToUpper(string(out))
}

// polymod is the checksum of Bech32.
func polymod(values []byte) uint32 {
	sum := uint32(1)
	for _, v := range values {
		top := sum >> 25
		sum = sum&0x1ffffff<<5 ^ uint32(v)
		for i, g := range []uint32{0x3b6a57b2, 0x26508e6d, 0x1ea119fa, 0x3d4233dd, 0x2a1462b3} {
			if top>>i&1 == 1 {
				sum ^= g
			}
		}
	}
	return sum
}
