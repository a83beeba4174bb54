package census

import (
	"errors"
	"regexp"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/query"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
)

// Format is how the files of a census are written.
type Format string

// Formats of files.
const (
	CSV       Format = "csv"     // RFC 4180, in UTF-8, with a line of names
	JSONLines Format = "json"    // an object a line
	Parquet   Format = "parquet" // columns, compressed with zstd
)

// Ending gives what the names of files end in.
func (f Format) Ending() string {
	if f == JSONLines {
		return "jsonl"
	}
	return string(f)
}

// Type gives the media type of the files.
func (f Format) Type() string {
	return map[Format]string{CSV: "text/csv; charset=utf-8; header=present", JSONLines: "application/x-ndjson",
		Parquet: "application/vnd.apache.parquet"}[f]
}

// Spec says what a census lists, and how.
type Spec struct {
	Where    string   `json:"where,omitempty"` // an expression of find; "": all objects
	Columns  []string `json:"columns"`
	Format   Format   `json:"format"`
	Versions bool     `json:"versions,omitempty"` // previous versions and delete markers too
	Schedule string   `json:"schedule,omitempty"` // "": only when it is asked for
	Zone     string   `json:"zone,omitempty"`
	Note     string   `json:"note,omitempty"`
}

// Census is a full list of objects, to be written again and again.
type Census struct {
	ID      int64
	Account string
	Name    string
	On      bool          // it is written by its schedule
	From    syncing.Place // a bucket here with a prefix; without a bucket: all of the account
	To      syncing.Place // where files go, in a folder of the census's name
	Spec
	Revision int
	Created  time.Time
	Changed  time.Time // by Who, with whose rights it runs
	Who      string
	Source   string // the address that Who came from
	Next     *time.Time
}

// File is one of the files of a census.
type File struct {
	Key    string `json:"key"` // at the place it was written to, with its prefix
	Rows   int64  `json:"rows"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // in hex
}

// Result is what a run wrote.
type Result struct {
	Rows    int64         `json:"rows"`
	Bytes   int64         `json:"bytes"`          // of the files
	Objects int64         `json:"objectBytes"`    // of what is listed
	Total   int64         `json:"total"`          // rows that were expected, roughly, when it began
	Sent    int64         `json:"sent"`           // bytes of files that are at the target
	To      syncing.Place `json:"to"`             // the folder of the run
	At      string        `json:"at,omitempty"`   // the endpoint of To; "": here
	Columns []string      `json:"columns"`        //
	Format  Format        `json:"format"`         //
	Files   []File        `json:"files,omitzero"` // in the order of what they list
}

// Run is one writing of a census.
type Run struct {
	runs.Run
	AsOf *time.Time // the moment that all of it is true of
	Result
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// Check refuses a census that cannot be, with all that is wrong at once.
func (c *Census) Check(now time.Time) error {
	var all []error
	bad := func(field, code, remedy, says string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	if !nameForm.MatchString(c.Name) {
		bad("name", "census-name", "take 2 to 63 lower-case letters, digits and hyphens", "%q is no name for a census",
			c.Name)
	}
	if c.From.Folder != "" || c.From.Endpoint != "" {
		bad("from", "census-from", "name a bucket of this service, with a prefix or without one; leave it out for the whole account",
			"a census lists what is here")
	}
	if c.To.Bucket == "" {
		bad("to", "census-to", "name a bucket, here or as @ENDPOINT/BUCKET, with a prefix or without one",
			"a census is written into a bucket")
	}
	if c.Format != CSV && c.Format != JSONLines && c.Format != Parquet {
		bad("format", "census-format", "take csv, json or parquet", "%q is no format", string(c.Format))
	}
	if len(c.Note) > syncing.MaxNote {
		bad("note", "note-long", "shorten it", "a note has at most %d bytes", syncing.MaxNote)
	}
	columns, err := ParseColumns(c.Columns)
	all = append(all, err)
	if len(columns) > MaxColumns {
		bad("columns", "census-columns", "name fewer", "a census has at most %d columns", MaxColumns)
	}
	if c.Where != "" {
		x, err := query.Parse(c.Where, now)
		if f := fault.From(err); err != nil {
			all = append(all, f.In("where"))
		} else {
			c.Where = x.String()
		}
	}
	return errors.Join(all...)
}

// ParseFrom reads what is listed: a bucket with a prefix, or "" for all of the account.
func ParseFrom(s string) (syncing.Place, error) {
	if s == "" {
		return syncing.Place{}, nil
	}
	p, err := syncing.ParsePlace(s)
	if err != nil {
		return p, fault.From(err).In("from")
	}
	if bucket, prefix, ok := strings.Cut(s, "/"); ok && p.Endpoint == "" && p.Folder == "" && bucket == p.Bucket {
		p.Prefix = prefix // a prefix of keys need not end in a slash
	}
	return p, nil
}
