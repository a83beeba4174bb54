package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Upload is a multipart upload.
type Upload struct {
	Seq      int64
	ID       string
	Bucket   object.BucketName
	Key      object.Key
	Created  time.Time
	Who      string
	Source   string
	Headers  object.Headers
	Origin   string // what the object will be a replica of
	Metadata object.Metadata
	Tags     object.Tags
	Checksum digest.Kind
	PerPart  bool // the checksum is one of the parts' checksums
	Sealed   bool // its parts are encrypted at rest
	Tier     int16
	TierName string // asked for at its start; "": where the bucket says
	Open     bool
	Parts    int64     // that are there
	Bytes    int64     // that they hold
	Last     time.Time // when the last part came; zero before

	bucketID int64
	state    int16
	number   sql.NullInt64
}

// Part of an upload or of the object it became.
type Part struct {
	Number   int
	Size     int64
	MD5      [16]byte
	CRC64    uint64
	Checksum []byte
	Body     object.BodyRef
	At       time.Time
	Who      string
	Source   string
	Start    int64 // in the object
}

// perPart marks a checksum made of the parts' checksums, in the database.
const perPart = 100

type uploadRow struct {
	Seq          int64         `db:"seq"`
	ID           string        `db:"id"`
	BucketID     int64         `db:"bucket"`
	Bucket       string        `db:"name"`
	Key          []byte        `db:"key"`
	Created      time.Time     `db:"created"`
	Who          string        `db:"who"`
	Source       string        `db:"source"`
	ContentType  string        `db:"content_type"`
	Headers      []byte        `db:"headers"`
	Metadata     []byte        `db:"metadata"`
	Tags         []byte        `db:"tags"`
	ChecksumKind int16         `db:"checksum_kind"`
	Sealed       bool          `db:"sealed"`
	Tier         int16         `db:"tier"`
	State        int16         `db:"state"`
	Number       sql.NullInt64 `db:"number"`
	Parts        int64         `db:"parts"`
	Bytes        int64         `db:"bytes"`
	Last         sql.NullTime  `db:"last"`
}

func (r *uploadRow) upload() (*Upload, error) {
	u := &Upload{Seq: r.Seq, ID: r.ID, Created: r.Created.UTC(), Who: r.Who, Source: r.Source,
		Checksum: digest.Kind(r.ChecksumKind % perPart), PerPart: r.ChecksumKind >= perPart, Sealed: r.Sealed, Tier: r.Tier,
		Open: r.State == uploadOpen, Parts: r.Parts, Bytes: r.Bytes, bucketID: r.BucketID, state: r.State, number: r.Number}
	var err error
	if u.Bucket, err = object.ParseBucketName(r.Bucket); err != nil {
		return nil, err
	}
	if u.Key, err = object.ParseKey(string(r.Key)); err != nil {
		return nil, err
	}
	var kept keptHeaders
	for from, into := range map[*[]byte]any{&r.Headers: &kept, &r.Metadata: &u.Metadata, &r.Tags: &u.Tags} {
		if *from != nil {
			if err := json.Unmarshal(*from, into); err != nil {
				return nil, err
			}
		}
	}
	u.Headers, u.Origin = kept.Headers, kept.Origin
	u.Headers.ContentType = r.ContentType
	if r.Last.Valid {
		u.Last = r.Last.Time.UTC()
	}
	return u, nil
}

const uploadColumns = `u.seq, u.id, u.bucket, b.name, u.key, u.created, u.who, u.source, u.content_type, u.headers,
	u.metadata, u.tags, u.checksum_kind, u.sealed, u.tier, u.state, u.number`

// UploadMissing is the error for an upload that is not there.
func UploadMissing() error {
	return fault.New(fault.NotFound, "upload-missing",
		"there is no such upload of this key; it may have been completed or abandoned").In("upload").
		Do("list the uploads, or start a new one")
}

// CreateUpload records an upload that begins. u has bucket, key, headers,
// metadata, tags and checksum; ID, Who, Source and Created are set by the caller.
func (c *Catalog) CreateUpload(ctx context.Context, bucket int64, u *Upload) error {
	var docs [3]any
	for i, of := range [...]any{keptHeaders{Headers: u.Headers, Origin: u.Origin}, u.Metadata, u.Tags} {
		var err error
		if docs[i], err = documentOrNull(of); err != nil {
			return err
		}
	}
	kind := int16(u.Checksum)
	if u.PerPart {
		kind += perPart
	}
	_, err := c.db.ExecContext(ctx, `insert into uploads (id, bucket, key, created, who, source, content_type, headers,
		metadata, tags, checksum_kind, sealed, tier)
		values ($1, $2, $3, $4, $5, $6, $7, $8::jsonb, $9::jsonb, $10::jsonb, $11, $12, $13)`, u.ID, bucket,
		[]byte(u.Key.String()), u.Created, u.Who, u.Source, u.Headers.ContentType, docs[0], docs[1], docs[2], kind, u.Sealed,
		u.Tier)
	return mapError(err)
}

