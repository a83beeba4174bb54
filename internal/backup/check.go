package backup

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/keyring"
	"spindle/internal/postgres"
)

// Checking says what is checked.
type Checking struct {
	Folder     string
	Name       string // of the backup; "" for the latest
	All        bool   // every body is read; one in sampleOf otherwise, the others are looked at
	MasterKey  string // instead of the backup's copy
	Passphrase string // of the copy
	Unproved   bool   // a backup is checked that nothing proves; see proved
	Log        *slog.Logger
	Progress   func(what string, bytes int64)

	look bool // whether they are there: none but small ones are read
}

// sampleOf is of how many large bodies one is read when not all are. Small ones are read all.
const sampleOf = 50

// Checked is what was found.
type Checked struct {
	*Manifest
	Bodies  int64    `json:"bodies"`          // looked at
	Read    int64    `json:"read"`            // bytes that were compared with their digests
	Skipped int64    `json:"skipped"`         // bodies at endpoints, which are not in the backup
	Wrong   int64    `json:"wrong"`           // bodies that are missing or not what they were
	First   []string `json:"first,omitempty"` // the first of them, with why
}

// Check loads the catalog of a backup into a database of its own, and looks whether every body
// that it refers to is there, and what it was.
func (in *Checking) Check(ctx context.Context) (*Checked, error) {
	m, err := Find(in.Folder, in.Name)
	if err != nil {
		return nil, err
	}
	folder, err := reading(in.Folder)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	key := in.MasterKey
	if key == "" {
		if key, err = openKey(in.Folder, m, in.Passphrase); err != nil {
			return nil, err
		}
	}
	if !in.Unproved {
		if err := proved(in.Folder, m, key); err != nil {
			return nil, err
		}
	}
	if err := in.files(m); err != nil {
		return nil, err
	}
	tmp, err := os.MkdirTemp("", "spindle-check-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(tmp)
	if err := os.Chmod(tmp, 0o711); err != nil { // the database's user passes through
		return nil, err
	}
	server, err := postgres.Start(ctx, filepath.Join(tmp, "postgres"), in.Log)
	if err != nil {
		return nil, err
	}
	defer server.Stop()
	if err := fill(ctx, in.Folder, m, server.URL("postgres")); err != nil {
		return nil, err
	}
	cat, err := catalog.Open(ctx, server.URL("postgres"))
	if err != nil {
		return nil, err
	}
	defer cat.Close()
	keys, err := keyring.Open(ctx, cat, "", key)
	if err != nil {
		return nil, err
	}
	spaces, err := in.spaces(ctx, cat, m, keys)
	if err != nil {
		return nil, err
	}
	defer spaces.Each(func(s bodies.Space) error { return s.Close() })
	out := &Checked{Manifest: m}
	return out, in.walk(ctx, cat, spaces, out)
}

// files compares what the backup has beside its catalog with the digests of its manifest.
func (in *Checking) files(m *Manifest) error {
	for name, want := range map[string]string{hasFile: m.Has, baseFile: m.baseDigest()} {
		if want == "" {
			continue
		}
		if sum, _, err := digestOf(filepath.Join(in.Folder, m.Name, name)); err != nil || sum != want {
			return fault.New(fault.Damaged, "backup-file", "%s of the backup %s is not what it was", name, m.Name).In("backup").
				Do("bring it back from where the folder was copied to, or take another backup").Because(err)
		}
	}
	return nil
}

func (m *Manifest) baseDigest() string {
	if m.Base == nil {
		return ""
	}
	return m.Base.Digest
}

// spaces opens the backup's volumes as those of a service.
func (in *Checking) spaces(ctx context.Context, cat *catalog.Catalog, m *Manifest, keys bodies.Sealer) (*bodies.Spaces,
	error) {
	tiers, err := cat.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	at := map[string]string{}
	var first *bodies.Volume
	for _, v := range m.Volumes {
		dir := filepath.Join(in.Folder, volumesDir, v.Marker)
		if at[v.Marker] = dir; v.Tier == tier.MainName {
			first = bodies.OpenMarked(dir, tier.Main, v.Marker)
			first.SealWith(keys)
		}
	}
	if first == nil {
		return nil, fault.New(fault.Damaged, "backup-manifest", "the backup has no volume of the tier main").In("backup")
	}
	out := bodies.NewSpaces(first)
	for _, t := range tiers {
		if t.ID == tier.Main || t.Elsewhere() != nil {
			continue
		}
		for i := range t.Volumes {
			if dir := at[t.Volumes[i].Marker]; dir != "" {
				t.Volumes[i].Dir = dir
			}
		}
		out.Put(t.ID, bodies.NewShelf(t, keys, func(bodies.Owed) error { return nil }))
	}
	return out, nil
}

// walk looks at every body.
func (in *Checking) walk(ctx context.Context, cat *catalog.Catalog, spaces *bodies.Spaces, out *Checked) error {
	var at catalog.WalkPlace
	for more := true; more; {
		var list []catalog.Stored
		var err error
		if list, at, more, err = cat.WalkBodies(ctx, at, 500); err != nil {
			return err
		}
		for _, s := range list {
			space, err := spaces.Of(s.Version.Body.Tier)
			if err != nil {
				out.Skipped++
				continue
			}
			out.Bodies++
			if err := in.one(ctx, space, s.Version, out); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				if out.Wrong++; len(out.First) < 20 {
					out.First = append(out.First, fmt.Sprintf("%s: %s", s.Version.Key, fault.From(err).Message))
				}
			}
		}
	}
	return nil
}

// one looks at a body, and reads it when that is asked for, when it is small, or now and then.
func (in *Checking) one(ctx context.Context, space bodies.Space, v *object.Version, out *Checked) error {
	if v.Body.Offset >= 0 || !in.look && (in.All || out.Bodies%sampleOf == 0) {
		return space.Check(ctx, v.Body, v.Size, v.CRC64, func(n int) error {
			out.Read += int64(n)
			if in.Progress != nil {
				in.Progress("read", int64(n))
			}
			return ctx.Err()
		})
	}
	w, err := space.Open(ctx, v.Body, v.Size)
	if err != nil {
		return err
	}
	return w.Close()
}
