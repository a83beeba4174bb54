package bodies_test

import (
	"crypto/cipher"
	"errors"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/bodies/bodiestest"
	"spindle/internal/core/fault"
	"spindle/internal/core/seal"
)

type sealer struct{ key cipher.AEAD }

func (k sealer) SealingKey() (uint16, cipher.AEAD, error) { return 1, k.key, nil }
func (k sealer) OpeningKey(n uint16) (cipher.AEAD, error) {
	if n != 1 {
		return nil, errors.New("no such key")
	}
	return k.key, nil
}

func TestVolumeIsASpace(t *testing.T) {
	bodiestest.TestSpace(t, func(t *testing.T) bodies.Space {
		v, err := bodies.Open(t.TempDir(), 3)
		if err != nil {
			t.Fatal(err)
		}
		key, err := seal.NewKey(make([]byte, 32))
		if err != nil {
			t.Fatal(err)
		}
		v.SealWith(sealer{key})
		return v
	})
}

func TestAVolumeOnAFaultyDisk(t *testing.T) {
	bodiestest.TestFaults(t, func(t *testing.T, disk *bodiestest.FaultyDisk) bodies.Space {
		v, err := bodies.Open(t.TempDir(), 3)
		if err != nil {
			t.Fatal(err)
		}
		key, err := seal.NewKey(make([]byte, 32))
		if err != nil {
			t.Fatal(err)
		}
		v.SealWith(sealer{key})
		v.On(disk)
		return v
	})
}

func TestSpacesAreFoundByTier(t *testing.T) {
	var all []bodies.Space
	for _, tier := range []int16{5, 0, 2} {
		v, err := bodies.Open(t.TempDir(), tier)
		if err != nil {
			t.Fatal(err)
		}
		defer v.Close()
		all = append(all, v)
	}
	s := bodies.NewSpaces(all[0], all[1:]...)
	if s.First().Tier() != 5 {
		t.Errorf("the first is of tier %d", s.First().Tier())
	}
	for _, v := range all {
		if got, err := s.Of(v.Tier()); got != v || err != nil {
			t.Errorf("tier %d: %v", v.Tier(), err)
		}
	}
	if _, err := s.Of(7); !fault.HasCode(err, "tier-missing") {
		t.Errorf("a tier that is not there: %v", err)
	}
	var order []int16
	stop := errors.New("stop")
	if err := s.Each(func(v bodies.Space) error {
		if order = append(order, v.Tier()); len(order) == 2 {
			return stop
		}
		return nil
	}); err != stop || len(order) != 2 || order[0] != 0 || order[1] != 2 {
		t.Errorf("%v, %v", order, err)
	}
}
