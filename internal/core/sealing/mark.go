package sealing

import (
	"bytes"
	"encoding/json"
	"fmt"

	"filippo.io/age"

	"spindle/internal/core/fault"
)

// The files beside what is sealed: how it is, and the secret of contents in the passphrase
// form of the format age, for the ordinary program of that format.
const (
	MarkName = "spindle-sealed.json"
	KeyName  = "spindle-sealed-key.age"
)

// MaxMark is how many bytes the file of a mark may have.
const MaxMark = 64 << 10

// Mark says how a place is sealed. It holds no secret.
type Mark struct {
	Format    int    `json:"format"` // 1
	Names     bool   `json:"names"`  // are sealed too
	Salt      Salt   `json:"salt"`
	Recipient string `json:"recipient"` // of contents
	Key       []byte `json:"key"`       // what KeyName holds
}

type written struct {
	Says []string `json:"says"`
	KDF  string   `json:"keys"`
	Mark
}

// New makes the mark of a new place, and its keys. It takes some seconds.
func New(passphrase string, names bool) (*Mark, *Keys, error) {
	salt := NewSalt()
	k, err := Derive(passphrase, salt)
	if err != nil {
		return nil, nil, err
	}
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, nil, err
	}
	var key bytes.Buffer
	w, err := age.Encrypt(&key, r)
	if err != nil {
		return nil, nil, err
	}
	if _, err := fmt.Fprintf(w, "# opens what was sealed for %s\n%s\n", k.Recipient(), k.Identity()); err != nil {
		return nil, nil, err
	}
	if err := w.Close(); err != nil {
		return nil, nil, err
	}
	return &Mark{Format: 1, Names: names, Salt: salt, Recipient: k.Recipient(), Key: key.Bytes()}, k, nil
}

// Open gives the keys of a mark's place. The error has the code passphrase-wrong.
func (m *Mark) Open(passphrase string) (*Keys, error) {
	k, err := Derive(passphrase, m.Salt)
	if err == nil && k.Recipient() != m.Recipient {
		err = fault.New(fault.Refused, "passphrase-wrong", "the passphrase is not the one that this place was sealed with").
			In("passphrase").Do("give that one; without it nothing can be opened")
	}
	return k, err
}

// Bytes writes a mark for people and programs.
func (m *Mark) Bytes() ([]byte, error) {
	says := []string{"What is here was sealed by Spindle: contents are files of the open format age, version 1.",
		"spindle sync recover brings it back, with the passphrase.",
		"Without that program: age -d -o key.txt " + KeyName + "; age -d -i key.txt -o CONTENT FILE"}
	if m.Names {
		says = append(says, "Names are sealed too, and need the passphrase and the salt.")
	}
	return json.MarshalIndent(written{says, fmt.Sprintf("argon2id, %d passes, %d KiB, %d lanes", argonPasses, argonMemory,
		argonLanes), *m}, "", "  ")
}

// ParseMark reads a mark. The error has the code sealed-mark.
func ParseMark(b []byte) (*Mark, error) {
	var w written
	err := json.Unmarshal(b, &w)
	if err == nil && w.Format != 1 {
		err = fmt.Errorf("format %d is not known", w.Format)
	}
	if err != nil {
		return nil, fault.New(fault.Damaged, "sealed-mark", "%s cannot be read", MarkName).In("source").
			Do("give salt and names from the recovery sheet instead").Because(err)
	}
	return &w.Mark, nil
}
