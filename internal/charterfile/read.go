package charterfile

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"spindle/internal/core/fault"
)

// Bounds of files.
const (
	MaxFiles = 200
	MaxBytes = 2 << 20 // of all of them
	maxDepth = 40
	maxLine  = 8 << 10 // bytes
	maxWrong = 100     // that are told of
)

// Source is a file of a charter.
type Source struct {
	Name string `json:"name" maxLength:"1000"`
	Text string `json:"text" maxLength:"2097152"`
}

// Complaint is what is wrong with the value at a path, such as buckets.plates.quota.
type Complaint struct{ Path, Says string }

// Read gives what files declare, as a document in JSON has it. set goes before the variables
// of the files. check finds what else is wrong. The error joins all that is wrong, each with
// the code charter and, as its field, file:line:column.
func Read(files []Source, set map[string]string, check func(map[string]any) []Complaint) (map[string]any, error) {
	r := &reader{at: map[string]position{}, variables: map[string]any{}}
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
		case open > maxDepth || len(line)-len(body) > 8*maxDepth || strings.Count(line, "[")+strings.Count(line, "{") > 20*maxDepth:
			return i + 1, fmt.Sprintf("this is more than %d deep", maxDepth)
		}
	}
	return 0, ""
}

// file reads one file into the tree.
func (r *reader) file(f Source, tree map[string]any) {
	if line, says := tooDeep(f.Text); says != "" {
		r.add(position{f.Name, line, 1}, "%s", says)
		return
	}
	doc, err := parser.ParseBytes([]byte(f.Text), 0)
	if err != nil {
		at := position{f.Name, 1, 1}
		var bad interface{ GetToken() *token.Token }
		if errors.As(err, &bad) && bad.GetToken() != nil {
			at.line, at.col = bad.GetToken().Position.Line, bad.GetToken().Position.Column
		}
		says, _, _ := strings.Cut(err.Error(), "\n")
		r.add(at, "this is no YAML: %s", places.ReplaceAllString(says, ""))
		return
	}
	for _, d := range doc.Docs {
		if d.Body == nil {
			continue
		}
		m, ok := r.value(f.Name, "", d.Body, 0).(map[string]any)
		if !ok {
			r.add(position{f.Name, 1, 1}, "a charter is sections with names")
			continue
		}
		r.merge(f.Name, tree, m)
	}
}

// places are the line and column that the parser writes before what it says.
var places = regexp.MustCompile(`^\[\d+:\d+\] `)

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
			if was != v {
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

// value gives what a node of YAML is in JSON.
func (r *reader) value(file, path string, n ast.Node, depth int) any {
	at := position{file: file}
	if t := n.GetToken(); t != nil {
		at.line, at.col = t.Position.Line, t.Position.Column
	}
	if _, there := r.at[path]; !there || depth > 0 {
		r.at[path] = at
	}
	if depth > maxDepth {
		r.add(at, "this is more than %d deep", maxDepth)
		return nil
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		return r.mapping(file, path, n.Values, depth)
	case *ast.MappingValueNode:
		return r.mapping(file, path, []*ast.MappingValueNode{n}, depth)
	case *ast.SequenceNode:
		out := []any{}
		for i, x := range n.Values {
			out = append(out, r.value(file, fmt.Sprintf("%s[%d]", path, i), x, depth+1))
		}
		return out
	case *ast.StringNode:
		return n.Value
	case *ast.LiteralNode:
		return n.Value.Value
	case *ast.BoolNode:
		return n.Value
	case *ast.NullNode:
		return nil
	case *ast.IntegerNode, *ast.FloatNode:
		v, err := strconv.ParseFloat(strings.ReplaceAll(n.GetToken().Value, "_", ""), 64)
		if err != nil {
			r.add(at, "%q is no number", n.GetToken().Value)
		}
		return v
	}
	r.add(at, "anchors, tags and the like are not used in charters: write it out, or use a variable")
	return nil
}

func (r *reader) mapping(file, path string, values []*ast.MappingValueNode, depth int) any {
	out := map[string]any{}
	for _, v := range values {
		key := v.Key.GetToken()
		name := key.Value
		at := position{file, key.Position.Line, key.Position.Column}
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			r.add(at, "anchors, tags and the like are not used in charters: write it out, or use a variable")
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
		out[name] = r.value(file, sub, v.Value, depth+1)
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

// filled puts the values of variables into texts.
func (r *reader) filled(path string, v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			sub := name
			if path != "" {
				sub = path + "." + name
			}
			v[name] = r.filled(sub, x)
		}
	case []any:
		for i, x := range v {
			v[i] = r.filled(fmt.Sprintf("%s[%d]", path, i), x)
		}
	case string:
		if m := reference.FindStringSubmatch(v); m != nil && m[0] == v && v[1] == '{' {
			if x, ok := r.variables[m[1]]; ok {
				return x
			}
		}
		return reference.ReplaceAllStringFunc(v, func(s string) string {
			if s[1] == '$' {
				return s[1:]
			}
			x, ok := r.variables[s[2:len(s)-1]]
			if !ok {
				r.add(r.nearest(path), "there is no variable %s", s[2:len(s)-1])
			}
			return fmt.Sprint(x)
		})
	}
	return v
}
