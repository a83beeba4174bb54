package jobs

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
	"spindle/internal/charterfile"
	"spindle/internal/core/bucket"
	"spindle/internal/core/lifecycle"
	"spindle/internal/desk/middle"
)

// Charter is what a charter declares. What it does not say of a thing is left as it is.
type Charter struct {
	Charter      string                        `json:"charter" maxLength:"63" doc:"Its name: small letters, digits and hyphens"`
	Account      string                        `json:"account,omitempty" maxLength:"64" doc:"In which it is enacted; the one that one acts in otherwise"`
	Region       string                        `json:"region,omitempty" maxLength:"63" doc:"The region it is meant for: it is refused elsewhere"`
	Whole        bool                          `json:"whole,omitempty" doc:"It claims the whole of the account: buckets, keys, grants, rules, jobs and the like that it does not name go"`
	Accounts     map[string]CharterAccount     `json:"accounts,omitempty" doc:"For operators"`
	Tiers        map[string]CharterTier        `json:"tiers,omitempty" doc:"For operators"`
	Placements   map[string]CharterPlacement   `json:"placements,omitempty" doc:"For operators"`
	Placed       map[string]CharterPlaced      `json:"account-placements,omitempty" doc:"For operators: by account, what its buckets have"`
	Endpoints    map[string]CharterEndpoint    `json:"endpoints,omitempty"`
	Buckets      map[string]CharterBucket      `json:"buckets,omitempty"`
	Keys         map[string]CharterKey         `json:"keys,omitempty" doc:"By the application that uses it; the secret of one that is made is shown once"`
	Grants       map[string]CharterGrant       `json:"grants,omitempty" doc:"By BUCKET/PREFIX to WHOM"`
	Replication  map[string]CharterReplication `json:"replication,omitempty"`
	Sync         map[string]CharterSync        `json:"sync,omitempty"`
	Census       map[string]CharterCensus      `json:"census,omitempty"`
	Finds        map[string]api.Question       `json:"finds,omitempty" doc:"Questions that are kept"`
	JournalViews map[string]api.JournalFilter  `json:"journal-filters,omitempty" doc:"Filters of the journal that are kept"`
}

// Bytes are a number, or a size such as 400GiB; empty for none.
type Bytes struct{}

// Schema describes bytes to the OpenAPI document.
func (Bytes) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{OneOf: []*huma.Schema{{Type: huma.TypeInteger, Minimum: new(float64)},
		{Type: huma.TypeString, MaxLength: middle.Of(40)}},
		Description: "A number of bytes, or a size such as 400GiB; empty for none"}
}

// Lasting is a number of seconds, or a time such as 30d.
type Lasting struct{}

// Schema describes a length of time to the OpenAPI document.
func (Lasting) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{OneOf: []*huma.Schema{{Type: huma.TypeNumber, Minimum: new(float64)},
		{Type: huma.TypeString, MaxLength: middle.Of(40)}},
		Description: "A number of seconds, or a time such as 30d"}
}

// CharterAccount declares an account.
type CharterAccount struct {
	Note       string `json:"note,omitempty"`
	Quota      *Bytes `json:"quota,omitempty" doc:"Of all its buckets"`
	MaxBuckets *int   `json:"maxBuckets,omitempty" minimum:"0"`
}

// CharterTier declares a tier.
type CharterTier struct {
	Note     string           `json:"note,omitempty" maxLength:"500"`
	Volumes  []string         `json:"volumes,omitempty" maxItems:"64" doc:"Directories on the service's machine, or one bucket at an endpoint; they are added, and never taken away"`
	Copies   *int             `json:"copies,omitempty" minimum:"1"`
	Pieces   string           `json:"pieces,omitempty" maxLength:"8" doc:"Data and parity pieces, such as 4+2, instead of copies"`
	Packed   *bool            `json:"packed,omitempty" doc:"Bodies are compressed"`
	Sealed   *bool            `json:"sealed,omitempty"`
	Price    *float64         `json:"price,omitempty" doc:"Of a GiB kept for a month"`
	Requests *float64         `json:"requests,omitempty" doc:"Price of 1,000 requests"`
	Stay     *int             `json:"shortestStay,omitempty" doc:"Days that are paid for at the least"`
	Restore  *api.RestoreInfo `json:"restore,omitempty" doc:"Versions are restored before they are read"`
}

// CharterPlacement declares a placement.
type CharterPlacement struct {
	Tier     string   `json:"tier,omitempty" maxLength:"32"`
	Sealing  *bool    `json:"sealing,omitempty"`
	Everyone *bool    `json:"everyone,omitempty" doc:"It is offered to all accounts"`
	Accounts []string `json:"accounts,omitempty" maxItems:"1000" doc:"It is offered to these"`
	Note     string   `json:"note,omitempty" maxLength:"500"`
}

