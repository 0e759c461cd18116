package link

import "time"

// Signer computes what of a request depends on the request itself, such as a signature. It may
// be called from any goroutine.
type Signer interface {
	Sign(r *ToSign) (*Signature, error)
}

// ToSign is a request as it is about to be sent.
type ToSign struct {
	Method string
	Host   string // with its port, where the address names one
	Path   string // as it is written in the request line
	Query  string // without ?; empty: none
	Body   []byte
	Time   time.Time
	Token  string // the access token of the moment; empty: none
}

// Signature is what was computed.
type Signature struct {
	Headers []Header
	Query   []Header // parameters that are added to the address
	// Secrets are values that nobody else must see.
	Secrets []string
}
