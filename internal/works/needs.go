package works

import (
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Need is what an order needs of whoever gives it: each of the rights, on all
// beneath a prefix. It is asked for before the order is taken, whenever it is
// looked at, and before each of its steps.
type Need struct {
	Do     access.Rights
	Bucket object.BucketName
	Prefix string
}

// Needs gives what an order needs. The error for a kind that is not known has the
// code order-kind: such an order is nobody's.
func Needs(o *catalog.Order) ([]Need, error) {
	prefix := string(o.What.Prefix)
	switch o.Kind {
	case "convert":
		return []Need{{access.Settings, o.Bucket, ""}}, nil
	case "restore":
		return []Need{{access.List | access.Read | access.Write | access.Remove, o.Bucket, prefix}}, nil
	case "rename":
		to := o.Bucket
		if o.What.ToBucket != "" {
			var err error
			if to, err = object.ParseBucketName(o.What.ToBucket); err != nil {
				return nil, err
			}
		}
		return []Need{{access.List | access.Read | access.Remove, o.Bucket, prefix}, {access.Write, to, string(o.What.ToPrefix)}}, nil
	}
	return nil, orderKind(o.Kind)
}

func orderKind(kind string) error {
	return fault.New(fault.Invalid, "order-kind", "an order is a rename, a restore or a conversion, not %q", kind).In("kind")
}