// CharterPlaced declares what buckets of an account have.
type CharterPlaced struct {
	Placement string `json:"placement" maxLength:"32"`
	Fixed     *bool  `json:"placementFixed,omitempty" doc:"They all have it, and the account cannot choose"`
}

// SecretRef says where whoever enacts has a secret: files do not have any.
type SecretRef struct {
	Env  string `json:"env,omitempty" maxLength:"200" doc:"A variable of the environment"`
	File string `json:"file,omitempty" maxLength:"1000" doc:"The first line of a file"`
}

// CharterEndpoint declares an endpoint.
type CharterEndpoint struct {
	URL       string     `json:"url,omitempty" maxLength:"300"`
	Region    string     `json:"region,omitempty" maxLength:"64"`
	Style     string     `json:"style,omitempty" enum:"path,host"`
	Key       string     `json:"key,omitempty" maxLength:"128" doc:"The id of our access key there"`
	Secret    *SecretRef `json:"secret,omitempty" doc:"Of the key; taken when the endpoint is made, or its address or key changes"`
	Note      string     `json:"note,omitempty" maxLength:"500"`
	Bandwidth *Bytes     `json:"bandwidth,omitempty" doc:"A second, from each process"`
	Bucket    string     `json:"bucket,omitempty" maxLength:"63" doc:"That checks look at"`
}

// CharterBucket declares a bucket.
type CharterBucket struct {
	Versioning string              `json:"versioning,omitempty" enum:"off,on,paused"`
	Quota      *Bytes              `json:"quota,omitempty"`
	Tags       map[string]string   `json:"tags,omitempty" doc:"All of them"`
	Sealing    *bool               `json:"sealing,omitempty"`
	Placement  string              `json:"placement,omitempty" maxLength:"32" doc:"How bytes are kept, instead of a tier; existing objects are moved by hand (spindle bucket place)"`
	Tier       string              `json:"tier,omitempty" maxLength:"32"`
	Required   bucket.Requirements `json:"required,omitempty" doc:"All that is asked of metadata"`
	Journal    *CharterJournal     `json:"journal,omitempty"`
	Rules      []lifecycle.Form    `json:"rules,omitempty" maxItems:"60" doc:"All of its lifecycle rules"`
}

// CharterJournal declares how a journal is kept.
type CharterJournal struct {
	Days   int  `json:"days,omitempty" minimum:"0" maximum:"36500" doc:"0: as long as the service keeps its own"`
	Paused bool `json:"paused,omitempty"`
}

// CharterKey declares an access key.
type CharterKey struct {
	Note     string   `json:"note,omitempty"`
	Role     string   `json:"role,omitempty" enum:"reader,writer,administrator"`
	Operator *bool    `json:"operator,omitempty"`
	Limits   []string `json:"limits,omitempty" maxItems:"100"`
	Rate     *int     `json:"rate,omitempty" minimum:"0"`
	Expires  string   `json:"expires,omitempty" maxLength:"64" doc:"A day such as 2027-01-31, or RFC 3339"`
	Active   *bool    `json:"active,omitempty"`
}

// CharterGrant declares what is open to whom.
type CharterGrant struct {
	Bucket  string `json:"bucket" maxLength:"63"`
	Prefix  string `json:"prefix,omitempty" maxLength:"1024"`
	To      string `json:"to" maxLength:"300" doc:"account:NAME, person:NAME, key:ID, key:NAME (of another account key:ACCOUNT/NAME) or anyone"`
	For     string `json:"for" maxLength:"100" doc:"A purpose, or rights with commas between them"`
	Expires string `json:"expires,omitempty" maxLength:"64"`
	Note    string `json:"note,omitempty"`
}

// CharterReplication declares a replication rule.
type CharterReplication struct {
	Bucket   string              `json:"bucket,omitempty" maxLength:"63"`
	Prefix   string              `json:"prefix,omitempty" maxLength:"1024"`
	On       *bool               `json:"on,omitempty"`
	Priority *int                `json:"priority,omitempty" minimum:"1"`
	Tags     map[string]string   `json:"tags,omitempty"`
	Where    string              `json:"where,omitempty" maxLength:"4000"`
	Markers  *bool               `json:"deleteMarkers,omitempty"`
	Removals *bool               `json:"removals,omitempty"`
	Onward   *bool               `json:"onward,omitempty"`
	Lag      *api.LagTarget      `json:"lagTarget,omitempty"`
	Targets  []api.TargetSetting `json:"targets,omitempty" maxItems:"8"`
	Existing string              `json:"existing,omitempty" enum:"leave,backfill" doc:"When it is made: what happens with what is there"`
	Mend     bool                `json:"mend,omitempty" doc:"When it is made: switch versioning on where it is missing"`
}

