package client

import (
	"context"
	"encoding/hex"
	"net/http"

	"spindle/internal/wire/sign"
)

// HeadWith gives what is known of an object, with further headers in the request.
func (c *Client) HeadWith(ctx context.Context, bucket, key string, headers map[string]string) (Info, error) {
	return c.head(ctx, bucket, key, "", headers)
}

// RemoveWith removes an object, with further headers in the request.
func (c *Client) RemoveWith(ctx context.Context, bucket, key string, headers map[string]string) error {
	r, err := c.request(ctx, http.MethodDelete, bucket, key, nil, nil)
	if err != nil {
		return err
	}
	for name, v := range headers {
		r.Header.Set(name, v)
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// wholeMD5 gives the MD5 of a content that its ETag is, "" when it is none: of one sent in parts
// it is not, nor of one that is encrypted under a key that the service does not choose itself.
func wholeMD5(etag string, h http.Header) string {
	const own = "AES256"
	how := h.Get("X-Amz-Server-Side-Encryption")
	if sum, err := hex.DecodeString(etag); err != nil || len(sum) != 16 || how != "" && how != own ||
		h.Get("X-Amz-Server-Side-Encryption-Customer-Algorithm") != "" {
		return ""
	}
	return etag
}
