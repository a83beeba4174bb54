package middle

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
)

// Veil says what somebody may be told of a bucket beside what is in it. Who acts in
// the account that owns it, with a role there and no limits, is told everything;
// somebody to whom a part was opened is not told of people, addresses and keys
// beyond it.
type Veil struct {
	d      *Middle
	ctx    context.Context
	Self   string // who asks, as records keep it
	Inside bool
}

// VeilOf gives the veil for an account's buckets.
func (d *Middle) VeilOf(ctx context.Context, owner string) Veil {
	s := Who(ctx).Subject
	return Veil{d: d, ctx: ctx, Self: s.By(), Inside: s.Operator || s.Account == owner && s.Role != access.None &&
		len(s.Limits) == 0}
}

// VeilFor gives the veil for a bucket.
func (d *Middle) VeilFor(ctx context.Context, bucket object.BucketName) (Veil, error) {
	owner, err := d.Store.Owner(ctx, bucket)
	return d.VeilOf(ctx, owner), err
}

// By gives who did something, if that may be told.
func (v Veil) By(who string) string {
	if v.Inside || who == v.Self {
		return who
	}
	return ""
}

// From gives the address from which somebody did something, if that may be told.
func (v Veil) From(who, source string) string {
	if v.Inside || who == v.Self {
		return source
	}
	return ""
}

// Sees reports whether who asks may list or read an address.
func (v Veil) Sees(bucket, key string) bool {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return v.Inside // a bucket that was removed
	}
	if owner, err := v.d.Store.Owner(v.ctx, name); err != nil || v.Inside && v.d.VeilOf(v.ctx, owner).Inside {
		return v.Inside && err == nil
	}
	k, err := object.ParseKey(key)
	if err != nil {
		return false
	}
	a := catalog.Address{Bucket: name, Key: k}
	return v.d.May(v.ctx, access.Read, a) == nil || v.d.May(v.ctx, access.List, a) == nil
}

// Detail gives the detail of a journal entry without ends that may not be told.
func (v Veil) Detail(bucket string, detail map[string]any) map[string]any {
	if v.Inside && detail["from"] == nil && detail["to"] == nil {
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
			if !v.Sees(at, key) {
				continue
			}
		}
		out[name] = x
	}
	return out
}
