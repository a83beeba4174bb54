// Package desk is the JSON API for people and programs that administer, and
// the console it serves.
//
// The types of requests and answers in this package are the one source: the
// OpenAPI document is made from them, and the console's TypeScript types are
// made from that document. Errors follow RFC 9457 and carry the code, the
// field and the remedy of the fault.
//
// Programs sign requests as they sign the wire's. People sign in with a key
// and its secret and get a session: a cookie that scripts cannot read
// (HttpOnly, SameSite=Strict), and a token against forged requests that every
// change must carry in a header.
//
// Keys travel as JSON strings or in the query, never in a path, so that no
// proxy or router rewrites them.
package desk
