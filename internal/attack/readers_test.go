package attack

import (
	"bytes"
	"context"
	"io/fs"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"spindle/internal/backup"
	"spindle/internal/censusfile"
	"spindle/internal/charterfile"
	"spindle/internal/core/census"
	"spindle/internal/core/charter"
	"spindle/internal/core/sealing"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// What a call may cost that reads what somebody else made.
const (
	memoryMost    = 64 << 20
	processorMost = 2 * time.Second
)

// foreign are the formats of what others make, and what reads them. The error of a reader says nothing here:
// what it costs does, and that it ends.
var foreign = map[string]func(t testing.TB, b []byte){
	"census as CSV":        readCensus(census.CSV),
	"census as JSON lines": readCensus(census.JSONLines),
	"census as Parquet":    readCensus(census.Parquet),
	"charter": func(_ testing.TB, b []byte) {
		_, _ = charterfile.Read([]charter.Source{{Name: "a.yaml", Text: string(b)}}, nil,
			func(map[string]any) []charterfile.Complaint { return nil })
	},
	"manifest of a backup": func(t testing.TB, b []byte) {
		dir := t.TempDir()
		if err := os.MkdirAll(filepath.Join(dir, "2026-12-01T00-00-00Z"), 0o700); err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"manifest.json", "manifest.proof", "bodies.gz"} {
			if err := os.WriteFile(filepath.Join(dir, "2026-12-01T00-00-00Z", name), b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		_, _ = backup.List(dir)
	},
	"mark of a sealed place": func(_ testing.TB, b []byte) { _, _ = sealing.ParseMark(b) },
	"sealed file": func(_ testing.TB, b []byte) {
		keys := sealingKeys()
		if len(b) > sealing.HeaderSize {
			b = b[:sealing.HeaderSize]
		}
		f, err := keys.Open("key", b)
		if err == nil {
			_, _ = keys.OpenAbout("key", f, string(b))
		}
		keys.OpenName(string(b))
	},
}

var sealingKeys = sync.OnceValue(func() *sealing.Keys {
	k, err := sealing.Derive("a phrase that nobody has", sealing.Salt{1})
	if err != nil {
		panic(err)
	}
	return k
})

func readCensus(format census.Format) func(testing.TB, []byte) {
	return func(t testing.TB, b []byte) {
		columns, err := census.ParseColumns(census.Usual)
		if err != nil {
			t.Fatal(err)
		}
		_ = censusfile.Read(format, columns, bytes.NewReader(b), t.TempDir(),
			func(census.Record) (bool, error) { return true, nil })
	}
}

// anEndpoint answers every question with the same bytes, to the client that asks it.
var anEndpoint = sync.OnceValues(func() (*client.Client, *atomic.Pointer[[]byte]) {
	var says atomic.Pointer[[]byte]
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write(*says.Load())
	}))
	c, err := client.New(s.URL, "fenn", sign.Credential{ID: "KEY", Secret: "secret"})
	if err != nil {
		panic(err)
	}
	return c, &says
})

// answered are the calls of an endpoint whose answers are read.
var answered = map[string]func(ctx context.Context, c *client.Client){
	"buckets": func(ctx context.Context, c *client.Client) { _, _ = c.Buckets(ctx) },
	"objects": func(ctx context.Context, c *client.Client) { _, _ = c.List(ctx, "b", "", "/", "", 1000) },
	"versions": func(ctx context.Context, c *client.Client) {
		_, _ = c.ListVersions(ctx, "b", "", client.VersionPlace{}, 1000)
	},
	"tags":       func(ctx context.Context, c *client.Client) { _, _ = c.Tags(ctx, "b", "k") },
	"parts":      func(ctx context.Context, c *client.Client) { _, _ = c.Parts(ctx, "b", "k", "u") },
	"uploads":    func(ctx context.Context, c *client.Client) { _, _ = c.UploadPage(ctx, "b", "", "", "", 1000) },
	"an upload":  func(ctx context.Context, c *client.Client) { _, _ = c.StartUpload(ctx, "b", "k", client.Put{}) },
	"versioning": func(ctx context.Context, c *client.Client) { _, _ = c.Versioning(ctx, "b") },
	"lifecycle":  func(ctx context.Context, c *client.Client) { _, _ = c.Lifecycle(ctx, "b") },
}

