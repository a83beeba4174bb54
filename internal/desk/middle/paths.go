package middle

import (
	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
)

// AccountPath names an account.
type AccountPath struct {
	Account string `path:"account" maxLength:"64"`
}

// AccountOut answers with an account.
type AccountOut struct{ Body api.AccountInfo }

// BucketPath names the bucket of a call.
type BucketPath struct {
	Bucket string `path:"bucket" maxLength:"64"`
}

// BucketOut answers with a bucket.
type BucketOut struct{ Body api.BucketInfo }

// EndpointPath names an endpoint of the account one acts in.
type EndpointPath struct {
	Endpoint string `path:"endpoint" maxLength:"63"`
}

// HostIn keeps the host by which a client reached the desk.
type HostIn struct {
	Host string
	tls  bool
}

// UploadRef names an upload in an address.
type UploadRef struct {
	BucketPath
	ID  string `path:"id" maxLength:"64"`
	Key string `query:"key" required:"true"`
}

// Resolve keeps the host that the client used.
func (h *HostIn) Resolve(ctx huma.Context) []error {
	h.Host, h.tls = ctx.Host(), ctx.TLS() != nil
	return nil
}
