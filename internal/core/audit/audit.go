package audit

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"time"
)

// Grade says how much a finding matters.
type Grade string

// The grades.
const (
	Serious Grade = "serious" // data may be lost, or is open
	Worth   Grade = "worth a look"
)

// Finding is something that somebody should know of.
type Finding struct {
	Check   string `json:"check"` // stable, for programs
	Subject string `json:"subject"`
	Grade   Grade  `json:"grade"`
	Says    string `json:"says"` // what is so
	Why     string `json:"why"`  // it matters
	Cost    int64  `json:"cost"` // bytes that it holds, 0 for none
	Fix     string `json:"fix"`  // a command
	Page    string `json:"page"` // of the console

	Mending *Mending `json:"mending,omitempty"` // nil: it takes more than one call
}

// Mending is one call of the desk that mends what was found.
type Mending struct {
	Does   string         `json:"does"` // what it does, and whether it can be taken back
	Method string         `json:"method"`
	Path   string         `json:"path"`
	Body   map[string]any `json:"body,omitempty"`
}

// Bounds of the checks.
const (
	Unused       = 90 * 24 * time.Hour // a key
	Old          = 7 * 24 * time.Hour  // an unfinished upload
	Fresh        = 48 * time.Hour      // what is newer is let be
	VerifyWithin = 30 * 24 * time.Hour
	RestoreSoon  = 90 * 24 * time.Hour // a copy that was never brought back
	LateAfter    = time.Hour
	NearQuota    = 0.9
	NearFull     = 0.9 // of a disk
	FullSoon     = 30 * 24 * time.Hour
	LeastBytes   = 1 << 20 // of previous versions, to be told of
)

// Look gives what the checks find, what is serious first.
func Look(f *Facts) []Finding {
	l := &looking{f: f}
	for i := range f.Buckets {
		l.bucket(&f.Buckets[i])
	}
	for i := range f.Keys {
		l.key(&f.Keys[i])
	}
	for _, g := range f.Grants {
		l.add(Serious, "open-to-anyone", g.Bucket+"/"+g.Prefix, fmt.Sprintf("open to anyone: %s", g.Rights),
			"whoever knows the address needs no key", 0, fmt.Sprintf("spindle access grant remove %d", g.ID),
			"/access/grants?bucket="+g.Bucket)
		l.mends("The grant goes: nobody reads or lists there without a key any more.", "DELETE", nil, "grants",
			fmt.Sprint(g.ID))
	}
	for i := range f.Endpoints {
		l.endpoint(&f.Endpoints[i])
	}
	for i := range f.Targets {
		l.target(&f.Targets[i])
	}
	for i := range f.Jobs {
		l.job(&f.Jobs[i])
	}
	l.rest()
	slices.SortStableFunc(l.out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Grade, b.Grade), cmp.Compare(a.Check, b.Check), cmp.Compare(b.Cost, a.Cost),
			cmp.Compare(a.Subject, b.Subject))
	})
	return l.out
}

type looking struct {
	f   *Facts
	out []Finding
}

func (l *looking) add(g Grade, check, subject, says, why string, cost int64, fix, page string) {
	l.out = append(l.out, Finding{Check: check, Subject: subject, Grade: g, Says: says, Why: why, Cost: cost, Fix: fix,
		Page: page})
}

// mends says what call mends what was found last.
func (l *looking) mends(does, method string, body map[string]any, path ...string) {
	p := ""
	for _, s := range path {
		p += "/" + url.PathEscape(s)
	}
	l.out[len(l.out)-1].Mending = &Mending{Does: does, Method: method, Path: p, Body: body}
}

// removal is an action of a lifecycle rule.
func removal(of string, days, keep int) map[string]any {
	a := map[string]any{"of": of, "do": "remove", "days": days}
	if keep > 0 {
		a["keep"] = keep
	}
	return a
}

// adds says that a lifecycle rule mends what was found last.
func (l *looking) adds(does, bucket, rule string, action map[string]any) {
	l.mends(does+" It begins in ten minutes; till then it can be put back.", "PUT", map[string]any{"new": true,
		"rule": map[string]any{"name": rule, "actions": []any{action}}}, "buckets", bucket, "lifecycle", "rules", rule)
}

func (l *looking) since(at time.Time) time.Duration { return l.f.Now.Sub(at) }

func days(d time.Duration) int { return int(d / (24 * time.Hour)) }

