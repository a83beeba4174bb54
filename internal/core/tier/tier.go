package tier

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// Main is the number of the tier that is always there, where bodies go that no tier
// is named for; MainName is what it is called.
const (
	Main     int16 = 0
	MainName       = "main"
)

// Bounds of a tier.
const (
	MaxCopies       = 4
	MaxData         = 24 // pieces with what a body is
	MaxParity       = 8  // pieces with what stands in for lost ones
	MaxVolumes      = 64
	MaxShortestStay = 3650                // days
	MaxDelay        = 30 * 24 * time.Hour // until a restored copy is there
	MaxRestored     = 3650                // days
	MaxPrice        = 1_000_000_000_000   // millionths
)

// Volume is a directory that a tier keeps bodies on, or a place elsewhere.
type Volume struct {
	ID     int64
	Dir    string // absolute; "" of a place elsewhere
	Place  *Place // nil: a directory
	Marker string // what the marker file in it says
}

// String names the volume.
func (v Volume) String() string {
	if v.Place != nil {
		return v.Place.String()
	}
	return v.Dir
}

// Place is a bucket at an endpoint in which a tier keeps bodies, or what is beneath a
// prefix in it.
type Place struct {
	Endpoint int64
	Name     string // the endpoint's
	Bucket   string
	Prefix   string // "" or ending in a slash
}

// MaxPrefix is how many bytes the prefix of a place has at the most; names of bodies come
// after it.
const MaxPrefix = 512

// String names the place as an address.
func (p *Place) String() string { return "@" + p.Name + "/" + p.Bucket + "/" + p.Prefix }

// Elsewhere gives the place at which the tier keeps its bodies; nil when it keeps them
// on directories.
func (t *Tier) Elsewhere() *Place {
	for _, v := range t.Volumes {
		if v.Place != nil {
			return v.Place
		}
	}
	return nil
}

// Tier is a class of storage.
type Tier struct {
	ID       int16
	Name     string
	Note     string
	Volumes  []Volume
	Copies   int     // of each body, every one on another volume
	Pieces   *Pieces // nil: whole copies
	Packed   bool    // bodies are compressed
	Sealed   bool    // bodies are encrypted at rest, whatever their bucket says
	Price    int64
	Requests int64 // price of 1,000 requests
	Stay     int   // days for which a body is paid for at the least
	Restore  *Restore
	Revision int
	Created  time.Time
	By       string
}

// Pieces says into how many pieces a body is cut, each on another volume. Any of them, as
// many as Data, give the body back.
type Pieces struct {
	Data   int // pieces that are the body
	Parity int // pieces that stand in for as many lost ones, whichever they are
}

// All gives how many pieces there are.
func (p Pieces) All() int { return p.Data + p.Parity }

// String gives the pieces as they are written, such as 4+2.
func (p Pieces) String() string { return fmt.Sprintf("%d+%d", p.Data, p.Parity) }

// ParsePieces reads pieces such as 4+2. The error has the code tier-pieces.
func ParsePieces(s string) (p Pieces, err error) {
	data, parity, ok := strings.Cut(s, "+")
	if ok {
		p.Data, err = strconv.Atoi(data)
	}
	if ok && err == nil {
		p.Parity, err = strconv.Atoi(parity)
	}
	if !ok || err != nil || p.String() != s {
		return Pieces{}, fault.New(fault.Invalid, "tier-pieces", "%q says no pieces", s).In("pieces").
			Do("give the data pieces, a plus, and the parity pieces, such as 4+2")
	}
	return p, nil
}

// Losses gives how many of its volumes a tier can lose without losing a body.
func (t *Tier) Losses() int {
	switch {
	case t.Elsewhere() != nil:
		return 0
	case t.Pieces != nil:
		return t.Pieces.Parity
	}
	return t.Copies - 1
}

// Overhead gives how many bytes on volumes a byte of a body takes, when it is not compressed.
func (t *Tier) Overhead() float64 {
	if t.Pieces != nil {
		return float64(t.Pieces.All()) / float64(t.Pieces.Data)
	}
	return float64(t.Copies)
}