// Upload gives an open upload of a key. The error for none has the code
// upload-missing.
func (c *Catalog) Upload(ctx context.Context, bucket int64, key object.Key, id string) (*Upload, error) {
	var r uploadRow
	err := c.db.GetContext(ctx, &r, `select `+uploadColumns+named(`, 0 as parts, 0 as bytes, null::timestamptz as last
		from uploads u join buckets b on b.id = u.bucket
		where u.id = $1 and u.bucket = $2 and u.key = $3 and u.state = @UploadOpen`), id, bucket, []byte(key.String()))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, UploadMissing()
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.upload()
}

// CheckUpload refuses an upload that is neither open nor was completed lately, with
// the code upload-missing.
func (c *Catalog) CheckUpload(ctx context.Context, bucket int64, key object.Key, id string) error {
	var there bool
	err := c.db.GetContext(ctx, &there,
		named(`select exists (select 1 from uploads where id = $1 and bucket = $2 and key = $3
			and state <> @UploadAbandoned)`), id, bucket, []byte(key.String()))
	if err == nil && !there {
		return UploadMissing()
	}
	return mapError(err)
}

// PutPart keeps a part of an open upload in place of the one before. The error
// for no upload has the code upload-missing.
func (c *Catalog) PutPart(ctx context.Context, bucket int64, key object.Key, id string, p Part) error {
	var seq sql.NullInt64
	err := c.db.GetContext(ctx, &seq, `select put_part($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`, id,
		bucket, []byte(key.String()), p.Number, p.Size, p.MD5[:], int64(p.CRC64), p.Checksum,
		p.Body.Tier, p.Body.File, p.Body.Offset, p.At, p.Who, p.Source)
	if err == nil && !seq.Valid {
		return UploadMissing()
	}
	return mapError(err)
}

type partRow struct {
	Number     int           `db:"number"`
	Size       int64         `db:"size"`
	MD5        []byte        `db:"md5"`
	CRC64      int64         `db:"crc64"`
	Checksum   []byte        `db:"checksum"`
	Tier       int16         `db:"tier"`
	BodyFile   int64         `db:"body_file"`
	BodyOffset int64         `db:"body_offset"`
	At         time.Time     `db:"at"`
	Who        string        `db:"who"`
	Source     string        `db:"source"`
	Start      sql.NullInt64 `db:"start"`
}

const partColumns = `number, size, md5, crc64, checksum, tier, body_file, body_offset, at, who, source, start`

func (r *partRow) part() Part {
	p := Part{Number: r.Number, Size: r.Size, CRC64: uint64(r.CRC64), Checksum: r.Checksum,
		Body: object.BodyRef{Tier: r.Tier, File: r.BodyFile, Offset: r.BodyOffset},
		At:   r.At.UTC(), Who: r.Who, Source: r.Source, Start: r.Start.Int64}
	copy(p.MD5[:], r.MD5)
	return p
}

func parts(rows []partRow) []Part {
	out := make([]Part, len(rows))
	for i := range rows {
		out[i] = rows[i].part()
	}
	return out
}

// Parts gives parts of an upload after a number.
func (c *Catalog) Parts(ctx context.Context, seq int64, after, limit int) ([]Part, error) {
	var rows []partRow
	err := c.db.SelectContext(ctx, &rows,
		`select `+partColumns+` from parts where upload = $1 and number > $2 order by number limit $3`, seq, after, limit)
	return parts(rows), mapError(err)
}

// Pieces gives those parts of an object that lie in a range of its bytes.
func (c *Catalog) Pieces(ctx context.Context, seq, from, length int64) ([]Part, error) {
	var rows []partRow
	err := c.db.SelectContext(ctx, &rows,
		`select `+partColumns+` from parts where upload = $1 and start < $3 and start + size > $2 order by number`, seq, from,
		from+length)
	return parts(rows), mapError(err)
}

// UploadList asks for unfinished uploads.
type UploadList struct {
	Bucket   int64  // 0: all buckets, by age
	Only     int64  // by age, but of this bucket alone
	Account  string // of buckets of this account; "": all
	Prefix   string
	AfterKey string // with Bucket: by key, then by age
	AfterSeq int64  // of AfterKey, or in all buckets: begin after this one; 0 with AfterKey: with the next key
	Before   time.Time
	Max      int
}

