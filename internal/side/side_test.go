package side_test

import (
	"os"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/side"
	"spindle/internal/side/sidetest"
	"spindle/internal/standin"
	"spindle/internal/wire/sign"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

func TestHere(t *testing.T) {
	s := harness.Store(t)
	plates := object.MustBucketName("plates")
	by := catalog.Author{Who: harness.Key, Source: "127.0.0.1"}
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, by); err != nil {
		t.Fatal(err)
	}
	sidetest.TestSide(t, &side.Here{Store: s, Bucket: plates, By: by}, sidetest.Can{Metadata: true, AnyKey: true})
}

// An endpoint passes with all its abilities, and with as few as there may be.
func TestThere(t *testing.T) {
	for name, faults := range map[string]standin.Faults{"able": {},
		"plain": {Lacks: []string{"checksums", "copy", "conditions", "versioning", "classes", "lifecycle"}}} {
		t.Run(name, func(t *testing.T) {
			r := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
			is, _ := harness.Standin(t, standin.Faults{}, "plates")
			if err := is.Set(faults); err != nil {
				t.Fatal(err)
			}
			e := r.StandinEndpoint("annex", is)
			conn, err := r.Remote.Get(t.Context(), e.ID)
			if err != nil {
				t.Fatal(err)
			}
			sidetest.TestSide(t, &side.There{Conn: conn, Bucket: "plates"}, sidetest.Can{Metadata: true, AnyKey: true,
				Parts: true})
		})
	}
}

// Another service of this kind is an endpoint too.
func TestThereAtOurOwn(t *testing.T) {
	r := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	if err := r.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	e := r.Endpoint("herbarium", "self", r.WireURL, sign.Credential{ID: harness.Key, Secret: harness.Secret})
	conn, err := r.Remote.Get(t.Context(), e.ID)
	if err != nil {
		t.Fatal(err)
	}
	sidetest.TestSide(t, &side.There{Conn: conn, Bucket: "plates"}, sidetest.Can{Metadata: true, AnyKey: true,
		Parts: true})
}

func TestFolder(t *testing.T) {
	sidetest.TestSide(t, &side.Folder{Dir: t.TempDir()}, sidetest.Can{})
}