// CharterSync declares a sync job. One that seals cannot be declared: it needs a passphrase.
type CharterSync struct {
	On        *bool             `json:"on,omitempty"`
	From      string            `json:"from,omitempty" maxLength:"1200"`
	To        string            `json:"to,omitempty" maxLength:"1200"`
	Mode      string            `json:"mode,omitempty" enum:"accumulate,mirror,drain"`
	Note      string            `json:"note,omitempty" maxLength:"500"`
	By        string            `json:"by,omitempty" enum:"time,digest,size"`
	Like      []string          `json:"like,omitempty" maxItems:"100"`
	LeaveOut  []string          `json:"leaveOut,omitempty" maxItems:"100"`
	SizeFrom  *Bytes            `json:"sizeFrom,omitempty"`
	SizeTo    *Bytes            `json:"sizeTo,omitempty"`
	Older     *Lasting          `json:"older,omitempty"`
	Newer     *Lasting          `json:"newer,omitempty"`
	Links     string            `json:"links,omitempty" enum:"skip,follow,keep"`
	Class     string            `json:"class,omitempty" maxLength:"64"`
	Sealed    *bool             `json:"sealed,omitempty" doc:"Encrypted at rest"`
	Parallel  *int              `json:"parallel,omitempty" minimum:"1"`
	Share     *float64          `json:"guardShare,omitempty"`
	Most      *int64            `json:"guardMost,omitempty"`
	Schedule  string            `json:"schedule,omitempty" maxLength:"100"`
	Zone      string            `json:"zone,omitempty" maxLength:"64"`
	Tags      map[string]string `json:"tags,omitempty"`
	Where     string            `json:"where,omitempty" maxLength:"4000"`
	Bandwidth []string          `json:"bandwidth,omitempty" maxItems:"24"`
}

// CharterCensus declares a census.
type CharterCensus struct {
	On       *bool    `json:"on,omitempty"`
	From     string   `json:"from,omitempty" maxLength:"1200"`
	To       string   `json:"to,omitempty" maxLength:"1200"`
	Where    string   `json:"where,omitempty" maxLength:"4000"`
	Columns  []string `json:"columns,omitempty" maxItems:"200"`
	Format   string   `json:"format,omitempty" enum:"csv,json,parquet"`
	Versions *bool    `json:"versions,omitempty"`
	Schedule string   `json:"schedule,omitempty" maxLength:"100"`
	Zone     string   `json:"zone,omitempty" maxLength:"64"`
	Note     string   `json:"note,omitempty" maxLength:"500"`
}

// charterSchema is what a charter may say, from the types.
type charterSchema struct {
	registry huma.Registry
	schema   *huma.Schema
}

func newCharterSchema() *charterSchema {
	r := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	return &charterSchema{r, r.Schema(reflect.TypeFor[Charter](), false, "Charter")}
}

// charterWrong is how many mistakes of a charter are looked for.
const charterWrong = 100

// check finds what a document says that no charter may, thing by thing, until there is enough.
func (s *charterSchema) check(tree map[string]any) (out []charterfile.Complaint) {
	top := map[string]any{}
	for section, v := range tree {
		if _, things := v.(map[string]any); !things {
			top[section] = v
		}
	}
	told := map[charterfile.Complaint]bool{}
	look := func(section, name string, v any) bool {
		part := maps.Clone(top)
		if section != "" {
			part[section] = map[string]any{name: v}
		}
		for _, c := range s.validate(part) {
			if !told[c] && len(out) < charterWrong {
				told[c] = true
				out = append(out, c)
			}
		}
		return len(out) < charterWrong
	}
	look("", "", nil)
	for _, section := range slices.Sorted(maps.Keys(tree)) {
		things, _ := tree[section].(map[string]any)
		for _, name := range slices.Sorted(maps.Keys(things)) {
			if !look(section, name, things[name]) {
				return out
			}
		}
	}
	return out
}

func (s *charterSchema) validate(tree map[string]any) (out []charterfile.Complaint) {
	var res huma.ValidateResult
	huma.Validate(s.registry, s.schema, huma.NewPathBuffer(nil, 0), huma.ModeWriteToServer, tree, &res)
	for _, err := range res.Errors {
		d, ok := err.(huma.ErrorDetailer)
		if !ok {
			out = append(out, charterfile.Complaint{Says: err.Error()})
			continue
		}
		c := charterfile.Complaint{Path: strings.TrimPrefix(d.ErrorDetail().Location, "."), Says: d.ErrorDetail().Message}
		if strings.Contains(c.Says, "exactly one schema") { // of Bytes or Lasting
			c.Says = "expected a number that is not below 0, or a text such as 400GiB or 30d"
		}
		out = append(out, c)
	}
	return out
}

// CharterSchema gives the JSON Schema of charters (draft 2020-12), for editors.
func CharterSchema() ([]byte, error) {
	s := newCharterSchema()
	return json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Charter",
		"$ref": s.schema.Ref, "$defs": s.registry.Map()}, "", "  ")
}
