package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// readFlags puts the flags that were given into the fields of a change, a pointer to a struct, that have a tag such as
//
//	Schedule *string `flag:"schedule,none"`
//
// After the flag's name stands how its text is read where the field's type does not say it:
//
//	none, never    this word empties a text
//	size           a size such as 4GiB, in bytes; none is -1, and no limit
//	long           a length of time such as 30d, in seconds
//	names          names with commas between them
//	a|b            the word a for true, b for false; on|off otherwise
//	empty=FLAG     the flag that empties a list
//
// A field without a value in the flags stays as it is. The error names the flag.
func readFlags(c *cli.Command, change any) error {
	v := reflect.ValueOf(change).Elem()
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if f.Anonymous {
			if err := readFlags(c, v.Field(i).Addr().Interface()); err != nil {
				return err
			}
			continue
		}
		name, how, _ := strings.Cut(f.Tag.Get("flag"), ",")
		if name == "" {
			continue
		}
		if other, ok := strings.CutPrefix(how, "empty="); ok && c.Bool(other) {
			v.Field(i).Set(reflect.ValueOf(&[]string{}))
			continue
		}
		if !c.IsSet(name) {
			continue
		}
		value, err := readFlag(c, name, how, f.Type)
		if err != nil {
			return err
		}
		v.Field(i).Set(value)
	}
	return nil
}

// readFlag reads a flag for a field of a type.
func readFlag(c *cli.Command, name, how string, as reflect.Type) (reflect.Value, error) {
	if as.Kind() == reflect.Pointer {
		of, err := readFlag(c, name, how, as.Elem())
		if err != nil {
			return of, err
		}
		p := reflect.New(as.Elem())
		p.Elem().Set(of)
		return p, nil
	}
	var value any
	var err error
	switch as.Kind() {
	case reflect.String:
		s := c.String(name)
		if s == how { // none, never
			s = ""
		}
		value = s
	case reflect.Bool:
		value, err = readWord(c, name, how)
	case reflect.Int:
		value = c.Int(name)
	case reflect.Int64:
		value, err = readBytes(c.String(name), name)
	case reflect.Float64:
		value, err = readNumber(c.String(name), name, how)
	case reflect.Slice:
		if value = c.StringSlice(name); how == "names" {
			value = splitNames(c.String(name))
		}
	case reflect.Map:
		value, err = pairs(name, c.StringSlice(name))
	default:
		if as != reflect.TypeFor[api.Limit]() {
			return reflect.Value{}, fmt.Errorf("--%s cannot be read as %s", name, as)
		}
		value, err = readLimit(c.String(name), name, how)
	}
	if err != nil {
		return reflect.Value{}, err
	}
	return reflect.ValueOf(value).Convert(as), nil
}

// readWord reads a switch: given or not, or one of two words.
func readWord(c *cli.Command, name, how string) (bool, error) {
	given, isText := c.Value(name).(string)
	if !isText {
		return c.Bool(name), nil
	}
	if how == "" {
		return isOn(name, given)
	}
	yes, no, _ := strings.Cut(how, "|")
	if given != yes && given != no {
		return false, wrongUsage("--%s is %s or %s, not %q", name, yes, no, given)
	}
	return given == yes, nil
}

// readBytes reads a size in bytes; none is -1.
func readBytes(s, name string) (int64, error) {
	n, err := parseSize(name, s)
	if err != nil || n == nil {
		return -1, err
	}
	return *n, nil
}

// readNumber reads a number, or a length of time in seconds.
func readNumber(s, name, how string) (float64, error) {
	if how == "long" {
		d, err := object.ParseDuration(s)
		if err != nil {
			return 0, fault.From(err).In(name)
		}
		return d.Seconds(), nil
	}
	n, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return 0, wrongUsage("--%s is a number such as 0.021, not %q", name, s)
	}
	return n, nil
}

// readLimit reads a number, or a size, that none takes away.
func readLimit(s, name, how string) (api.Limit, error) {
	if how == "size" {
		n, err := parseSize(name, s)
		return api.LimitTo(n), err
	}
	if s == "none" {
		return api.LimitTo(nil), nil
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return api.Limit{}, wrongUsage("--%s is a number or none, not %q", name, s)
	}
	return api.LimitTo(&n), nil
}

// revisable is a change that can be bound to a revision.
type revisable interface{ At(revision int) }

// someChange refuses a change that says nothing, and binds it to the revision that was given.
func someChange(c *cli.Command, change revisable) error {
	b, err := json.Marshal(change)
	if err != nil {
		return err
	}
	if string(b) == "{}" {
		return wrongUsage("nothing to change was given").see(c)
	}
	return atRevision(c, change)
}

// atRevision binds a change to the revision that was given.
func atRevision(c *cli.Command, change revisable) error {
	if !c.IsSet("if-revision") {
		return nil
	}
	if c.Int("if-revision") < 1 {
		return wrongUsage("--if-revision is at least 1").see(c)
	}
	change.At(c.Int("if-revision"))
	return nil
}
