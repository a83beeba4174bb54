package hold

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
)

// Upload is an object that comes in parts.
type Upload struct {
	ID      string
	Bucket  string
	Key     string
	Facts   Facts
	Started time.Time
	parts   map[int]*Part
}

// Part of an upload.
type Part struct {
	Number   int
	Modified time.Time
	*Body
}

// Start begins an upload.
func (h *Hold) Start(bucket, key string, f Facts, now time.Time) (*Upload, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.buckets[bucket] == nil {
		return nil, ErrNoBucket
	}
	u := &Upload{ID: rand.Text(), Bucket: bucket, Key: key, Facts: f, Started: now.UTC(), parts: map[int]*Part{}}
	h.uploads[u.ID] = u
	return u, nil
}

func (h *Hold) upload(bucket, key, id string) (*Upload, error) {
	u := h.uploads[id]
	if u == nil || u.Bucket != bucket || u.Key != key {
		return nil, ErrNoUpload
	}
	return u, nil
}

// PutPart keeps a part, in the place of one of its number.
func (h *Hold) PutPart(bucket, key, id string, number int, b *Body, now time.Time) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	u, err := h.upload(bucket, key, id)
	if err != nil {
		return err
	}
	u.parts[number] = &Part{number, now.UTC(), b}
	return nil
}

// Parts gives the parts of an upload by their numbers.
func (h *Hold) Parts(bucket, key, id string) ([]*Part, error) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	u, err := h.upload(bucket, key, id)
	if err != nil {
		return nil, err
	}
	var out []*Part
	for _, n := range slices.Sorted(maps.Keys(u.parts)) {
		out = append(out, u.parts[n])
	}
	return out, nil
}

// Abandon ends an upload.
func (h *Hold) Abandon(bucket, key, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	u, err := h.upload(bucket, key, id)
	if err != nil {
		return err
	}
	for _, p := range u.parts {
		h.Discard(p.Body)
	}
	delete(h.uploads, id)
	return nil
}

// Complete makes a version of some parts, which are given in order; the ETag is that of
// an object in parts.
func (h *Hold) Complete(bucket, key, id string, parts []*Part, cond Condition, now time.Time) (*Version, error) {
	whole := &Body{}
	sums, crc := md5.New(), NewCRC64()
	for _, p := range parts {
		r, err := h.Read(&Version{File: p.file, data: p.data, Size: p.Size})
		if err != nil {
			return nil, err
		}
		_, err = io.Copy(crc, r)
		sum, serr := hex.DecodeString(p.ETag)
		if err := errors.Join(err, serr, r.Close()); err != nil {
			return nil, err
		}
		sums.Write(sum)
		whole.Size += p.Size
		whole.pieces = append(whole.pieces, Piece{p.file, p.Size, p.data})
	}
	whole.ETag, whole.CRC64 = fmt.Sprintf("%x-%d", sums.Sum(nil), len(parts)), crc.Sum64()
	h.mu.RLock()
	u, err := h.upload(bucket, key, id)
	h.mu.RUnlock()
	if err != nil {
		return nil, err
	}
	v, err := h.Put(bucket, key, whole, u.Facts, cond, now)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.uploads, id) // its parts are the object's now
	return v, nil
}

// Uploads gives the unfinished uploads of a bucket beneath a prefix, by key, then by age.
func (h *Hold) Uploads(bucket, prefix string) ([]*Upload, error) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.buckets[bucket] == nil {
		return nil, ErrNoBucket
	}
	var out []*Upload
	for _, u := range h.uploads {
		if u.Bucket == bucket && strings.HasPrefix(u.Key, prefix) {
			out = append(out, u)
		}
	}
	slices.SortFunc(out, func(a, b *Upload) int {
		if c := strings.Compare(a.Key, b.Key); c != 0 {
			return c
		}
		return a.Started.Compare(b.Started)
	})
	return out, nil
}
