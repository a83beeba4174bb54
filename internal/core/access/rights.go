package access

import (
	"slices"
	"strings"

	"spindle/internal/core/fault"
)

// Rights are things that may be done, together.
type Rights uint8

// The rights. Their bits stand in the database.
const (
	List     Rights = 1 << iota // see which keys there are, and their sizes
	Read                        // read objects with their metadata
	Write                       // write objects, metadata and tags
	Remove                      // remove objects and versions
	Settings                    // change or remove the bucket and what is granted on it

	All = List | Read | Write | Remove | Settings
)

var rightNames = []string{"list", "read", "write", "remove", "settings"}

// String gives the rights' names with commas; "nothing" for none.
func (r Rights) String() string {
	names := r.Names()
	if len(names) == 0 {
		return "nothing"
	}
	return strings.Join(names, ", ")
}

// Deed puts what rights let one do with something into words, such as "change the settings of plates".
func (r Rights) Deed(of string) string {
	switch {
	case r != Settings:
		return strings.TrimSpace(r.String() + " " + of)
	case of == "":
		return "change settings"
	}
	return "change the settings of " + of
}

// Names gives the rights' names.
func (r Rights) Names() []string {
	var out []string
	for i, n := range rightNames {
		if r&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

// ParseRight reads the name of one right. The error has the code right.
func ParseRight(s string) (Rights, error) {
	if i := slices.Index(rightNames, s); i >= 0 {
		return 1 << i, nil
	}
	return 0, fault.New(fault.Invalid, "right", "there is no right %q", s).In("do").
		Do("choose from: %s", strings.Join(rightNames, ", "))
}

// purposes are what people grant for, with all that it needs.
var purposes = []struct {
	name   string
	rights Rights
}{
	{"read from", List | Read},
	{"write into", List | Write},
	{"replicate into", replicates},
	{"administer", All},
}

// PurposeNames lists the purposes of grants.
func PurposeNames() []string {
	out := make([]string, len(purposes))
	for i, p := range purposes {
		out[i] = p.name
	}
	return out
}

// Purpose gives the purpose that rights serve: its name, or the rights' names
// when it is the finer form.
func (r Rights) Purpose() string {
	for _, p := range purposes {
		if p.rights == r {
			return p.name
		}
	}
	return r.String()
}

// ParseRights reads a purpose ("read from"; hyphens do for spaces), or names of
// rights with commas. The error has the code rights.
func ParseRights(s string) (Rights, error) {
	plain := strings.ReplaceAll(strings.TrimSpace(s), "-", " ")
	for _, p := range purposes {
		if p.name == plain {
			return p.rights, nil
		}
	}
	var r Rights
	for n := range strings.SplitSeq(s, ",") {
		one, err := ParseRight(strings.TrimSpace(n))
		if err != nil {
			return 0, fault.New(fault.Invalid, "rights", "%q is neither a purpose nor a list of rights", s).In("for").
				Do("choose a purpose (%s), or rights with commas (%s)", strings.Join(PurposeNames(), ", "),
					strings.Join(rightNames, ", "))
		}
		r |= one
	}
	return r, nil
}

// Role is what a subject is in an account. The numbers stand in the database.
type Role uint8

// The roles, each with all of the one before.
const (
	None Role = iota
	Reader
	Writer
	Administrator
)

var roleNames = []string{"none", "reader", "writer", "administrator"}

// String gives the role's name.
func (r Role) String() string { return roleNames[min(int(r), len(roleNames)-1)] }

// A gives the role's name with its article.
func (r Role) A() string {
	switch r {
	case None:
		return "without a role"
	case Administrator:
		return "an " + r.String()
	}
	return "a " + r.String()
}

// ParseRole reads a role's name; "read", "read and write" and "administer" do
// too. The error has the code role.
func ParseRole(s string) (Role, error) {
	switch strings.ReplaceAll(s, "-", " ") {
	case "reader", "read":
		return Reader, nil
	case "writer", "write", "read and write":
		return Writer, nil
	case "administrator", "administer":
		return Administrator, nil
	}
	return None, fault.New(fault.Invalid, "role", "there is no role %q", s).In("role").
		Do("choose from: reader, writer, administrator")
}

// Rights gives what the role may do with what its account owns.
func (r Role) Rights() Rights {
	switch r {
	case Reader:
		return List | Read
	case Writer:
		return List | Read | Write | Remove
	case Administrator:
		return All
	}
	return 0
}

// Each gives the single rights of several.
func (r Rights) Each() []Rights {
	var out []Rights
	for _, one := range []Rights{List, Read, Write, Remove, Settings} {
		if r&one != 0 {
			out = append(out, one)
		}
	}
	return out
}
