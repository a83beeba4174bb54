package query

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/pattern"
)

// Bounds of an expression.
const (
	MaxLength = 4000 // bytes
	MaxDepth  = 30   // of brackets and nots
	MaxTests  = 100
	MaxValues = 200 // of one test
	MaxName   = 200 // bytes of a field's name
)

// Expr is a checked expression.
type Expr interface {
	fmt.Stringer
	// holds answers for an object.
	holds(o *Object) bool
}

// And holds when all of its parts do, of which there are two or more.
type And []Expr

// Or holds when one of its parts does, of which there are two or more.
type Or []Expr

// Not holds when its part does not.
type Not struct{ Of Expr }

// Field is what a test looks at.
type Field struct {
	Name  string // of the language: one of those of fields
	Named string // of a tag or a metadata field
}

// Op is how a test compares.
type Op string

// The comparisons.
const (
	Is       Op = "is"
	OneOf    Op = "is one of"
	Begins   Op = "begins with"
	Ends     Op = "ends with"
	Contains Op = "contains"
	Like     Op = "like"
	Over     Op = "over"
	Under    Op = "under"
	AtLeast  Op = "at least"
	AtMost   Op = "at most"
	Between  Op = "between" // both ends included
	Before   Op = "before"
	After    Op = "after"
	On       Op = "on"    // a day, in UTC
	True     Op = "true"  // the field alone
	Exists   Op = "has"   // has field NAME
	Lacks    Op = "lacks" // lacks field NAME
)

// Test compares a field with values.
type Test struct {
	Field Field
	Op    Op

	Texts   []string // of words
	Pattern pattern.Pattern
	Numbers []float64   // bytes of size, seconds of age, or as they are
	Times   []time.Time // of changed; of On the first moment of the day
}

// kind is what the values of a field are.
type kind int

const (
	words kind = iota
	bytesOf
	lengthOf
	momentOf
	alone
	stateOf
	idOf // of versions
	open // words, or numbers by the comparison
)

// fields are the fields of the language.
var fields = map[string]kind{"bucket": words, "key": words, "type": words, "tier": words, "writer": words, "md5": words,
	"crc64": words, "version": idOf, "size": bytesOf, "age": lengthOf, "changed": momentOf, "sealed": alone,
	"current":     alone,
	"replication": stateOf, "field": open, "tag": open}

var states = []string{"pending", "failed", "completed"}

func join(list []Expr, word string) string {
	parts := make([]string, len(list))
	for i, x := range list {
		parts[i] = x.String()
		if _, or := x.(Or); or || word == "or" && isAnd(x) {
			parts[i] = "(" + parts[i] + ")"
		}
	}
	return strings.Join(parts, " "+word+" ")
}

func isAnd(x Expr) bool { _, ok := x.(And); return ok }

// String writes an expression as it is read.
func (a And) String() string { return join(a, "and") }

// String writes an expression as it is read.
func (o Or) String() string { return join(o, "or") }

// String writes an expression as it is read.
func (n Not) String() string {
	if t, ok := n.Of.(*Test); ok {
		return "not " + t.String()
	}
	return "not (" + n.Of.String() + ")"
}

// unit is what a number is counted in.
type unit struct {
	name string
	is   float64
}

// units are those in which numbers of fields are written, the greatest first.
var units = map[string][]unit{
	"size": {{" TiB", 1 << 40}, {" GiB", 1 << 30}, {" MiB", 1 << 20}, {" KiB", 1 << 10}},
	"age":  {{"d", 86_400}, {"h", 3_600}, {"m", 60}, {"s", 1}},
}

// measured writes a number in the greatest unit of which it is a whole number; in the
// smallest when there is none.
func measured(n float64, in []unit) string {
	plain := func(n float64) string { return strconv.FormatFloat(n, 'f', -1, 64) }
	for _, u := range in {
		if n >= u.is && n == math.Trunc(n/u.is)*u.is {
			return plain(n/u.is) + u.name
		}
	}
	if len(in) > 0 && in[len(in)-1].is == 1 {
		return plain(n) + in[len(in)-1].name
	}
	return plain(n)
}

// String writes an expression as it is read.
func (t *Test) String() string {
	name := t.Field.Name
	if t.Field.Named != "" {
		name += " " + quoted(t.Field.Named)
	}
	switch t.Op {
	case True:
		return name
	case Exists, Lacks:
		return string(t.Op) + " " + name
	}
	var values []string
	switch {
	case t.Op == Like:
		values = []string{quoted(t.Pattern.String())}
	case len(t.Times) > 0:
		for _, at := range t.Times {
			form := time.RFC3339Nano
			if t.Op == On {
				form = time.DateOnly
			}
			values = append(values, at.UTC().Format(form))
		}
	case len(t.Numbers) > 0:
		for _, n := range t.Numbers {
			values = append(values, measured(n, units[t.Field.Name]))
		}
	default:
		for _, s := range t.Texts {
			values = append(values, quoted(s))
		}
	}
	between := ", "
	if t.Op == Between {
		between = " and "
	}
	return name + " " + string(t.Op) + " " + strings.Join(values, between)
}

// Quoted writes a word as an expression has it.
func Quoted(s string) string { return quoted(s) }

// quoted writes a word as it is read: as it is where nothing else could be meant.
func quoted(s string) string {
	plain := s != "" && !reserved[strings.ToLower(s)]
	for _, r := range s {
		plain = plain && isWord(r)
	}
	if plain {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Fields gives the names of the metadata fields and of the tags that an expression asks
// about, each once.
func Fields(x Expr) (metadata, tags []string) {
	seen := map[Field]bool{}
	Each(x, func(t *Test) {
		if seen[t.Field] {
			return
		}
		switch seen[t.Field] = true; t.Field.Name {
		case "field":
			metadata = append(metadata, t.Field.Named)
		case "tag":
			tags = append(tags, t.Field.Named)
		}
	})
	return metadata, tags
}

// Each calls f with every test of an expression.
func Each(x Expr, f func(*Test)) {
	switch x := x.(type) {
	case And:
		for _, p := range x {
			Each(p, f)
		}
	case Or:
		for _, p := range x {
			Each(p, f)
		}
	case Not:
		Each(x.Of, f)
	case *Test:
		f(x)
	}
}

// Must gives what holds of a field's words wherever the expression does, as equal or begun
// with: by it whoever looks for objects need not look everywhere.
func Must(x Expr, field string) (is, begins string) {
	switch x := x.(type) {
	case *Test:
		if x.Field.Name == field && len(x.Texts) == 1 {
			switch x.Op {
			case Is:
				return x.Texts[0], x.Texts[0]
			case Begins:
				return "", x.Texts[0]
			}
		}
	case And:
		for _, p := range x {
			i, b := Must(p, field)
			if is == "" {
				is = i
			}
			if len(b) > len(begins) {
				begins = b
			}
		}
	}
	return is, begins
}
