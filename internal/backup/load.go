package backup

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// sound refuses a catalog that is not the one the manifest tells of.
func sound(folder string, m *Manifest) (path string, err error) {
	path = filepath.Join(folder, m.Name, dumpFile)
	sum, size, err := digestOf(path)
	if err != nil {
		return "", fault.New(fault.Damaged, "backup-dump", "the catalog of the backup %s cannot be read",
			m.Name).In("backup").
			Do("take another backup").Because(err)
	}
	if sum != m.Dump || size != m.Size {
		return "", fault.New(fault.Damaged, "backup-dump", "the catalog of the backup %s is not what it was", m.Name).
			In("backup").Do("take another backup, or bring the file back from where the folder was copied to")
	}
	return path, nil
}

// load has the database's own program write a backup's catalog into an empty database of
// somebody's own, with that one's role.
func load(ctx context.Context, folder string, m *Manifest, url string) error {
	path, err := sound(folder, m)
	if err != nil {
		return err
	}
	cmd, err := program(ctx, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--dbname="+url, path)
	if err != nil {
		return err
	}
	return ran(cmd)
}

// fill writes the data of a backup's catalog into an empty private database: tables and functions
// are this program's, and the role that writes may write to the tables and do nothing else.
func fill(ctx context.Context, folder string, m *Manifest, url string) (err error) {
	path, err := sound(folder, m)
	if err != nil {
		return err
	}
	version, err := schemaOf(ctx, path)
	if err != nil {
		return err
	}
	entries, err := contents(ctx, path)
	if err != nil {
		return err
	}
	var parts []string
	for _, e := range entries {
		parts = append(parts, e.table)
	}
	f, err := catalog.Fill(ctx, url, version, parts)
	if err != nil {
		return err
	}
	list, err := os.CreateTemp("", "spindle-dump-")
	if err != nil {
		return err
	}
	defer os.Remove(list.Name())
	defer list.Close()
	for _, e := range entries {
		if e.table == "" || f.Tables[e.table] {
			fmt.Fprintln(list, e.line)
		} else if e.table != "goose_db_version" && e.table != "functions" {
			return notOurs(m, e.line)
		}
	}
	if err := list.Sync(); err != nil {
		return err
	}
	cmd, err := program(ctx, "pg_restore", "--data-only", "--no-owner", "--exit-on-error", "--use-list="+list.Name(),
		"--dbname="+f.URL, path)
	if err == nil {
		err = ran(cmd)
	}
	if err != nil {
		return err
	}
	return f.Done(ctx)
}

func notOurs(m *Manifest, what string) error {
	return fault.New(fault.Damaged, "backup-dump", "the catalog of the backup %s has what no catalog has: %s", m.Name,
		what).
		In("backup").Do("take another backup: this one was not made by this program")
}

// entry is a row of what a dump has: the data of a table, or ("") where a sequence stands.
type entry struct{ line, table string }

// contents tells which data a dump has. What else is in it is not looked at.
func contents(ctx context.Context, path string) (out []entry, err error) {
	text, err := answer(ctx, "pg_restore", "--list", path)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		_, rest, _ := strings.Cut(line, "; ")
		cells := strings.Fields(rest)
		switch {
		case len(cells) == 7 && cells[2] == "TABLE" && cells[3] == "DATA" && cells[4] == "public":
			out = append(out, entry{line, cells[5]})
		case len(cells) == 7 && cells[2] == "SEQUENCE" && cells[3] == "SET" && cells[4] == "public":
			out = append(out, entry{line, ""})
		}
	}
	return out, nil
}

// schemaOf gives the version of the schema that a dump's data are of.
func schemaOf(ctx context.Context, path string) (version int64, err error) {
	text, err := answer(ctx, "pg_restore", "--data-only", "--table=goose_db_version", "--file=-", path)
	if err != nil {
		return 0, err
	}
	rows := bufio.NewScanner(strings.NewReader(text))
	for in := false; rows.Scan(); {
		switch line := rows.Text(); {
		case strings.HasPrefix(line, "COPY "):
			in = true
		case line == `\.`:
			in = false
		case in:
			if cells := strings.Split(line, "\t"); len(cells) > 2 && cells[2] == "t" {
				if n, err := strconv.ParseInt(cells[1], 10, 64); err == nil {
					version = max(version, n)
				}
			}
		}
	}
	if err := rows.Err(); err != nil || version == 0 {
		return 0, fault.New(fault.Damaged, "backup-dump", "the catalog does not say of which version it is").In("backup").
			Do("take another backup").Because(err)
	}
	return version, nil
}

// answerMost is how many bytes of what a program says are read.
const answerMost = 16 << 20

// answer runs a program and gives what it says.
func answer(ctx context.Context, name string, args ...string) (string, error) {
	cmd, err := program(ctx, name, args...)
	if err != nil {
		return "", err
	}
	out := &capped{most: answerMost}
	cmd.Stdout = out
	err = ran(cmd)
	return out.String(), err
}

// capped keeps as many bytes as it may, and refuses more.
type capped struct {
	bytes.Buffer
	most int
}

// Write adds bytes.
func (c *capped) Write(p []byte) (int, error) {
	if c.Len()+len(p) > c.most {
		return 0, fault.New(fault.TooLarge, "backup-dump", "it says more than %d bytes of itself", c.most).In("backup")
	}
	return c.Buffer.Write(p)
}
