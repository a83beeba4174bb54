package gate_test

import (
	"errors"
	"os"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/harness"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// TestDecisionsAreNoted asks as one who may not, many times, and finds it in the
// trail once; and a key's uses with it.
func TestDecisionsAreNoted(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	c := s.NewKey("seed-lab", "field-kit", access.Reader, func(k *catalog.AccessKey) { k.Rate = 3 })
	k, err := s.Gate.Key(t.Context(), c.ID)
	if err != nil {
		t.Fatal(err)
	}
	plates := object.MustBucketName("plates")
	ask := gate.Ask{Subject: k.Subject(), Source: "10.4.2.40", Do: access.Read, Bucket: plates, Key: "2025/x"}
	for range 7 {
		if err := s.Gate.May(t.Context(), ask); !fault.HasCode(err, "not-allowed") {
			t.Fatalf("%v", err)
		}
	}
	harness.Until(t, "the refusals stand in the trail", func() bool {
		list, err := s.Store.Catalog.Trail(t.Context(), catalog.TrailQuery{Kinds: []string{access.TrailRefused}, Who: c.ID,
			Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		times := 0
		for _, e := range list {
			times += e.Times
			if e.Account != "herbarium" || e.Subject != "plates/2025/x" || e.Source != "10.4.2.40" || e.Detail["do"] != "read" ||
				e.Detail["needs"] != `have its owner grant "read from" on plates/2025/x to account seed-lab or key `+c.ID {
				t.Fatalf("%+v", e)
			}
		}
		return times == 7 && len(list) < 4
	})
	// A grant opens at once here, and its end is heard of without being told.
	id := s.Grant("plates", "2025/", "key:"+c.ID, "read from")
	if err := s.Gate.May(t.Context(), ask); err != nil {
		t.Errorf("granted: %v", err)
	}
	again := s.Gate.Again(t.Context(), k, ask)
	if err := s.Store.Catalog.RemoveGrant(t.Context(), id,
		catalog.Author{At: time.Now(), Who: "another process"}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "a transfer is cut when the grant goes", func() bool { return fault.HasCode(again(), "not-allowed") })

	refused := 0
	for range 20 {
		if err := s.Gate.Use(k, "10.4.2.40", time.Now()); fault.HasCode(err, "key-rate") {
			refused++
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if refused < 10 {
		t.Errorf("20 uses at once of a key with 3 a second: %d refused", refused)
	}
	harness.Until(t, "the use is noted", func() bool {
		k, err := s.Store.Catalog.Key(t.Context(), c.ID)
		if err != nil {
			t.Fatal(err)
		}
		return k.Used != nil && k.UsedFrom == "10.4.2.40"
	})
	if _, err := s.Gate.Key(t.Context(), "NOBODY"); !fault.HasCode(err, "key-unknown") {
		t.Errorf("a key that there is not: %v", err)
	}
	if err := s.Gate.May(t.Context(), gate.Ask{Do: access.Read, Bucket: object.MustBucketName("none"),
		Key: "x"}); !fault.HasCode(err, "not-allowed") {
		t.Errorf("anyone asks for a bucket that there is not: %v", err)
	}
	sees, also, err := s.Gate.Sees(t.Context(), k.Subject())
	if err != nil || sees != "seed-lab" || len(also) != 0 {
		t.Errorf("sees %q, %v, %v", sees, also, err)
	}
}

// TestAFloodOfRefusals is bounded in memory and in rows.
func TestAFloodOfRefusals(t *testing.T) {
	s := harness.Service(t, nil)
	for i := range 5000 {
		s.Gate.Refused(access.Subject{}, "10.0.0.1", "", string(rune('a'+i%26))+time.Duration(i).String(), "read", "no")
	}
	n := 0
	harness.Until(t, "some are noted", func() bool {
		list, err := s.Store.Catalog.Trail(t.Context(), catalog.TrailQuery{Kinds: []string{access.TrailRefused},
			Limit: 5000})
		n = len(list)
		return errors.Is(err, nil) && n > 0
	})
	if n > 2000 {
		t.Errorf("%d rows", n)
	}
}
