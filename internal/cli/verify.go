package cli

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/transfer"
)

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{Name: "verify", Usage: "compare files with objects by digest, without downloading them",
		ArgsUsage: "FILE BUCKET/KEY | BUCKET/PREFIX/ FOLDER",
		Description: "The digest of the whole content is compared, however the object was put. For an object " +
			"uploaded in parts, its ETag is computed from the file too, with the part size that was used or " +
			"--part-size. The service checks that the stored bytes exist and are not known to be damaged; to " +
			"read all of them, use spindle scrub run. Exits with 5 when something differs or cannot be read.\n\n" +
			examples("spindle object verify ./FH-004217-recto.tif plates/2023/shore/FH-004217-recto.tif",
				"spindle object verify germination/tray-07/ ./tray-07",
				"spindle object verify ./mosaic.tif plates/2026/mosaic.tif --part-size 64MiB"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "part-size", Usage: "`SIZE` of the parts that the ETag was made from"},
			versionFlag()},
		Action: a.objectVerify}
}

// verified tells of one comparison.
type verified struct {
	Local    string `json:"local"`
	Bucket   string `json:"bucket"`
	Key      string `json:"key"`
	State    string `json:"state"`             // same, differs, unreadable, file missing or object missing
	Problem  string `json:"problem,omitempty"` // what is wrong with the stored bytes
	Size     int64  `json:"size"`
	CRC64    string `json:"crc64,omitempty"` // of the file
	ETag     string `json:"etag,omitempty"`
	PartSize int64  `json:"partSize,omitempty"` // with which the file has the object's ETag
}

