package sealing

import (
	"bytes"
	"compress/flate"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"io"

	"spindle/internal/core/object"
)

// About is what an object has beside its content and facts.
type About struct {
	Type     string          `json:"type,omitempty"` // of the content
	Headers  object.Headers  `json:"headers"`        // the others
	Metadata object.Metadata `json:"metadata,omitempty"`
	Tags     object.Tags     `json:"tags,omitempty"`
}

// maxAbout is how many bytes that may have.
const maxAbout = 64 << 10

// SealAbout gives what an object has beside its content as one word, bound to its key.
func (k *Keys) SealAbout(key string, a About) (string, error) {
	plain, err := json.Marshal(a)
	if err != nil {
		return "", err
	}
	var small bytes.Buffer
	w, err := flate.NewWriter(&small, flate.BestCompression)
	if err != nil {
		return "", err
	}
	if _, err := w.Write(plain); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	nonce := make([]byte, k.about.NonceSize())
	_, _ = rand.Read(nonce)
	return base64.RawStdEncoding.EncodeToString(k.about.Seal(nonce, nonce, small.Bytes(), []byte(key))), nil
}

// OpenAbout reads such a word. The error has the code sealed-damaged.
func (k *Keys) OpenAbout(key, word string) (a About, err error) {
	b, err := base64.RawStdEncoding.DecodeString(word)
	n := k.about.NonceSize()
	if err != nil || len(b) < n {
		return a, damaged("what is said beside the content cannot be read").Because(err)
	}
	plain, err := k.about.Open(nil, b[:n], b[n:], []byte(key))
	if err != nil {
		return a, damaged("what is said beside the content belongs to another key than %q", key).Because(err)
	}
	plain, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(plain)), maxAbout))
	if err == nil {
		err = json.Unmarshal(plain, &a)
	}
	return a, err
}
