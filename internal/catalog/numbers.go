package catalog

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/object"
)

// Advisory locks of the database, by their first number; the second tells what of
// that kind is locked.
const (
	schemaLock    = 7301 // alone while the schema is brought up to date
	startLock     = 7303 // alone while a process makes what the first one makes
	bucketLock    = 7302 // a bucket: shared by commits, alone by changes of its settings
	partitionLock = 7305 // the making of the journal's parts
	accessLock    = 7306 // changes of who may do what, by which of the following
)

// What accessLock keeps: that there stays, or is no more than, ...
const (
	operatorsLock = 1 // somebody who operates
	bodyKeysLock  = 2 // one current body key
	namesLock     = 3 // one key or person of a name
)

// States of an upload.
const (
	uploadOpen = iota
	uploadCompleted
	uploadAbandoned
)

// commitStatus is what commit_changes answers for a change.
type commitStatus int16

const (
	statusDone commitStatus = iota
	statusBucketGone
	statusExists
	statusMismatch
	statusAbsent
	statusOverQuota
	statusNoVersion
	statusIsMarker
	statusOtherRevision
	statusOtherVersion
	statusRetained
)

// numbers are what the names in statements stand for.
var numbers = map[string]string{
	"ObjectRemoved": digits(ObjectRemoved), "ObjectDeleted": digits(ObjectDeleted),
	"ObjectRenamedAway": digits(ObjectRenamedAway),
	"VersionRemoved":    digits(VersionRemoved), "ObjectAnnotated": digits(ObjectAnnotated),
	"VersionMoved": digits(VersionMoved),
	"Writes":       digits(ObjectWritten, ObjectRestored, ObjectRenamed, ObjectCopied),
	"Removes":      digits(ObjectRemoved, ObjectDeleted, ObjectRenamedAway),

	"Off": digits(object.Off), "On": digits(object.On), "Paused": digits(object.Paused),
	"CurrentVersion": digits(object.Current), "PlainVersion": digits(object.Plain),

	"ChangeColumns": `kind, bucket, key, "number", revision, if_absent, if_md5, if_parts, at, size, md5, parts, crc64,
		checksum_kind, checksum, tier, body_file, body_offset, content_type, headers, metadata, tags, who, source, detail`,

	"Done": digits(statusDone), "BucketGone": digits(statusBucketGone), "Exists": digits(statusExists),
	"Mismatch": digits(statusMismatch), "Absent": digits(statusAbsent), "OverQuota": digits(statusOverQuota),
	"NoVersion": digits(statusNoVersion), "IsMarker": digits(statusIsMarker), "OtherRevision": digits(statusOtherRevision),
	"OtherVersion": digits(statusOtherVersion), "Retained": digits(statusRetained),

	"UploadOpen": digits(uploadOpen), "UploadCompleted": digits(uploadCompleted),
	"UploadAbandoned": digits(uploadAbandoned),

	"ToAccount": digits(access.ToAccount), "ToPerson": digits(access.ToPerson), "ToKey": digits(access.ToKey),

	"BucketLock": digits(bucketLock), "PartitionLock": digits(partitionLock),
}

var numberNamed = regexp.MustCompile(`@[A-Z]\w*`)

// named puts numbers for the names in a statement: @ObjectRemoved is 2. A name that
// nothing has is a mistake in the statement, and panics.
func named(statement string) string {
	return numberNamed.ReplaceAllStringFunc(statement, func(name string) string {
		s, ok := numbers[name[1:]]
		if !ok {
			panic("catalog: nothing is named " + name)
		}
		return s
	})
}

// digits writes numbers as a list for a statement.
func digits[T ~int | ~int16 | ~int64 | ~uint8](of ...T) string {
	s := make([]string, len(of))
	for i, n := range of {
		s[i] = strconv.FormatInt(int64(n), 10)
	}
	return strings.Join(s, ", ")
}

// lockAlone holds an advisory lock until the transaction ends.
func lockAlone(ctx context.Context, tx *sqlx.Tx, kind, what int64) error {
	_, err := tx.ExecContext(ctx, `select pg_advisory_xact_lock($1, ($2::bigint % 2147483647)::int)`, kind, what)
	return err
}
