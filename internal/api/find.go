package api

// FindAsk is a question about objects.
type FindAsk struct {
	Expression string   `json:"expression" maxLength:"4000" doc:"In the language of find, such as size over 10 MiB and field taxon is Drosera"`
	Buckets    []string `json:"buckets,omitempty" maxItems:"1000" doc:"Only in these; empty: in all that who asks may list and read"`
	Versions   bool     `json:"versions,omitempty" doc:"Previous versions too"`
	AsOf       string   `json:"asOf,omitempty" maxLength:"64" doc:"Among the objects that were there at this moment, as they were"`
	Sort       string   `json:"sort,omitempty" enum:"key,size,changed,largest,latest" doc:"By key, page by page; or the first ones, of all that are found, by size or by when they changed, or the other way round"`
}

// FoundObject is a version for which an expression holds.
type FoundObject struct {
	Bucket string `json:"bucket"`
	ListedObject
	Current bool              `json:"current"`
	Tier    string            `json:"tier"`
	Sealed  bool              `json:"sealed,omitempty" doc:"Encrypted at rest"`
	Tags    map[string]string `json:"tags,omitempty"`
}

// FindAnswer is a page of what is found.
type FindAnswer struct {
	Objects []FoundObject `json:"objects"`
	Next    string        `json:"next,omitempty" doc:"Give it as after for what follows; absent at the end. A page may be short, or empty, and go on"`
	Looked  int64         `json:"looked" doc:"At so many versions, for this page"`
	Index   bool          `json:"index,omitempty" doc:"An index told where to look"`
	Reads   string        `json:"reads" doc:"The expression as it was understood"`
	Hints   []string      `json:"hints,omitempty" doc:"Fields and tags of the expression that no object was seen to have, when nothing is found"`
	Left    []string      `json:"left,omitempty" doc:"Buckets of others that were left out, because the expression asks what is not told of them"`
}

// FindWord is a field or a tag with values that it has.
type FindWord struct {
	Name   string   `json:"name" doc:"As the expression has it, such as field taxon"`
	Values []string `json:"values" doc:"Some that are common"`
}

// FindGroup are the found objects that have one value.
type FindGroup struct {
	Value   *string `json:"value" doc:"null: they have none"`
	Objects int64   `json:"objects"`
	Bytes   int64   `json:"bytes"`
}

// FindPageAsk asks for a page of what find finds.
type FindPageAsk struct {
	FindAsk
	After string `json:"after,omitempty" maxLength:"4000"`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"1000" default:"100"`
}

// FindGroupsAsk asks for sums over what find finds.
type FindGroupsAsk struct {
	FindAsk
	By    string `json:"by" maxLength:"300" doc:"field NAME, tag NAME, type, tier, or year, month or day of writing (UTC)"`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"10000" default:"100"`
}