// Uploads gives a page of unfinished uploads with what they hold.
func (c *Catalog) Uploads(ctx context.Context, l UploadList) ([]*Upload, error) {
	q := where().and(`u.state = @UploadOpen`).beneath("u.key", l.Prefix).
		when(!l.Before.IsZero(), `u.created < ?`, l.Before).
		when(l.Account != "", `u.bucket in (select k.id from buckets k join accounts a on a.id = k.account where a.name = ?)`,
			l.Account)
	if in := max(l.Bucket, l.Only); in != 0 {
		q.and(`u.bucket = ?`, in)
	}
	order := "u.seq"
	switch {
	case l.Bucket == 0:
		q.and(`u.seq > ?`, l.AfterSeq)
	case l.AfterSeq > 0:
		order = "u.key, u.seq"
		q.and(`(u.key, u.seq) > (?, ?)`, []byte(l.AfterKey), l.AfterSeq)
	default:
		order = "u.key, u.seq"
		q.and(`u.key > ?`, []byte(l.AfterKey))
	}
	var rows []uploadRow
	err := c.db.SelectContext(ctx, &rows, `select `+uploadColumns+`, p.parts, p.bytes, p.last from (
		select u.* from uploads u where `+q.String()+` order by `+order+` limit `+q.arg(l.Max)+`) u
		join buckets b on b.id = u.bucket and b.removed is null
		cross join lateral (select count(*) as parts, coalesce(sum(size), 0)::bigint as bytes, max(at) as last from parts
			where upload = u.seq) p
		order by `+order, q.args...)
	if err != nil {
		return nil, mapError(err)
	}
	out := make([]*Upload, len(rows))
	for i := range rows {
		if out[i], err = rows[i].upload(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Unfinished is what unfinished uploads hold.
type Unfinished struct {
	Uploads int64     `db:"uploads"`
	Bytes   int64     `db:"bytes"`
	Oldest  time.Time `db:"oldest"`
}

// UnfinishedIn sums up the unfinished uploads of a bucket, or (0) of all.
func (c *Catalog) UnfinishedIn(ctx context.Context, bucket int64, account string) (Unfinished, error) {
	var r struct {
		Uploads int64        `db:"uploads"`
		Bytes   int64        `db:"bytes"`
		Oldest  sql.NullTime `db:"oldest"`
	}
	q := where().and(`u.state = @UploadOpen`).when(bucket != 0, `u.bucket = ?`, bucket).
		when(account != "", `a.name = ?`, account)
	err := c.db.GetContext(ctx, &r, `select count(*) as uploads, coalesce(sum(p.bytes), 0)::bigint as bytes,
		min(u.created) as oldest
		from uploads u join buckets b on b.id = u.bucket and b.removed is null join accounts a on a.id = b.account
		cross join lateral (select sum(size) as bytes from parts where upload = u.seq) p where `+q.String(), q.args...)
	u := Unfinished{Uploads: r.Uploads, Bytes: r.Bytes}
	if r.Oldest.Valid {
		u.Oldest = r.Oldest.Time.UTC()
	}
	return u, mapError(err)
}

// Abandon ends an unfinished upload; its bytes are collected. The error for none
// has the code upload-missing.
func (c *Catalog) Abandon(ctx context.Context, bucket int64, key object.Key, id string) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var seq int64
		err := tx.GetContext(ctx, &seq,
			named(`update uploads set state = @UploadAbandoned, ended = now() where id = $1 and bucket = $2 and key = $3
				and state = @UploadOpen returning seq`), id, bucket, []byte(key.String()))
		if errors.Is(err, sql.ErrNoRows) {
			return UploadMissing()
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, `select drop_parts($1, false)`, seq)
		}
		return err
	})
}

// ForgetUploads forgets uploads that ended a day ago or earlier: completing them again
// gets the same answer no more.
func (c *Catalog) ForgetUploads(ctx context.Context, now time.Time) error {
	_, err := c.db.ExecContext(ctx,
		named(`delete from uploads where state <> @UploadOpen and ended < $1::timestamptz - interval '1 day'`), now)
	return mapError(err)
}

// Completing asks to make an object of an upload.
type Completing struct {
	Bucket int64
	Key    object.Key
	ID     string
	// Assemble gets the upload and its parts by number and gives the version to
	// write, without body, and the numbers of the parts it consists of, in order.
	Assemble func(*Upload, []Part) (*object.Version, []int, error)
	Change   Change // conditions, time and author
}

// Complete makes an object of an upload in one transaction; the parts become its
// body. Said again after it was done it gives the same version, if that is still
// there. The errors are those of Assemble and Commit, and upload-missing.
func (c *Catalog) Complete(ctx context.Context, q Completing) (v *object.Version, res Result, err error) {
	err = retry(ctx, func(int) error {
		v, res, err = c.complete(ctx, q)
		return err
	})
	return v, res, err
}