func (l *looking) bucket(b *Bucket) {
	page := "/buckets/" + b.Name + "/settings"
	if b.Versioning != "on" && b.Objects > 0 && !b.Copied {
		l.add(Serious, "no-versioning", b.Name, "keeps no versions, and nothing copies it elsewhere",
			"what is overwritten or removed by mistake is gone", 0, "spindle bucket change "+b.Name+" --versioning on", page)
		l.mends("From now on what is replaced or removed stays as a previous version, and takes room. What is there stays as it is.",
			"PATCH", map[string]any{"versioning": "on"}, "buckets", b.Name)
	}
	if b.Versioning == "on" && !b.CleansUp && b.PreviousBytes >= LeastBytes {
		l.add(Worth, "no-clean-up", b.Name, fmt.Sprintf("%d previous versions, and no rule ever removes or moves them",
			b.Previous),
			"they are kept and paid for without end", b.PreviousBytes,
			"spindle lifecycle add "+b.Name+" earlier --previous-remove 365 --keep 2", "/buckets/"+b.Name+"/lifecycle")
		l.adds("A rule removes previous versions for good a year after they were replaced, but leaves the 2 newest of each key.",
			b.Name, "earlier", removal("previous", 365, 2))
	}
	if b.PreviousBytes > b.Bytes && b.PreviousBytes >= LeastBytes {
		l.add(Worth, "previous-over-current", b.Name, "previous versions take more than what is current",
			"something writes the same keys again and again", b.PreviousBytes, "spindle bucket show "+b.Name,
			"/buckets/"+b.Name+"/usage")
	}
	if b.Unfinished > 0 && !b.Abandons {
		l.add(Worth, "unfinished-uploads", b.Name, fmt.Sprintf("%d uploads were begun more than 7 days ago and did not end",
			b.Unfinished),
			"no listing shows what they hold", b.Held, "spindle upload abandon --older-than 7d --bucket "+b.Name, "/uploads")
		l.adds("A rule abandons uploads that were begun more than 7 days ago: what they hold is released.", b.Name,
			"unfinished-uploads", removal("uploads", 7, 0))
	}
	if b.Lacking > 0 {
		least := ""
		if b.LackingMore {
			least = "at least "
		}
		l.add(Worth, "lacks-metadata", b.Name, fmt.Sprintf("%s%d objects lack metadata that the bucket asks for", least,
			b.Lacking),
			"nobody finds them by it", 0, "spindle bucket field check "+b.Name, page)
	}
	if b.Quota != nil && float64(b.Bytes+b.PreviousBytes) >= NearQuota*float64(*b.Quota) {
		l.add(Serious, "near-quota", b.Name, fmt.Sprintf("%.0f %% of its quota is used",
			100*float64(b.Bytes+b.PreviousBytes)/float64(*b.Quota)), "soon nothing more can be written", 0,
			"spindle bucket change "+b.Name+" --quota SIZE", page)
	}
}

func (l *looking) key(k *Key) {
	name := k.ID
	used := k.Created
	if k.Used != nil {
		used = *k.Used
	}
	off := "spindle access key change " + k.ID + " --active off"
	if l.since(used) > Unused {
		l.add(Worth, "key-unused", name, fmt.Sprintf("%s was not used for %d days", cmp.Or(k.Name, k.ID),
			days(l.since(used))),
			"a key that nobody needs opens all the same", 0, off, "/access/keys")
		l.mends("The key is switched off: who signs with it is refused. It can be switched on again.", "PATCH",
			map[string]any{"active": false}, "keys", k.ID)
	}
	switch reaches := k.Operator || k.Role == "administrator"; {
	case reaches && !k.Limited && k.Expires == nil && l.since(k.Created) > Fresh:
		l.add(Worth, "key-reaches-far", name, fmt.Sprintf("%s may do everything, everywhere, without end",
			cmp.Or(k.Name, k.ID)),
			"whoever gets hold of it has all there is", 0, "spindle access key change "+k.ID+" --expires 90d", "/access/keys")
		l.mends("The key works for another 90 days; you can change that until then.", "PATCH",
			map[string]any{"expires": "90d"}, "keys", k.ID)
	case k.Expires == nil && l.since(k.Created) > Fresh:
		l.add(Worth, "key-without-end", name, fmt.Sprintf("%s never expires", cmp.Or(k.Name, k.ID)),
			"what was lost long ago still opens", 0, "spindle access key change "+k.ID+" --expires 365d", "/access/keys")
		l.mends("The key works for another year; you can change that until then.", "PATCH",
			map[string]any{"expires": "365d"}, "keys", k.ID)
	}
}

func (l *looking) endpoint(e *Endpoint) {
	fix, page := "spindle endpoint check "+e.Name, "/endpoints"
	switch {
	case e.Checked == nil || l.since(*e.Checked) > 24*time.Hour:
		l.add(Worth, "endpoint-unchecked", e.Name, "was not checked for a day", "nobody would notice that it is away", 0, fix,
			page)
		l.mends("The endpoint is checked now; nothing is written there.", "POST", map[string]any{}, "endpoints", e.Name,
			"check")
	case e.State != "healthy" && e.State != "slow":
		l.add(Serious, "endpoint-fails", e.Name, "is "+e.State+": "+e.Says,
			"what is copied there waits, what is there cannot be read",
			0, fix, page)
	}
}

