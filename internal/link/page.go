package link

import (
	"fmt"
	"net/url"
)

// NextPage is the address of the page that an answer names next, which may be
// relative to its own address (RFC 3986, section 5). A page on another host is an
// error: requests carry credentials, and a host that the file does not name must
// not see them.
func NextPage(address, next string) (string, error) {
	base, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("%s is not an address", address)
	}
	u, err := base.Parse(next)
	if err != nil {
		return "", fmt.Errorf("the next page of %s is %q, which is not an address", address, next)
	}
	if u.Scheme != base.Scheme || u.Host != base.Host {
		return "", fmt.Errorf("the next page of %s is at %s://%s, and was not asked: the credentials are for %s://%s alone", address, u.Scheme, u.Host, base.Scheme, base.Host)
	}
	return u.String(), nil
}
