package charterfile

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
)

// Bounds of files.
const (
	MaxFiles = 200
	MaxBytes = 2 << 20 // of all of them
	maxDepth = 40
	maxLine  = 8 << 10 // bytes
	maxWrong = 100     // that are told of
	maxNodes = 200_000 // values, with variables put in
	maxGrown = 8 << 20 // bytes of texts, with variables put in
)

// Complaint is what is wrong with the value at a path, such as buckets.plates.quota.
type Complaint struct{ Path, Says string }

// Read gives what files declare, as a document in JSON has it. set goes before the variables
// of the files. check finds what else is wrong. The error joins all that is wrong, each with
// the code charter and, as its field, file:line:column.
func Read(files []charter.Source, set map[string]string, check func(map[string]any) []Complaint) (map[string]any,
	error) {
	r := &reader{at: map[string]position{}, variables: map[string]any{}}
	if len(files) > 0 {
		r.first = files[0].Name
	}
	size := 0
	for _, f := range files {
		size += len(f.Text)
	}
	if len(files) == 0 || len(files) > MaxFiles || size > MaxBytes {
		return nil, fault.New(fault.Invalid, "charter", "a charter is 1 to %d files of %d KiB together", MaxFiles,
			MaxBytes>>10).
			In("files").Do("split it into several charters")
	}
	tree := map[string]any{}
	for _, f := range files {
		r.file(f, tree)
	}
	for name, v := range set {
		r.variables[name] = v
	}
	if len(r.wrong) == 0 {
		tree, _ = r.filled("", tree).(map[string]any)
		delete(tree, "variables")
		if r.grown {
			return nil, errors.Join(r.wrong...)
		}
		for _, c := range check(tree) {
			r.add(r.nearest(c.Path), "%s", cleaned(c))
		}
	}
	return tree, errors.Join(r.wrong...)
}

// cleaned says a complaint with where it is.
func cleaned(c Complaint) string {
	if c.Path == "" {
		return c.Says
	}
	return c.Path + ": " + c.Says
}

type position struct {
	file      string
	line, col int
}

func (p position) String() string { return fmt.Sprintf("%s:%d:%d", p.file, p.line, p.col) }

type reader struct {
	at        map[string]position // of each path
	variables map[string]any
	wrong     []error

	first        string // file
	nodes, bytes int    // that the charter comes to
	grown        bool   // it is too much
}

func (r *reader) add(at position, says string, args ...any) {
	if len(r.wrong) < maxWrong {
		r.wrong = append(r.wrong, fault.New(fault.Invalid, "charter", says, args...).In(at.String()))
	}
}

// nearest gives where a path is, or what is above it.
func (r *reader) nearest(path string) position {
	for {
		if p, ok := r.at[path]; ok {
			return p
		}
		cut := strings.LastIndexAny(path, ".[")
		if cut < 0 {
			break
		}
		path = path[:cut]
	}
	first := position{"", 1, 1}
	for _, p := range r.at {
		if first.file == "" || p.file < first.file {
			first.file = p.file
		}
	}
	return first
}

// tooDeep finds what no parser should be given: lines that are very long, and brackets or
// indents that are very many. at is its line; 0 for none.
func tooDeep(text string) (at int, says string) {
	open := 0
	for i, line := range strings.Split(text, "\n") {
		open += strings.Count(line, "[") + strings.Count(line, "{") - strings.Count(line, "]") - strings.Count(line, "}")
		open = max(open, 0)
		body := strings.TrimLeft(line, " \t-?")
		switch {
		case len(line) > maxLine:
			return i + 1, fmt.Sprintf("a line has at most %d bytes", maxLine)
		case open > maxDepth || len(line)-len(body) > 8*maxDepth || strings.Count(line, "[")+strings.Count(line,
			"{") > 20*maxDepth:
			return i + 1, fmt.Sprintf("this is more than %d deep", maxDepth)
		}
	}
	return 0, ""
}

// file reads one file into the tree.
func (r *reader) file(f charter.Source, tree map[string]any) {
	if line, says := tooDeep(f.Text); says != "" {
		r.add(position{f.Name, line, 1}, "%s", says)
		return
	}
	d := yaml.NewDecoder(strings.NewReader(f.Text))
	for {
		var doc yaml.Node
		err := d.Decode(&doc)
		if err == io.EOF {
			return
		}
		if err != nil {
			at, says := position{f.Name, 1, 1}, strings.TrimPrefix(err.Error(), "yaml: ")
			if m := places.FindStringSubmatch(says); m != nil {
				at.line, _ = strconv.Atoi(m[1]) // digits
				says = says[len(m[0]):]
			}
			r.add(at, "this is no YAML: %s", says)
			return
		}
		if len(doc.Content) == 0 || doc.Content[0].Kind == yaml.ScalarNode && doc.Content[0].Tag == nullTag {
			continue
		}
		m, ok := r.value(f.Name, "", doc.Content[0], 0).(map[string]any)
		if !ok {
			r.add(position{f.Name, 1, 1}, "a charter is sections with names")
			continue
		}
		r.merge(f.Name, tree, m)
	}
}

// places is the line that the parser writes before what it says.
var places = regexp.MustCompile(`^line (\d+): `)