func readAnswer(ask func(context.Context, *client.Client)) func(testing.TB, []byte) {
	return func(_ testing.TB, b []byte) {
		c, says := anEndpoint()
		says.Store(&b)
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		ask(ctx, c)
	}
}

func init() {
	for what, ask := range answered {
		foreign["answer of an endpoint, "+what] = readAnswer(ask)
	}
}

// hostile are inputs that lie, nest, repeat and never end, as much of them as anybody sends at once.
func hostile() map[string][]byte {
	const much = 4 << 20
	repeat := func(s string) []byte { return []byte(strings.Repeat(s, much/len(s))) }
	nested := func(open, end string, n int) []byte { return []byte(strings.Repeat(open, n) + strings.Repeat(end, n)) }
	lying := append(repeat("x")[:64<<10], 0xff, 0xff, 0xff, 0x7f, 'P', 'A', 'R', '1')
	return map[string][]byte{
		"nothing": nil, "zeros": make([]byte, much), "one line": repeat("a"), "quotes": repeat(`"`), "commas": repeat(","),
		"lines": repeat("\n"), "braces": nested("{\"a\":", "}", 200_000), "brackets": nested("[", "]", 1<<20),
		"elements": nested("<a>", "</a>", 200_000), "entities": []byte(`<!DOCTYPE a [<!ENTITY b "` + strings.Repeat("c",
			1000) +
			`"><!ENTITY d "` + strings.Repeat("&b;", 1000) + `">]><a>` + strings.Repeat("&d;", 1000) + `</a>`),
		"keys": repeat("k: v\n"), "anchors": []byte("a: &a [x]\n" + strings.Repeat("b: *a\n", 100_000)),
		"indents": repeat("- "), "a footer of 2 GiB": lying, "a negative footer": append(bytes.Clone(lying[:len(lying)-8]),
			0xff, 0xff, 0xff, 0xff,
			'P', 'A', 'R', '1'), "rows": repeat("plates,key,1\n"), "objects": repeat("{\"key\":\"a\"}\n"),
		"contents": append([]byte("<ListBucketResult>"), repeat("<Contents><Key>k</Key></Contents>")...),
		"numbers":  repeat("1e999999999,"),
	}
}

// TestWhatIsReadIsBounded feeds every reader of foreign bytes with all that is hostile.
func TestWhatIsReadIsBounded(t *testing.T) {
	sealingKeys() // deriving takes memory on purpose
	inputs := hostile()
	for name, read := range foreign {
		for what, b := range inputs {
			t.Run(name+", "+what, func(t *testing.T) {
				memory, processor := cost(func() { read(t, b) })
				if memory > memoryMost || processor > processorMost {
					t.Errorf("it takes %d MiB and %v of a processor", memory>>20, processor)
				}
			})
		}
	}
}

// cost gives the memory that is held at the most while something runs, beyond what was, and the processor's
// time that it takes.
func cost(run func()) (memory int64, processor time.Duration) {
	defer debug.SetGCPercent(debug.SetGCPercent(10)) // little is counted that is not held
	runtime.GC()
	before, used := heap(), spent()
	most := before
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-done:
				return
			case <-time.After(2 * time.Millisecond):
				most = max(most, heap())
			}
		}
	}()
	run()
	most = max(most, heap())
	close(done)
	<-ended
	return int64(most) - int64(before), spent() - used
}

func heap() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

