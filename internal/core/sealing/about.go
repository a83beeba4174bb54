package sealing

import (
	"bytes"
	"compress/flate"
	"crypto/rand"
	"crypto/sha256"
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

// boundTo is what seals a word to a key, and to the header of a file that says of itself that
// something is beside it. Of files that older versions made it is the key alone.
func boundTo(key string, f *File) []byte {
	if f == nil || !f.About {
		return []byte(key)
	}
	sum := sha256.Sum256(f.head)
	return append([]byte(key+"\x00"), sum[:]...)
}

// SealAbout gives what an object has beside its content as one word, bound to its key and to the
// file of its content.
func (k *Keys) SealAbout(key string, f *File, a About) (string, error) {
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
	return base64.RawStdEncoding.EncodeToString(k.about.Seal(nonce, nonce, small.Bytes(), boundTo(key, f))), nil
}

// OpenAbout reads such a word. The error has the code sealed-damaged.
func (k *Keys) OpenAbout(key string, f *File, word string) (a About, err error) {
	b, err := base64.RawStdEncoding.DecodeString(word)
	n := k.about.NonceSize()
	if err != nil || len(b) < n {
		return a, damaged("what is said beside the content cannot be read").Because(err)
	}
	plain, err := k.about.Open(nil, b[:n], b[n:], boundTo(key, f))
	if err != nil {
		return a, damaged("what is said beside the content of %q belongs to another key or version", key).Because(err)
	}
	plain, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(plain)), maxAbout))
	if err == nil {
		err = json.Unmarshal(plain, &a)
	}
	return a, err
}