// merge adds what a file has; a thing is declared once.
func (r *reader) merge(file string, tree, more map[string]any) {
	for _, section := range slices.Sorted(maps.Keys(more)) {
		v := more[section]
		if m, ok := v.(map[string]any); ok && section == "variables" {
			for name, x := range m {
				if _, twice := r.variables[name]; twice {
					r.add(r.at["variables."+name], "the variable %s is set twice", name)
				}
				r.variables[name] = x
			}
			continue
		}
		was, there := tree[section]
		if !there {
			tree[section] = v
			continue
		}
		a, aok := was.(map[string]any)
		b, bok := v.(map[string]any)
		if !aok || !bok {
			if !reflect.DeepEqual(was, v) { // lists cannot be compared otherwise
				r.add(r.at[section], "%s is said twice, and not the same", section)
			}
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(b)) {
			if _, twice := a[name]; twice {
				r.add(r.at[section+"."+name], "%s.%s is declared twice", section, name)
				continue
			}
			a[name] = b[name]
		}
	}
}

// Tags of the values that a charter may have (YAML 1.2, section 10.3).
const (
	nullTag  = "!!null"
	boolTag  = "!!bool"
	intTag   = "!!int"
	floatTag = "!!float"
)

const written = "anchors, tags and the like are not used in charters: write it out, or use a variable"

// value gives what a node of YAML is in JSON.
func (r *reader) value(file, path string, n *yaml.Node, depth int) any {
	at := position{file, n.Line, n.Column}
	if _, there := r.at[path]; !there || depth > 0 {
		r.at[path] = at
	}
	switch {
	case depth > maxDepth:
		r.add(at, "this is more than %d deep", maxDepth)
		return nil
	case n.Kind == yaml.AliasNode || n.Anchor != "" || n.Style&yaml.TaggedStyle != 0:
		r.add(at, written)
		return nil
	}
	switch n.Kind {
	case yaml.MappingNode:
		return r.mapping(file, path, n.Content, depth)
	case yaml.SequenceNode:
		out := []any{}
		for i, x := range n.Content {
			out = append(out, r.value(file, fmt.Sprintf("%s[%d]", path, i), x, depth+1))
		}
		return out
	}
	switch n.Tag {
	case nullTag:
		return nil
	case boolTag:
		return strings.EqualFold(n.Value, "true")
	case intTag, floatTag:
		v, err := strconv.ParseFloat(strings.ReplaceAll(n.Value, "_", ""), 64)
		if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
			r.add(at, "%q is no number", n.Value)
		}
		return v
	}
	return n.Value // a text, or a date, which is one here
}

// mapping gives what names and values are, which stand by turns.
func (r *reader) mapping(file, path string, pairs []*yaml.Node, depth int) any {
	out := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		key, v := pairs[i], pairs[i+1]
		name, at := key.Value, position{file, key.Line, key.Column}
		if key.Kind != yaml.ScalarNode || key.Tag == "!!merge" || key.Anchor != "" || key.Style&yaml.TaggedStyle != 0 {
			r.add(at, written)
			continue
		}
		if _, twice := out[name]; twice {
			r.add(at, "%s is here twice", name)
			continue
		}
		sub := name
		if path != "" {
			sub = path + "." + name
		}
		out[name] = r.value(file, sub, v, depth+1)
		r.at[sub] = at
	}
	return out
}

// reference is a variable in a text, or with a second $ before it the text itself.
var reference = regexp.MustCompile(`\$?\$\{([A-Za-z][A-Za-z0-9_-]*)\}`)

// Literal writes a text so that it is read as it is.
func Literal(s string) string {
	return reference.ReplaceAllStringFunc(s, func(s string) string { return "$" + s })
}

// filled puts the values of variables into texts. What all of it comes to has a bound: a variable
// that is used often is written out each time.
func (r *reader) filled(path string, v any) any {
	if r.grow(1, 0); r.grown {
		return nil
	}
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, x := range v {
			sub := name
			if path != "" {
				sub = path + "." + name
			}
			out[name] = r.filled(sub, x)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = r.filled(fmt.Sprintf("%s[%d]", path, i), x)
		}
		return out
	case string:
		return r.text(path, v)
	}
	return v
}

// text puts variables into a text; one that is nothing but a variable takes its value as it is.
func (r *reader) text(path, v string) any {
	if m := reference.FindStringSubmatch(v); m != nil && m[0] == v && v[1] == '{' {
		if x, ok := r.variables[m[1]]; ok {
			return r.plain(x)
		}
	}
	var b strings.Builder
	at := 0
	for _, m := range reference.FindAllStringSubmatchIndex(v, -1) {
		b.WriteString(v[at:m[0]])
		at = m[1]
		if s := v[m[0]:m[1]]; s[1] == '$' {
			b.WriteString(s[1:])
			continue
		}
		x, ok := r.variables[v[m[2]:m[3]]]
		if !ok {
			r.add(r.nearest(path), "there is no variable %s", v[m[2]:m[3]])
			continue
		}
		if says := fmt.Sprint(r.plain(x)); !r.grown {
			if r.grow(0, len(says)); !r.grown {
				b.WriteString(says)
			}
		}
	}
	b.WriteString(v[at:])
	r.grow(0, len(v))
	return b.String()
}

// plain copies the value of a variable, in which variables are texts.
func (r *reader) plain(v any) any {
	if r.grow(1, 0); r.grown {
		return nil
	}
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, x := range v {
			out[name] = r.plain(x)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = r.plain(x)
		}
		return out
	case string:
		r.grow(0, len(v))
	}
	return v
}

// grow counts what the charter comes to, and says once that it is too much.
func (r *reader) grow(nodes, bytes int) {
	r.nodes, r.bytes = r.nodes+nodes, r.bytes+bytes
	if !r.grown && (r.nodes > maxNodes || r.bytes > maxGrown) {
		r.grown = true
		r.add(position{r.first, 1, 1}, "with its variables put in, the charter has more than %d values or %d MiB", maxNodes,
			maxGrown>>20)
	}
}
