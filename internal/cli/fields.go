package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/transfer"
)

// fields are the metadata and tags that a put is given.
type fields struct {
	metadata map[string]string // of --metadata: wins over a file's
	from     string            // --metadata-from: a file, or with a * each file's own
	tags     object.Tags
}

// pairs reads NAME=VALUE arguments.
func pairs(flag string, in []string) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range in {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return nil, wrongUsage("--%s is NAME=VALUE, not %q", flag, s)
		}
		out[name] = value
	}
	return out, nil
}

func newFields(c *cli.Command) (*fields, error) {
	f := &fields{from: c.String("metadata-from")}
	var err error
	if f.metadata, err = pairs("metadata", c.StringSlice("metadata")); err != nil {
		return nil, err
	}
	tags, err := pairs("tag", c.StringSlice("tag"))
	if err != nil {
		return nil, err
	}
	if f.tags, err = object.NewTags(tags, object.MaxTags); err != nil {
		return nil, err
	}
	_, err = object.NewMetadata(f.metadata) // before anything is read
	return f, err
}

// none reports whether nothing is said beside the files themselves.
func (f *fields) none() bool { return len(f.metadata) == 0 && f.from == "" && len(f.tags) == 0 }

// of gives each file's metadata, and the files without the sidecars among them.
func (f *fields) of(files []transfer.File) ([]transfer.File, []object.Metadata, error) {
	sidecars := map[string]bool{}
	if strings.Contains(f.from, "*") {
		for _, file := range files {
			sidecars[filepath.Clean(f.sidecar(file.Path))] = true
		}
	}
	var kept []transfer.File
	var metas []object.Metadata
	for _, file := range files {
		if sidecars[filepath.Clean(file.Path)] {
			continue
		}
		m, err := f.own(file.Path)
		if err != nil {
			return nil, nil, err
		}
		kept, metas = append(kept, file), append(metas, m)
	}
	return kept, metas, nil
}

// sidecar gives the file that a file's metadata stands in.
func (f *fields) sidecar(local string) string { return strings.ReplaceAll(f.from, "*", local) }

// own gives the metadata of one file.
func (f *fields) own(local string) (object.Metadata, error) {
	all := map[string]string{}
	if f.from != "" {
		name := f.sidecar(local)
		read, err := readFields(name)
		switch {
		case err != nil && strings.Contains(f.from, "*") && fault.KindOf(err) == fault.NotFound:
			// This file has no sidecar.
		case err != nil:
			return nil, err
		}
		all = object.Edit{Set: read}.Apply(nil, true)
	}
	m, err := object.NewMetadata(object.Edit{Set: f.metadata}.Apply(all, true))
	if err != nil && f.from != "" {
		e := fault.From(err)
		e.Message = f.sidecar(local) + ": " + e.Message
		return nil, e
	}
	return m, err
}

// used says how much of the room for metadata was taken, when any was given.
func (f *fields) used(a *app, metas []object.Metadata) error {
	most := 0
	for _, m := range metas {
		most = max(most, m.Size())
	}
	if most == 0 {
		return nil
	}
	what := "Metadata takes"
	if len(metas) > 1 {
		what = "Metadata takes at most"
	}
	_, err := fmt.Fprintf(a.Out, "%s %s of %s bytes.\n", what, count(int64(most)), count(object.MaxMetadata))
	return err
}

// maxSidecar is the greatest size of a file of fields.
const maxSidecar = 1 << 20

// readFields reads a file of fields: JSON or YAML by its ending, otherwise
// name=value lines, with # before comments.
func readFields(name string) (map[string]string, error) {
	st, err := os.Stat(name)
	if err != nil {
		return nil, transfer.LocalError(name, err)
	}
	if st.Size() > maxSidecar {
		return nil, fault.New(fault.Invalid, "sidecar", "%s has %s; a file of fields has 1 MiB at most", name,
			size(st.Size())).In("metadata-from")
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return nil, transfer.LocalError(name, err)
	}
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "sidecar", "%s: %s", name, fmt.Sprintf(format, args...)).In("metadata-from").
			Do("write name=value lines, or one flat document of fields")
	}
	out := map[string]string{}
	var doc map[string]any
	switch strings.ToLower(filepath.Ext(name)) {
	case ".json":
		d := json.NewDecoder(strings.NewReader(string(b)))
		d.UseNumber()
		err = d.Decode(&doc)
	case ".yaml", ".yml":
		err = yaml.Unmarshal(b, &doc)
	default:
		return fieldLines(string(b), bad)
	}
	if err != nil {
		return nil, bad("%s", err)
	}
	for field, v := range doc {
		switch v := v.(type) {
		case string:
			out[field] = v
		case bool, json.Number, int, int64, uint64, float64:
			out[field] = fmt.Sprint(v)
		case nil:
			out[field] = ""
		default:
			return nil, bad("the field %q is no single value", field)
		}
	}
	return out, nil
}

// fieldLines reads name=value lines, with # before comments.
func fieldLines(text string, bad func(format string, args ...any) error) (map[string]string, error) {
	out := map[string]string{}
	n := 0
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		field, value, ok := strings.Cut(line, "=")
		if !ok {
			return nil, bad("line %d has no =", n)
		}
		field = strings.TrimSpace(field)
		if _, twice := out[field]; twice {
			return nil, bad("line %d: the field %q is given twice", n, field)
		}
		out[field] = strings.TrimSpace(value)
	}
	return out, nil
}