func spent() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// FuzzForeign looks for bytes that stop a reader of foreign formats, or that it does not come to an end with.
func FuzzForeign(f *testing.F) {
	names := slices.Sorted(maps.Keys(foreign))
	for i := range names {
		for _, seed := range []string{"", "bucket,key\nplates,k\n", "{\"bucket\":\"plates\",\"key\":\"k\"}\n",
			"PAR1\x00\x00\x00\x00PAR1",
			"charter: a\nbuckets:\n  b: {quota: 1GiB, tags: {k: &x v}}\nvariables: {a: b}\n", "{\"format\":1,\"name\":\"a\"}",
			"<ListBucketResult><Contents><Key>k</Key><Size>1</Size></Contents></ListBucketResult>",
			"age-encryption.org/v1\n-> X25519 AAAA\nAAAA\n--- AAAA\n"} {
			f.Add(byte(i), []byte(seed))
		}
	}
	f.Fuzz(func(t *testing.T, which byte, b []byte) {
		name := names[int(which)%len(names)]
		began := time.Now()
		foreign[name](t, b)
		if took := time.Since(began); took > 8*time.Second {
			t.Errorf("%s: it comes to an end after %v", name, took)
		}
	})
}

// boundedBy says, of every function that takes a reader, what bounds what it reads: that it is fed above, or why a
// source that lies or never ends does no harm. A new one is refused until it stands here.
var boundedBy = map[string]struct{ functions, why string }{
	"bodies": {"Write WriteLater fill newFrameReader pour start writePieces writeWhole",
		"stretches of a fixed size, to the size that was claimed"},
	"censusfile":  {"Read footerFits known readCSV readLines readParquet", "fed above"},
	"cli":         {"Begin ask open openSized readRuleForms send", "streams, or a file of whoever runs it"},
	"core/seal":   {"NewReader", "stretches of a fixed size"},
	"door":        {"ReadFrom", "a stream of a connection"},
	"postgres":    {"entry unpack", "files of the program itself, to the sizes that they tell"},
	"remote":      {"ReadFrom", "a stream, at a bandwidth"},
	"side":        {"Checked tee", "streams, to the size that was asked for"},
	"store":       {"writeTo", "a stream, to the size that was claimed"},
	"transfer":    {"CRC64 Fill PutStream begin copyTo sendParts", "streams of whoever runs it"},
	"wire/client": {"Put PutPart request send", "streams of our own; answers are fed above"},
	"wire/server": {"ReadFrom claims readDocument", "streams, and documents to a limit (FuzzDocument)"},
	"wire/sign":   {"Body NewEncoder NewReader", "chunks of a fixed size (FuzzReader)"},
}

// TestForeignReadersAreKnown finds the functions that take a reader, and asks of each what bounds it.
func TestForeignReadersAreKnown(t *testing.T) {
	ours := regexp.MustCompile(`^(standin|demo|harness|side/sidetest|bodies/bodiestest)`)
	taking := regexp.MustCompile(`(?m)^func (?:\([^)]*\) )?(\w+)(?:\[[^\]]*\])?\(([^{]*?)\{`)
	reader := regexp.MustCompile(`\bio\.Read(er|erAt|Closer|Seeker|SeekCloser)\b`)
	found := map[string][]string{}
	if err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		pkg := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(path, "../")))
		if err != nil || e.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") ||
			ours.MatchString(pkg) {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range taking.FindAllStringSubmatch(string(b), -1) {
			if reader.MatchString(parametersOf(m[2])) {
				found[pkg] = append(found[pkg], m[1])
			}
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for pkg, names := range found {
		slices.Sort(names)
		if is := strings.Join(slices.Compact(names), " "); is != boundedBy[pkg].functions {
			t.Errorf("%s takes readers in %s: say what bounds them, and feed them with what is hostile", pkg, is)
		}
	}
	for pkg := range boundedBy {
		if found[pkg] == nil {
			t.Errorf("%s takes no reader any more", pkg)
		}
	}
}

// parametersOf gives what of a signature comes before its closing bracket.
func parametersOf(signature string) string {
	open := 1
	for i, c := range signature {
		switch c {
		case '(':
			open++
		case ')':
			open--
		}
		if open == 0 {
			return signature[:i]
		}
	}
	return signature
}
