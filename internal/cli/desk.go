package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// profile is a saved service address and key.
type profile struct {
	URL    string `yaml:"url"`
	Key    string `yaml:"key"`
	Secret string `yaml:"secret"`
}

// profiles is the file of them.
type profiles struct {
	Use      string             `yaml:"use"`
	Profiles map[string]profile `yaml:"profiles"`
}

func (a *app) profilePath() (string, error) {
	if dir := a.Getenv("SPINDLE_PROFILES"); dir != "" {
		return dir, nil
	}
	dir := a.Getenv("XDG_CONFIG_HOME")
	if dir == "" {
		home := a.Getenv("HOME")
		if home == "" {
			return "", fault.New(fault.Invalid, "no-home", "there is no home directory to keep profiles in").In("HOME").
				Do("set HOME, or SPINDLE_PROFILES to a file")
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "spindle", "profiles.yaml"), nil
}

func (a *app) readProfiles() (*profiles, error) {
	p := &profiles{Profiles: map[string]profile{}}
	path, err := a.profilePath()
	if err != nil {
		return nil, err
	}
	b, err := readOwn(path)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return nil, err
	}
	if err := yaml.Unmarshal(b, p); err != nil {
		return nil, fault.New(fault.Invalid, "profiles", "%s cannot be read: %s", path, err).In("profile").
			Do("mend the file, or move it away and connect again")
	}
	if p.Profiles == nil {
		p.Profiles = map[string]profile{}
	}
	return p, nil
}

// profilesMost is how many bytes a file of profiles may have.
const profilesMost = 64 << 10

// readOwn reads a file that decides where secrets go: one of moderate size that nobody else may
// change. The error has the code profiles.
func readOwn(path string) ([]byte, error) {
	bad := func(format string, args ...any) *fault.Error {
		return fault.New(fault.Invalid, "profiles", "%s "+format, append([]any{path}, args...)...).In("profile")
	}
	st, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case !st.Mode().IsRegular():
		return nil, bad("is no ordinary file").Do("move it away and connect again")
	case st.Mode().Perm()&0o022 != 0:
		return nil, bad("decides where your secrets go, and others may change it").Do("chmod 600 %s", path)
	case st.Size() > profilesMost:
		return nil, bad("has more than %s", size(profilesMost)).Do("move it away and connect again")
	}
	return os.ReadFile(path)
}

func (a *app) writeProfiles(p *profiles) error {
	path, err := a.profilePath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := yaml.Marshal(p)
	if err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".profiles-*") // made with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(b); err != nil {
		return errors.Join(err, tmp.Close())
	}
	if err := errors.Join(tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

// desk talks to a desk.
type desk struct {
	look bool // see looking

	base string
	key  sign.Credential
	hc   *http.Client
	info *api.ServiceInfo
	wire *client.Client

	pages *paging
	hints []string // of the last question that found nothing
}

// lineMost is how many bytes a line of a stream may have.
const lineMost = 16 << 20

// answerMost is how many bytes of an answer are read, of those that are no stream.
const answerMost = 256 << 20

// open finds the service to talk to: the environment first, then the profile.
func (a *app) open(c *cli.Command) (*desk, error) {
	p := profile{URL: a.Getenv("SPINDLE_URL"), Key: a.Getenv("SPINDLE_KEY"), Secret: a.Getenv("SPINDLE_SECRET")}
	if p.URL == "" || c.String("profile") != "" {
		ps, err := a.readProfiles()
		if err != nil {
			return nil, err
		}
		name := c.String("profile")
		if name == "" {
			name = ps.Use
		}
		if name == "" {
			return nil, fault.New(fault.Invalid, "no-profile", "no service is known yet").In("profile").
				Do("run spindle connect URL, or set SPINDLE_URL, SPINDLE_KEY and SPINDLE_SECRET")
		}
		var ok bool
		if p, ok = ps.Profiles[name]; !ok {
			return nil, fault.New(fault.NotFound, "profile-missing", "there is no profile %q", name).In("profile").
				Do("see spindle profile list")
		}
	} else if p.Key == "" || p.Secret == "" {
		return nil, fault.New(fault.Invalid, "no-key", "SPINDLE_URL is set, and SPINDLE_KEY or SPINDLE_SECRET is not").
			In("SPINDLE_KEY").Do("set all three")
	}
	return newAPI(p)
}

func newAPI(p profile) (*desk, error) {
	u, err := url.Parse(p.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fault.New(fault.Invalid, "address", "%q is no address of a service", p.URL).In("url").
			Do("give the desk's address, for instance http://127.0.0.1:5711")
	}
	return &desk{base: u.Scheme + "://" + u.Host, key: sign.Credential{ID: p.Key, Secret: p.Secret},
		pages: &paging{byPath: map[string]*turns{}},
		hc:    &http.Client{Transport: client.Transport()}}, nil
}

// call asks the desk. in and out may be nil.
func (p *desk) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	if err := p.pages.turned(method, path, query); err != nil {
		return err
	}
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	sum := sha256.Sum256(body)
	return p.send(ctx, method, path, query, bytes.NewReader(body), hex.EncodeToString(sum[:]), "application/json", out)
}

func (p *desk) send(ctx context.Context, method, path string, query url.Values, body io.Reader, payload,
	contentType string, out any) error {
	resp, err := p.open(ctx, method, path, query, body, payload, contentType)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, answerMost)).Decode(out); err != nil {
		return foreign(resp.StatusCode).Because(err)
	}
	return nil
}