func (l *looking) target(t *Target) {
	subject := t.Rule + " to " + t.Address
	page := "/replication/" + t.Rule
	switch {
	case !t.On:
		l.add(Worth, "rule-off", subject, "the rule is paused", "nothing is copied: what changes waits", 0,
			"spindle replication change "+t.Rule+" --state on", page)
		l.mends("The rule copies again, what changed meanwhile too.", "PATCH", map[string]any{"on": true}, "replications",
			t.Rule)
		return
	case t.Failed > 0:
		l.add(Serious, "copies-fail", subject, fmt.Sprintf("%d objects failed and wait", t.Failed),
			"they have no second copy there", 0,
			"spindle replication retry "+t.Rule, page)
		l.mends("What failed is tried now, without waiting for its time.", "POST", map[string]any{}, "replications", t.Rule,
			"retry")
	case t.Oldest != nil && l.since(*t.Oldest) > LateAfter:
		l.add(Serious, "copies-late", subject, fmt.Sprintf("%d objects wait, the oldest for %d minutes", t.Waiting,
			int(l.since(*t.Oldest).Minutes())), "they have no second copy there yet", 0, "spindle replication status "+t.Rule,
			page)
	case t.Lagging != "":
		l.add(Serious, "lag-missed", subject, "misses its lag target: "+t.Lagging,
			"copies are made later than is promised", 0, "spindle replication status "+t.Rule, page)
	}
	if l.since(t.Created) > Fresh && (t.Verified == nil || l.since(*t.Verified) > VerifyWithin) {
		l.add(Worth, "never-verified", subject, "was not verified for 30 days", "a copy that nobody compared may not be one",
			0,
			"spindle replication verify "+t.Rule, page)
	}
}

func (l *looking) disk(d *Disk) {
	used := float64(d.Total-d.Free) / float64(max(d.Total, 1))
	soon := d.FullOn != nil && d.FullOn.Sub(l.f.Now) < FullSoon
	if used < NearFull && !soon {
		return
	}
	says := fmt.Sprintf("%.0f %% of its disk is used", 100*used)
	if soon {
		says += ", and it is full on " + d.FullOn.Format(time.DateOnly) + " when it goes on so"
	}
	l.add(Serious, "disk-near-full", "tier "+d.Tier, says, "soon nothing more can be written", 0,
		"spindle tier show "+d.Tier, "/tiers")
}

func (l *looking) rest() {
	for _, c := range l.f.Conflicts {
		l.add(Worth, "rules-conflict", c.Subject, c.Says, "one of them does not do what somebody meant it to", 0, c.Fix,
			c.Page)
	}
	for _, d := range l.f.Drifts {
		l.add(Worth, "charter-drift", d.Charter, fmt.Sprintf("%d things are not as the charter declares, such as the %s",
			d.Things, d.Such),
			"the files do not say how the house is", 0, "spindle charter drift "+d.Charter, "/charters/"+d.Charter)
	}
	for i := range l.f.Disks {
		l.disk(&l.f.Disks[i])
	}
	for _, r := range l.f.Rules {
		if l.since(r.Saved) > Fresh {
			l.add(Worth, "rule-never-matched", r.Bucket+" "+r.Name, "the lifecycle rule never acted on anything",
				"it may not say what was meant", 0,
				"spindle lifecycle rehearse "+r.Bucket, "/buckets/"+r.Bucket+"/lifecycle")
		}
	}
	for _, p := range l.f.Posts {
		l.add(Serious, "post-fails", p.Name, "changes do not arrive: "+p.Says,
			"the program there acts on nothing new, and the journal is kept for it", 0,
			"spindle journal post try "+p.Name, "/journal/posts")
	}
	for _, c := range l.f.Censuses {
		l.add(Serious, "census-fails", c.Name, "the last run failed: "+c.Says, "the list that is read is an old one", 0,
			"spindle census run "+c.Name,
			"/census/"+c.Name)
	}
}

func (l *looking) job(j *Job) {
	if j.Restores {
		return
	}
	page := "/sync/" + j.Name
	switch {
	case j.State == "asking":
		l.add(Serious, "job-asks", j.Name, "waits to be told to go on: "+j.Says, "it copies nothing until somebody answers",
			0,
			"spindle sync show "+j.Name, page)
	case j.State == "failed" || j.State == "partly":
		l.add(Serious, "job-fails", j.Name, "its last run ended "+j.State+" "+j.Says, "the copy is not what it should be", 0,
			"spindle sync outcomes "+j.Name+" --failed", page)
	case j.Scheduled && j.On && j.Ended == nil && l.since(j.Created) > Fresh:
		l.add(Serious, "job-never-ran", j.Name, "has a schedule and never ended well", "there is no copy", 0,
			"spindle sync run "+j.Name, page)
	}
	if j.Ended != nil && l.since(j.Created) > RestoreSoon && (j.Restored == nil || l.since(*j.Restored) > 2*RestoreSoon) {
		l.add(Worth, "never-restored", j.Name, "what it copies was never brought back",
			"only a restore shows that a backup is one", 0,
			"spindle sync restore "+j.Name+" --to SOMEWHERE --rehearse", page)
	}
}