func (c *Catalog) complete(ctx context.Context, q Completing) (v *object.Version, res Result, err error) {
	var done *Upload
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var r uploadRow
		err := tx.GetContext(ctx, &r, `select `+uploadColumns+named(`, 0 as parts, 0 as bytes, null::timestamptz as last
			from uploads u join buckets b on b.id = u.bucket
			where u.id = $1 and u.bucket = $2 and u.key = $3
				and u.state <> @UploadAbandoned for update of u`), q.ID, q.Bucket, []byte(q.Key.String()))
		if errors.Is(err, sql.ErrNoRows) {
			return UploadMissing()
		}
		if err != nil {
			return err
		}
		u, err := r.upload()
		if err != nil {
			return err
		}
		if !u.Open {
			done = u
			return nil
		}
		var rows []partRow
		if err := tx.SelectContext(ctx, &rows, `select `+partColumns+` from parts where upload = $1 order by number`,
			u.Seq); err != nil {
			return err
		}
		all := parts(rows)
		var numbers []int
		if v, numbers, err = q.Assemble(u, all); err != nil {
			return err
		}
		starts := make([]int64, len(numbers))
		var at int64
		for i, n := range numbers {
			starts[i] = at
			k, _ := slices.BinarySearchFunc(all, n, func(p Part, n int) int { return p.Number - n })
			at += all[k].Size
		}
		if _, err := tx.ExecContext(ctx,
			`update parts p set start = x.start from unnest($2::integer[], $3::bigint[]) x(number, start) where p.upload = $1
				and p.number = x.number`, u.Seq, numbers, starts); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `select drop_parts($1, true)`, u.Seq); err != nil {
			return err
		}
		v.Size, v.Body = at, object.BodyRef{Tier: u.Tier, File: -u.Seq}
		ch := q.Change
		ch.Version = v
		rs, err := commitOn(ctx, inside(tx), []Change{ch}, true)
		if err != nil {
			return err
		}
		if res = rs[0]; res.err() != nil {
			return res.err()
		}
		_, err = tx.ExecContext(ctx,
			named(`update uploads set state = @UploadCompleted, ended = now(), number = $2 where seq = $1`), u.Seq, res.Number)
		return err
	})
	if err != nil || done == nil {
		return v, res, err
	}
	v, err = c.FindVersion(ctx, q.Bucket, q.Key, object.VersionID(done.number.Int64))
	if fault.HasCode(err, "version-missing") {
		return nil, res, UploadMissing()
	}
	if err == nil {
		res = Result{Number: v.Number, Revision: v.Revision}
		if !v.Plain {
			res.Versioning = object.On
		}
	}
	return v, res, err
}

// ReleaseParts lets go of the parts of those objects, by their bodies' files,
// that no version refers to any more.
func (c *Catalog) ReleaseParts(ctx context.Context, files []int64) error {
	_, err := c.db.ExecContext(ctx, named(`with free as (select -f as upload from unnest($1::bigint[]) f where f < 0
			and not exists (select 1 from heads where body_file = f and body_file <> 0) and not exists (select 1 from history
				where body_file = f and body_file <> 0)
			and not exists (select 1 from uploads where seq = -f and state = @UploadOpen)),
		forgotten as (delete from sums where upload in (select upload from free))
		select drop_parts(upload, false) from free`), files)
	return mapError(err)
}

// Unsummed gives versions that came in parts and have no SHA-256 of the whole yet; none
// whose bytes are at an endpoint, which would be paid for.
func (c *Catalog) Unsummed(ctx context.Context, limit int) ([]Stored, error) {
	var rows []headRow
	if err := c.db.SelectContext(ctx, &rows, `select `+keyedColumns+` from heads h where body_file < 0 and body_file <> 0
		and not exists (select 1 from sums s where s.upload = -h.body_file)
		and not exists (select 1 from volumes v where v.tier = h.tier and v.endpoint is not null)
		order by body_file desc limit $1`, limit); err != nil {
		return nil, mapError(err)
	}
	out := make([]Stored, len(rows))
	for i := range rows {
		e, err := entryOf(&rows[i])
		if err != nil {
			return nil, err
		}
		out[i] = Stored{Bucket: rows[i].Bucket.Int64, Version: e.Version}
	}
	return out, nil
}

// SaveSum keeps the SHA-256 of an object that came in parts.
func (c *Catalog) SaveSum(ctx context.Context, body object.BodyRef, sha256 []byte) error {
	_, err := c.db.ExecContext(ctx, `insert into sums (upload, sha256) values ($1, $2) on conflict do nothing`, -body.File,
		sha256)
	return mapError(err)
}

// Sum gives the SHA-256 of an object that came in parts; nil when it is not
// worked out yet.
func (c *Catalog) Sum(ctx context.Context, body object.BodyRef) ([]byte, error) {
	var sum []byte
	err := c.db.GetContext(ctx, &sum, `select sha256 from sums where upload = $1`, -body.File)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return sum, mapError(err)
}