// Keeps says in a line how the tier keeps bodies.
func (t *Tier) Keeps() string {
	says := "1 copy"
	switch {
	case t.Elsewhere() != nil:
		says = "by another store"
	case t.Pieces != nil:
		says = fmt.Sprintf("in %s pieces", t.Pieces)
	case t.Copies > 1:
		says = fmt.Sprintf("%d copies", t.Copies)
	}
	if n := len(t.Volumes); n > 1 {
		says += fmt.Sprintf(" over %d volumes", n)
	}
	if t.Packed {
		says += ", compressed"
	}
	if t.Sealed {
		says += ", sealed"
	}
	return says
}

// Limits says what cannot be done with what is in the tier, or not as elsewhere; each a
// sentence for whoever is about to choose it.
func (t *Tier) Limits() (out []string) {
	if r := t.Restore; r != nil {
		out = append(out, fmt.Sprintf("It is not read at once: a version is restored first, which takes %s, and its copy "+
			"stays %d days.", r.Delay, r.Days),
			"It is not replicated before it is restored.")
	}
	if t.Elsewhere() != nil {
		out = append(out, "It is kept by another store: reads wait for that store, and stop while it is away.")
	}
	if t.Stay > 0 {
		out = append(out, fmt.Sprintf("At least %d days are paid for, whenever it is removed.", t.Stay))
	}
	if t.Losses() == 0 && t.Elsewhere() == nil {
		out = append(out, "There is one copy: when its volume is lost, so is it.")
	}
	if t.Pieces != nil {
		out = append(out, "Small objects take a block on each volume they are on; thousands of them are faster in copies.")
	}
	return out
}

// Restore says that the versions of a tier cannot be read before they are restored.
type Restore struct {
	Delay time.Duration // until a restored copy is there
	Days  int           // for which it stays
}

var namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}[a-z0-9]$`)

// ParseName checks a tier's name: 2 to 32 lower-case letters, digits and hyphens,
// beginning with a letter. The error has the code tier-name.
func ParseName(s string) (string, error) {
	if !namePattern.MatchString(s) {
		return "", fault.New(fault.Invalid, "tier-name", "%q is no name for a tier", s).In("name").
			Do("take 2 to 32 lower-case letters, digits and hyphens, a letter first")
	}
	return s, nil
}

// Check refuses a tier that cannot be, all that is wrong at once.
func (t *Tier) Check() error {
	var all []error
	bad := func(field, code, says, remedy string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	if _, err := ParseName(t.Name); err != nil {
		all = append(all, err)
	}
	t.checkForm(bad)
	t.checkVolumes(bad)
	t.checkTerms(bad)
	return errors.Join(all...)
}

// checkForm tells what is wrong with how bodies are kept: copies, pieces, or elsewhere.
func (t *Tier) checkForm(bad func(field, code, says, remedy string, args ...any)) {
	if t.Elsewhere() != nil {
		if t.Copies != 1 {
			bad("copies", "tier-elsewhere", "what a bucket at an endpoint keeps is there once",
				"for further copies add a replication rule")
		}
		if len(t.Volumes) > 1 {
			bad("volumes", "tier-elsewhere", "a tier whose place is a bucket at an endpoint has that place only",
				"name the bucket alone, or directories")
		}
	} else if p := t.Pieces; p != nil {
		switch {
		case t.Copies != 1:
			bad("pieces", "tier-pieces", "a tier keeps copies or pieces, not both", "leave the copies out, or the pieces")
		case p.Data < 2 || p.Data > MaxData || p.Parity < 1 || p.Parity > MaxParity:
			bad("pieces", "tier-pieces", "a body is cut into 2 to %d data and 1 to %d parity pieces, not %s",
				"give numbers in between, such as 4+2", MaxData, MaxParity, p)
		case p.All() > len(t.Volumes):
			bad("pieces", "tier-pieces", "%s pieces need %d volumes, and there are %d",
				"name more volumes, or take fewer pieces", p, p.All(), len(t.Volumes))
		}
	} else if t.Copies < 1 || t.Copies > MaxCopies {
		bad("copies", "tier-copies", "a tier keeps 1 to %d copies, not %d", "give a number in between", MaxCopies, t.Copies)
	} else if t.Copies > len(t.Volumes) {
		bad("copies", "tier-copies", "%d copies need %d volumes, and there are %d", "name more volumes, or keep fewer copies",
			t.Copies, t.Copies, len(t.Volumes))
	}
	if t.Pieces != nil && t.Elsewhere() != nil {
		bad("pieces", "tier-elsewhere", "what a bucket at an endpoint keeps is there in one piece", "leave the pieces out")
	}
}

// checkVolumes tells what is wrong with where bodies are kept.
func (t *Tier) checkVolumes(bad func(field, code, says, remedy string, args ...any)) {
	if len(t.Volumes) == 0 || len(t.Volumes) > MaxVolumes {
		bad("volumes", "tier-volumes", "a tier has 1 to %d volumes, not %d", "name directories, each on a disk of its own",
			MaxVolumes, len(t.Volumes))
	}
	for i, v := range t.Volumes {
		switch p := v.Place; {
		case p != nil && (p.Bucket == "" || len(p.Prefix) > MaxPrefix || p.Prefix != "" && !strings.HasSuffix(p.Prefix, "/")):
			bad("volumes", "volume-place", "%s names no bucket, or a prefix of over %d bytes",
				"give @ENDPOINT/BUCKET or @ENDPOINT/BUCKET/PREFIX", p, MaxPrefix)
		case p == nil && (!filepath.IsAbs(v.Dir) || filepath.Clean(v.Dir) != v.Dir):
			bad("volumes", "volume-dir", "%q is not the whole path of a directory", "give a path that begins with /", v.Dir)
		}
		for _, o := range t.Volumes[:i] {
			if o.String() == v.String() {
				bad("volumes", "volume-twice", "the volume %q is named twice", "name each once", v)
			}
		}
	}
}

// checkTerms tells what is wrong with prices, and with how versions are restored.
func (t *Tier) checkTerms(bad func(field, code, says, remedy string, args ...any)) {
	if t.Price < 0 || t.Price > MaxPrice || t.Requests < 0 || t.Requests > MaxPrice {
		bad("price", "tier-price", "a price is from 0 to 1,000,000", "give it in the money you count in, such as 0.021")
	}
	if t.Stay < 0 || t.Stay > MaxShortestStay {
		bad("shortestStay", "tier-stay", "the shortest stay is from 0 to %d days", "give a number of days", MaxShortestStay)
	}
	if r := t.Restore; r != nil {
		if r.Delay < 0 || r.Delay > MaxDelay {
			bad("restore.delay", "tier-restore", "a restored copy is there after 0 to 30 days", "give a time such as 4h")
		}
		if r.Days < 1 || r.Days > MaxRestored {
			bad("restore.days", "tier-restore", "a restored copy stays 1 to %d days", "give a number of days", MaxRestored)
		}
		if t.ID == Main && t.Name == MainName {
			bad("restore", "tier-restore", "the tier main is always read at once",
				"make a tier of its own for what is restored first")
		}
	}
}

// Set are the tiers there are.
type Set []*Tier

// Find gives a tier by its name. The error for none has the code tier-missing.
func (s Set) Find(name string) (*Tier, error) {
	if i := slices.IndexFunc(s, func(t *Tier) bool { return t.Name == name }); i >= 0 {
		return s[i], nil
	}
	return nil, fault.New(fault.NotFound, "tier-missing", "there is no tier %q", name).In("tier").
		Do("choose one of those there are (spindle tier list), or add it")
}

// Of gives a tier by its number, nil for none.
func (s Set) Of(id int16) *Tier {
	if i := slices.IndexFunc(s, func(t *Tier) bool { return t.ID == id }); i >= 0 {
		return s[i]
	}
	return nil
}

// Name gives the name of a tier by its number; for one that is not known, as happens
// to a body of a tier that was taken away, its number.
func (s Set) Name(id int16) string {
	if t := s.Of(id); t != nil {
		return t.Name
	}
	return "unknown"
}

// Compare tells tiers by their price of keeping, then by name.
func Compare(a, b *Tier) int {
	return cmp.Or(cmp.Compare(a.Price, b.Price), cmp.Compare(a.Name, b.Name))
}

// GiB is what prices of keeping are of.
const GiB = 1 << 30

// MonthCost gives what keeping some bytes for a month costs, in millionths.
func (t *Tier) MonthCost(bytes int64) int64 {
	return int64(float64(bytes) / GiB * float64(t.Price))
}
