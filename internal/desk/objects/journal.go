package objects

import (
	"context"
	"fmt"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

// JournalLines shows entries as the veil of each one's bucket lets them be seen.
func (d *Desk) JournalLines(ctx context.Context, entries []catalog.JournalEntry) []api.JournalLine {
	out := make([]api.JournalLine, len(entries))
	veils := map[string]middle.Veil{}
	for i, e := range entries {
		v, known := veils[e.Bucket]
		if !known {
			v = d.VeilOf(ctx, "")
			if name, err := object.ParseBucketName(e.Bucket); err == nil {
				if w, err := d.VeilFor(ctx, name); err == nil {
					v = w
				}
			}
			veils[e.Bucket] = v
		}
		e.Detail = v.Detail(e.Bucket, e.Detail)
		out[i] = api.JournalLine{Position: e.Position(), At: e.At, Kind: e.Kind.String(), Bucket: e.Bucket, Key: e.Key,
			Number: e.Number, Size: e.Size, Who: v.By(e.Who), Source: v.From(e.Who, e.Source),
			Detail: e.Detail, Says: says(e)}
	}
	return out
}

// byRule names the rule that had something done, if one had.
func byRule(e catalog.JournalEntry) string {
	if e.Detail["rule"] == nil {
		return ""
	}
	return fmt.Sprintf(" by rule %v, run %v", e.Detail["rule"], e.Detail["run"])
}

// says puts the detail of an entry into words.
func says(e catalog.JournalEntry) string {
	end := func(name string) string {
		m, _ := e.Detail[name].(map[string]any)
		key, _ := m["key"].(string)
		bucket, _ := m["bucket"].(string)
		if bucket != "" && bucket != e.Bucket {
			key = bucket + "/" + key
		}
		return key
	}
	switch e.Kind {
	case catalog.ObjectRenamed, catalog.ObjectCopied:
		if e.Detail["from"] == nil {
			return "from elsewhere"
		}
		return "from " + end("from")
	case catalog.ObjectRenamedAway:
		if e.Detail["to"] == nil {
			return "to elsewhere"
		}
		return "to " + end("to")
	case catalog.ObjectRestored:
		m, _ := e.Detail["from"].(map[string]any)
		return fmt.Sprintf("from version %v", m["version"])
	case catalog.ObjectAnnotated:
		return fmt.Sprintf("revision %v", e.Detail["revision"])
	case catalog.VersionRemoved:
		if e.Detail["marker"] == true {
			return "a delete marker"
		}
		return "version " + object.VersionID(e.Number).String() + byRule(e)
	case catalog.VersionMoved:
		return fmt.Sprintf("to %v%s", e.Detail["to"], byRule(e))
	case catalog.CopyAsked:
		if days := fmt.Sprint(e.Detail["days"]); days != "1" {
			return "for " + days + " days"
		}
		return "for 1 day"
	case catalog.CopyMended:
		return fmt.Sprintf("%v: %v", e.Detail["copies"], e.Detail["problem"])
	case catalog.BucketChanged:
		if what, ok := e.Detail["lifecycle"]; ok {
			return fmt.Sprintf("lifecycle: %v", what)
		}
		return bucket.Says(e.Detail)
	case catalog.DamageFound:
		return fmt.Sprint(e.Detail["problem"])
	}
	return ""
}

func (d *Desk) journalCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-journal", "GET /journal", "journal",
		"Changes, latest first, or in order after a position", d.listJournal)
	middle.Call(to, middle.Rule{Do: access.Settings, On: middle.OnWhole}, "bucket-journal", "GET /buckets/{bucket}/journal", "journal",
		"Say how the journal of a bucket is kept, and what it occupies", d.bucketJournal)
	middle.Call(to, middle.Rule{Admin: true}, "list-saved-filters", "GET /journal/saved", "journal",
		"List the filters of the journal that the account keeps", d.savedFilters)
	middle.Call(to, middle.Rule{Admin: true}, "save-filter", "PUT /journal/saved/{name}", "journal",
		"Keep a filter of the journal under a name",
		d.saveFilter, middle.Answers(204))
	middle.Call(to, middle.Rule{Admin: true}, "forget-filter", "DELETE /journal/saved/{name}", "journal",
		"Forget a filter of the journal",
		d.forgetSaved(catalog.SavedJournal), middle.Answers(204))
}

// mayFilter refuses to look for what somebody did to who may not be told who did it.
func (d *Desk) mayFilter(ctx context.Context, bucket, by string) error {
	if by == "" || bucket == "" {
		return nil
	}
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return err
	}
	v, err := d.VeilFor(ctx, name)
	if fault.HasCode(err, "bucket-missing") || err == nil && (v.Inside || v.Self == by) {
		return nil
	}
	if err != nil {
		return err
	}
	return d.Refused(ctx, bucket, "look for what somebody did", "who did what in "+bucket+" is the affair of its owner",
		"look without a name")
}

func (d *Desk) listJournal(ctx context.Context, in *struct {
	Bucket string   `query:"bucket" maxLength:"64"`
	Prefix string   `query:"prefix" maxLength:"1024" doc:"Of keys"`
	Kind   []string `query:"kind,explode" doc:"One or more kinds"`
	Who    string   `query:"who" maxLength:"128" doc:"A key by its id or name, or a person"`
	Since  string   `query:"since" maxLength:"64" doc:"RFC 3339"`
	Until  string   `query:"until" maxLength:"64" doc:"RFC 3339"`
	Before string   `query:"before" maxLength:"64" doc:"A position: older entries, latest first"`
	After  string   `query:"after" maxLength:"64" doc:"A position: younger entries, in order; 0.0 is the beginning"`
	Limit  int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*struct{ Body api.JournalPage }, error) {
	q := catalog.JournalQuery{Before: in.Before, After: in.After, Bucket: in.Bucket, Prefix: in.Prefix, Who: in.Who,
		Present: !middle.Who(ctx).Subject.Operator, Limit: in.Limit}
	if err := object.CheckText("prefix", in.Prefix); err != nil {
		return nil, err
	}
	for _, name := range in.Kind {
		k, err := catalog.ParseEntryKind(name)
		if err != nil {
			return nil, err
		}
		q.Kinds = append(q.Kinds, k)
	}
	var err error
	for s, into := range map[*string]*time.Time{&in.Since: &q.Since, &in.Until: &q.Until} {
		if *s != "" {
			if *into, err = middle.Moment(*s); err != nil {
				return nil, err
			}
		}
	}
	if q.Account, err = d.JournalOf(ctx, in.Bucket, in.Prefix); err != nil {
		return nil, err
	}
	if err := d.mayFilter(ctx, in.Bucket, in.Who); err != nil {
		return nil, err
	}
	if q.Who, err = d.access.WhoNamed(ctx, in.Who); err != nil {
		return nil, err
	}
	p, err := d.Store.Catalog.Journal(ctx, q)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.JournalPage }{api.JournalPage{Entries: d.JournalLines(ctx, p.Entries), Next: p.Next,
		CompleteUpTo: p.UpTo}}, nil
}
