package main

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// allowed says what each layer may import of the house, by the path beneath
// internal/. Imports run one way: faces, then store and works, then catalog,
// bodies and side, then core.
var allowed = map[string][]string{
	"core":            {"core"},
	"catalog":         {"core"},
	"bodies":          {"core"},
	"postgres":        {"core"},
	"store":           {"bodies", "catalog", "core"},
	"partfile":        {},
	"side":            {"partfile", "store", "bodies", "remote", "wire/client", "catalog", "core"},
	"carry":           {"side", "core"},
	"censusfile":      {"side", "core"},
	"charterfile":     {"core"},
	"api":             {"core"}, // what goes over the desk, for those who answer and those who ask
	"backup":          {"keyring", "postgres", "bodies", "catalog", "core"},
	"places":          {"carry", "side", "store", "remote", "catalog", "core"},
	"works/crew":      {"places", "remote", "store", "catalog", "core"},
	"works/orders":    {"works/crew", "store", "bodies", "catalog", "core"},
	"works/ageing":    {"works/orders", "works/crew", "store", "bodies", "catalog", "core"},
	"works/upkeep":    {"works/orders", "works/crew", "store", "bodies", "catalog", "core"},
	"works/replicate": {"works/crew", "side", "store", "remote", "catalog", "core"},
	"works/jobs":      {"works/crew", "places", "carry", "censusfile", "side", "store", "catalog", "core"},
	"works":           {"works/crew", "works/orders", "works/ageing", "works/upkeep", "works/replicate", "works/jobs", "store", "core"},
	"keyring":         {"catalog", "core"},
	"door":            {"core"},
	"remote":          {"wire/sign", "wire/client", "catalog", "core"},
	"gate":            {"door", "keyring", "catalog", "core"},
	"wire/sign":       {"core"},
	"wire/client":     {"wire/sign", "core"},
	"wire/server":     {"wire/sign", "store", "gate", "door", "keyring", "catalog", "core"},
	"wire":            {},
	"standin":         {}, // nothing of the house, so that no mistake is shared
	"desk/middle":     {"api", "store", "works/orders", "works/crew", "gate", "door", "remote", "keyring", "catalog", "core"},
	"desk/house":      {"desk/middle", "api", "store", "gate", "remote", "wire/client", "wire/sign", "catalog", "core"},
	"desk/access": {"desk/house", "desk/middle", "api", "gate", "door", "keyring", "wire/client", "wire/sign", "catalog",
		"core"},
	"desk/jobs": {"desk/access", "desk/house", "desk/middle", "api", "places", "censusfile", "charterfile", "side",
		"store", "works/jobs", "works/orders", "works/replicate", "remote", "wire/client", "catalog", "core"},
	"desk/objects": {"desk/jobs", "desk/access", "desk/house", "desk/middle", "api", "side", "store", "works/ageing", "works/crew", "gate",
		"remote", "wire/client", "wire/sign", "catalog", "core"},
	"desk/console": {},
	"desk": {"desk/middle", "desk/house", "desk/access", "desk/jobs", "desk/objects", "api", "store", "works/jobs", "gate",
		"door", "wire/client", "wire/sign", "catalog", "core"},
	"service": {"places", "backup", "desk", "desk/console", "wire/server", "works", "works/jobs", "works/orders", "works/crew", "side", "store", "gate", "door", "remote", "keyring",
		"postgres",
		"bodies",
		"catalog", "core"},
	"demo":     {"standin", "store", "keyring", "catalog", "core"},
	"transfer": {"partfile", "wire/client", "core"},
	"cli": {"api", "backup", "charterfile", "service", "demo", "works", "standin", "carry", "side", "remote", "transfer",
		"wire/sign", "wire/client", "core"},
	"attack": {"api", "backup", "censusfile", "charterfile", "harness", "service", "desk", "keyring", "wire/client",
		"wire/sign",
		"catalog", "core"},
	"harness": {"service", "standin", "store", "postgres", "works", "keyring", "wire/sign", "wire/client", "bodies",
		"catalog",
		"core"},
}

