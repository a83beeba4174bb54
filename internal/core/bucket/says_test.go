package bucket

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

// Whatever setting changes, the record of it is told in words, a setting that comes later too.
func TestEveryChangeIsTold(t *testing.T) {
	var change func(v reflect.Value) []func()
	change = func(v reflect.Value) (all []func()) {
		for i := range v.NumField() {
			f := v.Field(i)
			switch f.Kind() {
			case reflect.Struct:
				all = append(all, change(f)...)
			case reflect.Bool:
				all = append(all, func() { f.SetBool(!f.Bool()) })
			case reflect.String:
				all = append(all, func() { f.SetString("cellar") })
			case reflect.Int, reflect.Int16, reflect.Int64, reflect.Uint8:
				all = append(all, func() {
					if f.CanInt() {
						f.SetInt(1)
					} else {
						f.SetUint(1)
					}
				})
			case reflect.Pointer:
				all = append(all, func() { f.Set(reflect.New(f.Type().Elem())) })
			case reflect.Map:
				all = append(all, func() {
					f.Set(reflect.MakeMap(f.Type()))
					f.SetMapIndex(reflect.ValueOf("kind").Convert(f.Type().Key()), reflect.ValueOf("x").Convert(f.Type().Elem()))
				})
			case reflect.Slice:
				all = append(all, func() { f.Set(reflect.MakeSlice(f.Type(), 1, 1)) })
			default:
				t.Errorf("a setting of the kind %s", f.Kind())
			}
		}
		return all
	}
	n := len(change(reflect.ValueOf(&Settings{}).Elem()))
	for i := range n {
		var s Settings
		change(reflect.ValueOf(&s).Elem())[i]()
		b, err := json.Marshal(s.Differences(Settings{}))
		if err != nil {
			t.Fatal(err)
		}
		var d map[string]any
		if err := json.Unmarshal(b, &d); err != nil {
			t.Fatal(err)
		}
		if says := Says(d); says == "" || strings.Contains(says, "map[") {
			t.Errorf("of %+v is told %q", s, says)
		}
	}
	if got := Says(map[string]any{"quota": 4e9, "sealing": true, "tier": "cellar", "versioning": "on"}); got !=
		"quota 4,000,000,000 bytes; encryption at rest on; tier cellar; versioning on" {
		t.Errorf("several: %s", got)
	}
}