func (a *app) objectVerify(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	if !isLocal(in[0]) && isLocal(in[1]) { // a prefix against a folder
		return a.verifyTree(ctx, c, in[0], in[1])
	}
	if !isLocal(in[0]) {
		return wrongUsage("%q is no local path: begin it with / or ./", in[0])
	}
	bucket, key, err := split(in[1])
	if err != nil {
		return err
	}
	var partSize *int64
	if s := c.String("part-size"); s != "" {
		if partSize, err = parseSize("part-size", s); err != nil {
			return err
		}
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	o, err := p.looking().show(ctx, bucket, key, c.String("version"), "")
	if err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	v := &verified{Local: in[0], Bucket: bucket, Key: key, State: "differs", ETag: o.ETag}
	if err := v.compare(o, partSize); err != nil {
		return transfer.LocalError(in[0], err)
	}
	if err := a.print(v, func() error {
		_, err := fmt.Fprintln(a.Out, v.says(shown(in[0]), shown(in[1]), o))
		return err
	}); err != nil {
		return err
	}
	if v.State != "same" {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// compare reads the file and finds how it stands to an object; partSize is nil when it is to be found.
func (v *verified) compare(o *api.ObjectInfo, partSize *int64) error {
	f, err := os.Open(v.Local)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if v.Size = st.Size(); v.Size != o.Size {
		return nil
	}
	if v.CRC64, err = crcOf(f); err != nil || v.CRC64 != o.CRC64() {
		return err
	}
	if v.Problem = o.Problem; v.Problem != "" {
		v.State = "unreadable"
		return nil
	}
	v.State = "same"
	given := int64(0)
	if partSize != nil {
		given = *partSize
	}
	v.PartSize, err = sizeOfParts(f, v.Size, o.ETag, given)
	return err
}

// says tells of the comparison of a file with an object at an address.
func (v *verified) says(file, address string, o *api.ObjectInfo) string {
	switch _, parts, inParts := strings.Cut(o.ETag, "-"); {
	case v.State == "unreadable":
		return fmt.Sprintf("%s has the digest that %s was stored with, but what is stored cannot be read: %s.\n"+
			"Put the file there again.", file, address, v.Problem)
	case v.State != "same":
		return fmt.Sprintf("They differ: %s has %s, %s has %s.", file, has(v.Size, v.CRC64), address,
			has(o.Size, o.CRC64()))
	case inParts && v.PartSize == 0:
		return fmt.Sprintf("%s The ETag %s is of %s parts of a size that was not found: say --part-size.", v.same(), o.ETag,
			parts)
	case inParts:
		return fmt.Sprintf("%s With parts of %s the file has the ETag %s.", v.same(), size(v.PartSize), o.ETag)
	}
	return v.same()
}

func (v *verified) same() string {
	return fmt.Sprintf("The same: %s bytes, CRC-64/NVME %s.", count(v.Size), v.CRC64)
}

func has(n int64, crc string) string {
	if crc == "" {
		return size(n)
	}
	return size(n) + " and CRC-64/NVME " + crc
}

func crcOf(f *os.File) (string, error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	return transfer.CRC64(f)
}

// sizeOfParts finds the size of parts with which a file has an ETag; 0 when none
// was found or the ETag is not one of parts.
func sizeOfParts(f *os.File, n int64, etag string, told int64) (int64, error) {
	_, count, ok := strings.Cut(etag, "-")
	parts, err := strconv.ParseInt(count, 10, 64)
	if !ok || err != nil || parts < 1 {
		return 0, nil
	}
	candidates := []int64{told}
	if told == 0 {
		candidates = nil
		least := (n + parts - 1) / parts
		seen := map[int64]bool{}
		for _, step := range []int64{1, 1 << 20, 4 << 20, 8 << 20, 16 << 20, 64 << 20, 1e6} { // exact, or rounded up
			s := (least + step - 1) / step * step
			if s > 0 && !seen[s] && (n+s-1)/s == parts {
				seen[s] = true
				candidates = append(candidates, s)
			}
		}
		for s := int64(object.MinPart); s <= object.MaxSize && len(candidates) < 16; s *= 2 {
			if !seen[s] && (n+s-1)/s == parts {
				seen[s] = true
				candidates = append(candidates, s)
			}
		}
	}
	for _, s := range candidates {
		sums := md5.New()
		buf := make([]byte, 256<<10)
		for at := int64(0); at < n; at += s {
			h := md5.New()
			if _, err := io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{io.NewSectionReader(f, at, min(s, n-at))},
				buf); err != nil {
				return 0, err
			}
			sums.Write(h.Sum(nil))
		}
		if hex.EncodeToString(sums.Sum(nil))+"-"+count == etag {
			return s, nil
		}
	}
	return 0, nil
}

// tree compares a prefix with a folder.
type tree struct {
	a                      *app
	bucket, prefix, folder string
	left                   map[string]bool // files that no object was found for yet
	same, different        int
}

func (a *app) verifyTree(ctx context.Context, c *cli.Command, address, folder string) error {
	bucket, prefix, err := split(address)
	if err != nil {
		return err
	}
	if prefix != "" && !strings.HasSuffix(prefix, "/") {
		return wrongUsage("end the prefix with a slash: %s/", address)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	t := &tree{a: a, bucket: bucket, prefix: prefix, folder: folder, left: map[string]bool{}}
	if err := t.walk(); err != nil {
		return err
	}
	if err := p.looking().each(ctx, bucket, prefix, "", func(o api.ListedObject) (bool, error) {
		v, err := t.compare(o)
		if err == nil {
			err = t.tell(v)
		}
		return ctx.Err() == nil, err
	}); err != nil {
		return err
	}
	if err := t.tellLeft(); err != nil {
		return err
	}
	if t.same+t.different == 0 {
		return fault.New(fault.NotFound, "nothing", "there is neither an object nor a file").In("prefix")
	}
	if !a.json {
		a.note("%s the same, %s", things(int64(t.same), "is", "are"),
			things(int64(t.different), "differs or is missing", "differ or are missing"))
	}
	if t.different > 0 {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// walk finds the files of the folder.
func (t *tree) walk() error {
	return filepath.WalkDir(t.folder+"/", func(path string, d fs.DirEntry, err error) error { // "/": it may be a link
		if err != nil {
			return transfer.LocalError(path, err)
		}
		if d.Type().IsRegular() {
			t.left[filepath.Clean(path)] = true
		}
		return nil
	})
}

// compare says how an object stands to its file.
func (t *tree) compare(o api.ListedObject) (verified, error) {
	v := verified{Bucket: t.bucket, Key: o.Key, Size: o.Size, ETag: o.ETag, State: "file missing"}
	rel, err := object.SafePath(strings.TrimPrefix(o.Key, t.prefix))
	if err != nil {
		return v, nil // no file can have this name
	}
	v.Local = filepath.Join(t.folder, filepath.FromSlash(rel))
	delete(t.left, filepath.Clean(v.Local))
	st, err := os.Stat(v.Local)
	if err != nil {
		return v, nil
	}
	same, err := transfer.SameFile(v.Local, st, o.Size, o.CRC64)
	switch {
	case err != nil:
		return v, transfer.LocalError(v.Local, err)
	case !same:
		v.State = "differs"
	case o.Problem != "":
		v.State, v.Problem = "unreadable", o.Problem
	default:
		v.State = "same"
	}
	return v, nil
}

// tell counts what was found, and prints what is not the same; programs are told all of it.
func (t *tree) tell(v verified) error {
	if v.State == "same" {
		if t.same++; !t.a.json {
			return nil
		}
	} else {
		t.different++
	}
	return t.a.print(v, func() error {
		line := fmt.Sprintf("%-14s  %s  %s", v.State, shown(v.Local), shown(v.Bucket+"/"+v.Key))
		if v.Problem != "" {
			line += "  (" + v.Problem + ")"
		}
		_, err := fmt.Fprintln(t.a.Out, line)
		return err
	})
}

// tellLeft tells of the files that there are no objects of.
func (t *tree) tellLeft() error {
	for _, path := range sortedKeys(t.left) {
		rel, err := filepath.Rel(t.folder, path)
		if err != nil {
			return err
		}
		if err := t.tell(verified{Local: path, Bucket: t.bucket, Key: t.prefix + filepath.ToSlash(rel),
			State: "object missing"}); err != nil {
			return err
		}
	}
	return nil
}
