package catalog

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"spindle/internal/core/digest"
	"spindle/internal/core/object"
)

// versionFields are the columns of a version, in heads and history alike, in the
// order of headRow.targets.
var versionFields = []string{"number", "revision", "created", "size", "md5", "parts", "crc64", "checksum_kind",
	"checksum", "tier",
	"body_file", "body_offset", "content_type", "headers", "metadata", "tags", "written_by", "source", "plain", "marker"}

// versionColumns names a version's columns for a statement that calls their table h.
var versionColumns = "h." + strings.Join(versionFields, ", h.")

// keyedColumns are those of a version with the key it is of.
var keyedColumns = "h.bucket, h.key, " + versionColumns

// headRow is a row of heads or history, or of an outer join with one: then all
// may be null.
type headRow struct {
	Bucket       sql.NullInt64  `db:"bucket"`
	Key          []byte         `db:"key"`
	Number       sql.NullInt64  `db:"number"`
	Revision     sql.NullInt32  `db:"revision"`
	Created      sql.NullTime   `db:"created"`
	Size         sql.NullInt64  `db:"size"`
	MD5          []byte         `db:"md5"`
	Parts        sql.NullInt32  `db:"parts"`
	CRC64        sql.NullInt64  `db:"crc64"`
	ChecksumKind sql.NullInt16  `db:"checksum_kind"`
	Checksum     []byte         `db:"checksum"`
	Tier         sql.NullInt16  `db:"tier"`
	BodyFile     sql.NullInt64  `db:"body_file"`
	BodyOffset   sql.NullInt64  `db:"body_offset"`
	ContentType  sql.NullString `db:"content_type"`
	Headers      []byte         `db:"headers"`
	Metadata     []byte         `db:"metadata"`
	Tags         []byte         `db:"tags"`
	WrittenBy    sql.NullString `db:"written_by"`
	Source       sql.NullString `db:"source"`
	Plain        sql.NullBool   `db:"plain"`
	Marker       sql.NullBool   `db:"marker"`
}

// targets are where a scan of versionColumns goes.
func (r *headRow) targets() []any {
	return []any{&r.Number, &r.Revision, &r.Created, &r.Size, &r.MD5, &r.Parts, &r.CRC64, &r.ChecksumKind, &r.Checksum,
		&r.Tier,
		&r.BodyFile, &r.BodyOffset, &r.ContentType, &r.Headers, &r.Metadata, &r.Tags, &r.WrittenBy, &r.Source, &r.Plain,
		&r.Marker}
}

func (r *headRow) version(key object.Key) (*object.Version, error) {
	v := &object.Version{
		Key: key, Number: r.Number.Int64, Revision: int(r.Revision.Int32), Size: r.Size.Int64, Created: r.Created.Time.UTC(),
		ETag: object.ETag{Parts: int(r.Parts.Int32)}, CRC64: uint64(r.CRC64.Int64),
		Checksum: digest.Sum{Kind: digest.Kind(r.ChecksumKind.Int16 % perPart), Bytes: r.Checksum},
		PartSums: r.ChecksumKind.Int16 >= perPart,
		Body:     object.BodyRef{Tier: r.Tier.Int16, File: r.BodyFile.Int64, Offset: r.BodyOffset.Int64},
		By:       r.WrittenBy.String, Source: r.Source.String, Plain: r.Plain.Bool, Marker: r.Marker.Bool,
	}
	copy(v.ETag.MD5[:], r.MD5)
	kept := keptHeaders{}
	if err := readJSON(r.Headers, &kept); err != nil {
		return nil, fmt.Errorf("headers of version %d: %w", v.Number, err)
	}
	v.Headers, v.Origin = kept.Headers, kept.Origin
	if kept.Changed != nil {
		v.Changed = *kept.Changed
	}
	v.Headers.ContentType = r.ContentType.String
	if err := readJSON(r.Tags, &v.Tags); err != nil {
		return nil, fmt.Errorf("tags of version %d: %w", v.Number, err)
	}
	if err := readJSON(r.Metadata, &v.Metadata); err != nil {
		return nil, fmt.Errorf("metadata of version %d: %w", v.Number, err)
	}
	return v, nil
}

// keptHeaders is what stands in the column of headers: those of the object, what it is a
// replica of, and when it was changed.
type keptHeaders struct {
	object.Headers
	Origin  string     `json:"origin,omitempty"`
	Changed *time.Time `json:"changed,omitempty"`
}

func keptOf(v *object.Version) keptHeaders {
	k := keptHeaders{Headers: v.Headers, Origin: v.Origin}
	if !v.Changed.IsZero() {
		k.Changed = &v.Changed
	}
	return k
}

// readJSON reads a document into v, which a null leaves as it is.
func readJSON(raw []byte, v any) error {
	if raw == nil {
		return nil
	}
	return json.Unmarshal(raw, v)
}

// changeRow is a Change as the database's type of that name: its fields in order.
type changeRow [25]any

// IsNull and Index are pgtype's way to a composite value.
func (r *changeRow) IsNull() bool    { return r == nil }
func (r *changeRow) Index(i int) any { return r[i] }

var _ pgtype.CompositeIndexGetter = (*changeRow)(nil)

// row gives the change as the database takes it.
func (ch *Change) row() (*changeRow, error) {
	v := ch.Version
	if v == nil {
		v = &object.Version{}
	}
	kind := int16(v.Checksum.Kind)
	if v.PartSums {
		kind += perPart
	}
	var documents [4]any
	for i, of := range [...]any{keptOf(v), v.Metadata, v.Tags, ch.Detail} {
		var err error
		if documents[i], err = documentOrNull(of); err != nil {
			return nil, err
		}
	}
	r := &changeRow{int16(max(ch.Kind, ObjectWritten)), ch.Bucket, []byte(ch.Key),
		orNull(int64(ch.ID), ch.ID == object.Current),
		orNull(int32(ch.IfRevision), ch.IfRevision == 0), ch.IfAbsent || ch.IfCurrent, nil, nil,
		ch.At, v.Size, v.ETag.MD5[:], int32(v.ETag.Parts), int64(v.CRC64), kind, v.Checksum.Bytes, v.Body.Tier, v.Body.File,
		v.Body.Offset,
		v.Headers.ContentType, documents[0], documents[1], documents[2], ch.Who, ch.Source, documents[3]}
	if s := ch.IfState; s != nil {
		r[3], r[4] = s.Number, int32(s.Revision)
	}
	if ch.IfETag != nil {
		r[6], r[7] = ch.IfETag.MD5[:], int32(ch.IfETag.Parts) // no number of parts is below 0: that is AnyETag
	}
	return r, nil
}

func orNull[T any](v T, null bool) any {
	if null {
		return nil
	}
	return v
}

// documentOrNull renders v as JSON, null when it is empty.
func documentOrNull(v any) (any, error) {
	empty := false
	switch v := v.(type) {
	case keptHeaders:
		v.ContentType = "" // which has a column of its own
		empty = v == keptHeaders{}
	case object.Metadata:
		empty = len(v) == 0
	case object.Tags:
		empty = len(v) == 0
	case map[string]any:
		empty = len(v) == 0
	}
	if empty {
		return nil, nil
	}
	b, err := json.Marshal(v)
	if err != nil || string(b) == "{}" || string(b) == "null" {
		return nil, err
	}
	return string(b), nil
}
