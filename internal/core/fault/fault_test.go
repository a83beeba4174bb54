package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"
)

func TestErrorsKeepTheirFaultThroughWrapping(t *testing.T) {
	f := New(Full, "quota", "room for %d bytes", 5).In("quota").Do("remove %s", "something").Because(io.ErrShortWrite)
	wrapped := fmt.Errorf("putting: %w", f)
	if got := From(wrapped); got != f {
		t.Errorf("From gives %v", got)
	}
	if !HasCode(wrapped, "quota") || HasCode(wrapped, "other") || HasCode(io.EOF, "quota") || HasCode(nil, "quota") {
		t.Error("HasCode is wrong")
	}
	if !errors.Is(wrapped, io.ErrShortWrite) || !errors.Is(wrapped, New(Internal, "quota", "")) ||
		errors.Is(wrapped, New(Full, "else", "")) {
		t.Error("errors.Is does not find what is in the chain")
	}
	if got := f.Error(); got != "quota: room for 5 bytes: short write" {
		t.Errorf("Error gives %q", got)
	}
	other := From(io.EOF)
	if other.Kind != Internal || other.Code != "internal" || other.Remedy == "" || !errors.Is(other, io.EOF) {
		t.Errorf("what nobody classified: %+v", other)
	}
	if KindOf(wrapped) != Full || KindOf(io.EOF) != Internal {
		t.Error("KindOf is wrong")
	}
	for k := Internal; k <= Slow; k++ {
		if k.String() == "" {
			t.Errorf("kind %d has no name", k)
		}
	}
}