// open makes a call whose answer, which is no error, the caller reads and closes.
func (p *desk) open(ctx context.Context, method, path string, query url.Values, body io.Reader, payload,
	contentType string) (*http.Response, error) {
	return p.ask(ctx, method, path, query, body, -1, payload, contentType)
}

// openSized is open with a body whose length is known.
func (p *desk) openSized(ctx context.Context, method, path string, query url.Values, body io.Reader, length int64,
	payload string) (*http.Response, error) {
	return p.ask(ctx, method, path, query, body, length, payload, "application/octet-stream")
}

func (p *desk) ask(ctx context.Context, method, path string, query url.Values, body io.Reader, length int64, payload,
	contentType string) (*http.Response, error) {
	u := p.base + path
	if len(query) > 0 {
		u += "?" + strings.ReplaceAll(query.Encode(), "+", "%20")
	}
	r, err := http.NewRequestWithContext(ctx, method, u, body)
	if err != nil {
		return nil, err
	}
	if length >= 0 {
		r.ContentLength = length
	}
	r.Header.Set("Content-Type", contentType)
	sign.SignDesk(r, p.key, "desk", payload, time.Now())
	resp, err := p.hc.Do(r)
	if err != nil {
		return nil, client.Unreachable(err)
	}
	if resp.StatusCode >= 300 {
		defer resp.Body.Close()
		return nil, deskError(resp)
	}
	return resp, nil
}

// stream makes a call that answers in JSON lines, and gives each to f.
func stream[T any](ctx context.Context, p *desk, path string, in any, f func(T) error) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(body)
	resp, err := p.open(ctx, http.MethodPost, path, nil, bytes.NewReader(body), hex.EncodeToString(sum[:]),
		"application/json")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, lineMost)
	for lines.Scan() {
		var line T
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
			return foreign(resp.StatusCode).Because(err)
		}
		if err := f(line); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return client.Unreachable(err)
	}
	return nil
}

func foreign(status int) *fault.Error {
	return fault.New(fault.Unavailable, "foreign", "the address answers with status %d, and not as a desk does", status).
		In("url").
		Do("give the desk's address (by default port 5711); the wire's is found from there")
}

func deskError(resp *http.Response) error {
	var pr api.Problem
	if json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&pr) != nil || pr.Code == "" {
		return foreign(resp.StatusCode)
	}
	return pr.Fault()
}

// wireClient gives a client of the wire that belongs to the desk.
func (p *desk) wireClient(ctx context.Context) (*client.Client, error) {
	if p.wire != nil {
		return p.wire, nil
	}
	info, err := p.service(ctx)
	if err != nil {
		return nil, err
	}
	p.wire, err = client.New(info.Wire.URL, info.Region, p.key)
	return p.wire, err
}

func (p *desk) service(ctx context.Context) (*api.ServiceInfo, error) {
	if p.info == nil {
		var info api.ServiceInfo
		if err := p.call(ctx, http.MethodGet, "/api/v1/service", nil, nil, &info); err != nil {
			return nil, err
		}
		if info.Product != "spindle" {
			return nil, foreign(200)
		}
		p.info = &info
	}
	return p.info, nil
}

func bucketCall(bucket, rest string) string {
	return "/api/v1/buckets/" + url.PathEscape(bucket) + rest
}

// page gives a page of a bucket, as of a moment unless that is "".
func (p *desk) page(ctx context.Context, bucket, prefix, delimiter, after, asOf string, limit int) (*api.ObjectPage,
	error) {
	q := url.Values{"prefix": {prefix}, "delimiter": {delimiter}, "after": {after}, "limit": {fmt.Sprint(limit)},
		"asOf": {asOf}, "look": {strconv.FormatBool(p.look)}}
	var page api.ObjectPage
	return &page, p.call(ctx, http.MethodGet, bucketCall(bucket, "/objects"), q, nil, &page)
}

// each calls f for every object beneath a prefix, in order, until it gives false.
func (p *desk) each(ctx context.Context, bucket, prefix, asOf string, f func(api.ListedObject) (bool, error)) error {
	for after := ""; ; {
		page, err := p.page(ctx, bucket, prefix, "", after, asOf, 1000)
		if err != nil {
			return err
		}
		for _, o := range page.Objects {
			if on, err := f(o); err != nil || !on {
				return err
			}
		}
		if page.Next == "" {
			return nil
		}
		after = page.Next
	}
}

// show gives an object; a prefix is said to be one.
func (p *desk) show(ctx context.Context, bucket, key, version, asOf string) (*api.ObjectInfo, error) {
	var o api.ObjectInfo
	return &o, p.call(ctx, http.MethodGet, bucketCall(bucket, "/object"),
		url.Values{"key": {key}, "version": {version}, "asOf": {asOf}, "look": {strconv.FormatBool(p.look)}}, nil, &o)
}

// looking has the service look whether the bytes of what it tells of are there.
func (p *desk) looking() *desk {
	q := *p
	q.look = true
	return &q
}

// remove asks for a removal or its rehearsal.
func (p *desk) remove(ctx context.Context, bucket string, in api.RemoveIn) (q api.Quantity, err error) {
	return q, p.call(ctx, http.MethodPost, bucketCall(bucket, "/remove"), nil, in, &q)
}