// machine is what the command line knows of the service itself, by the files that may know it: those whose commands
// work on the machine where the service is. The other commands talk to the desk and the wire.
var machine = map[string][]string{
	"service": {"app.go", "access_people.go", "charter.go", "demo.go", "serve.go"},
	"works":   {"serve.go"},
	"demo":    {"demo.go"},
	"backup":  {"backup.go", "serve.go"},
	"standin": {"standin.go"},
	"carry":   {"sync.go", "sync_back.go"},
	"side":    {"sync.go", "sync_back.go"},
	"remote":  {"sync.go", "sync_back.go"},
}

func TestCommandsTalkToTheDesk(t *testing.T) {
	files, err := filepath.Glob("../../internal/cli/*.go")
	if err != nil || len(files) < 30 {
		t.Fatalf("%d files: %v", len(files), err)
	}
	for _, path := range files {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for room, may := range machine {
			if strings.Contains(string(b), `"spindle/internal/`+room+`"`) && !slices.Contains(may, filepath.Base(path)) {
				t.Errorf("%s imports %s: a command asks the desk", path, room)
			}
		}
	}
}

// ciphers are what core may import beside itself and the standard library: sealing is worth
// nothing when its ciphers are our own, and compression little.
var ciphers = []string{"filippo.io/age", "golang.org/x/crypto/", "golang.org/x/text/unicode/norm",
	"github.com/klauspost/compress/zstd"}

func isCipher(path string) bool {
	return slices.ContainsFunc(ciphers, func(c string) bool { return strings.HasPrefix(path, c) })
}

func layer(path string) string {
	path = strings.TrimPrefix(path, "spindle/internal/")
	found := ""
	for l := range allowed { // the innermost
		if (path == l || strings.HasPrefix(path, l+"/") && l != "wire" && l != "desk" && l != "works") && len(l) > len(found) {
			found = l
		}
	}
	if found == "" {
		return path
	}
	return found
}

func TestImportsRunOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "spindle/internal/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	d := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		seen++
		from := layer(p.ImportPath)
		may, known := allowed[from]
		if !known {
			t.Errorf("%s has no place among the layers: give it one here and in docs/architecture.md", p.ImportPath)
		}
		for _, i := range p.Imports {
			if from == "core" && strings.Contains(strings.Split(i, "/")[0], ".") && !isCipher(i) {
				t.Errorf("%s imports %s: core has the standard library and itself", p.ImportPath, i)
			}
			if from == "core" && (i == "net/http" || i == "database/sql" || i == "os") {
				t.Errorf("%s imports %s: core decides and does nothing else", p.ImportPath, i)
			}
			to := layer(i)
			if !strings.HasPrefix(i, "spindle/internal/") || to == from {
				continue
			}
			ok := false
			for _, m := range may {
				ok = ok || m == to
			}
			if !ok {
				t.Errorf("%s imports %s: %s may not know %s", p.ImportPath, i, from, to)
			}
		}
	}
	if seen < 15 {
		t.Errorf("only %d packages were looked at", seen)
	}
}

// Where the console keeps answers is named in one place: two questions would share one otherwise.
func TestAnswersAreKeptWhereTheyAreNamed(t *testing.T) {
	err := filepath.WalkDir("../../web/src", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.Contains(path, ".ts") {
			return err
		}
		b, err := os.ReadFile(path)
		if strings.Contains(string(b), "queryKey: [") {
			t.Errorf("%s names a place by itself: name it in data/keys.ts", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Files that the documents for developers name are there.
func TestFilesInTheDocumentsAreThere(t *testing.T) {
	b, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`([a-z]+/[a-z_/]+\\.(?:go|sql))`").FindAllStringSubmatch(string(b), -1)
	if len(named) < 30 {
		t.Errorf("only %d files are named", len(named))
	}
	for _, m := range named {
		_, inside := os.Stat("../../internal/" + m[1])
		if _, err := os.Stat("../../" + m[1]); err != nil && inside != nil {
			t.Errorf("architecture.md names %s, which is not there", m[1])
		}
	}
}
