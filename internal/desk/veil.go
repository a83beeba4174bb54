package desk

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
)

// veil says what somebody may be told of a bucket beside what is in it. Who acts in
// the account that owns it, with a role there and no limits, is told everything;
// somebody to whom a part was opened is not told of people, addresses and keys
// beyond it.
type veil struct {
	d      *Desk
	ctx    context.Context
	self   string // who asks, as records keep it
	inside bool
}

// veilOf gives the veil for an account's buckets.
func (d *Desk) veilOf(ctx context.Context, owner string) veil {
	s := who(ctx).subject
	return veil{d: d, ctx: ctx, self: s.By(), inside: s.Operator || s.Account == owner && s.Role != access.None &&
		len(s.Limits) == 0}
}

// veilFor gives the veil for a bucket.
func (d *Desk) veilFor(ctx context.Context, bucket object.BucketName) (veil, error) {
	owner, err := d.store.Owner(ctx, bucket)
	return d.veilOf(ctx, owner), err
}

// by gives who did something, if that may be told.
func (v veil) by(who string) string {
	if v.inside || who == v.self {
		return who
	}
	return ""
}

// from gives the address from which somebody did something, if that may be told.
func (v veil) from(who, source string) string {
	if v.inside || who == v.self {
		return source
	}
	return ""
}

// sees reports whether who asks may list or read an address.
func (v veil) sees(bucket, key string) bool {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return v.inside // a bucket that was removed
	}
	if owner, err := v.d.store.Owner(v.ctx, name); err != nil || v.inside && v.d.veilOf(v.ctx, owner).inside {
		return v.inside && err == nil
	}
	k, err := object.ParseKey(key)
	if err != nil {
		return false
	}
	a := catalog.Address{Bucket: name, Key: k}
	return v.d.may(v.ctx, access.Read, a) == nil || v.d.may(v.ctx, access.List, a) == nil
}

// detail gives the detail of a journal entry without ends that may not be told.
func (v veil) detail(bucket string, detail map[string]any) map[string]any {
	if v.inside && detail["from"] == nil && detail["to"] == nil {
		return detail
	}
	out := make(map[string]any, len(detail))
	for name, x := range detail {
		if end, ok := x.(map[string]any); ok && (name == "from" || name == "to") {
			at, _ := end["bucket"].(string)
			if at == "" {
				at = bucket
			}
			key, _ := end["key"].(string)
			if !v.sees(at, key) {
				continue
			}
		}
		out[name] = x
	}
	return out
}
