package probe

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
)

// clockMatters is from where on a difference between the clocks is a likely cause.
const clockMatters = 20 * time.Second

// clock holds our clock against the one in the platform's HTTP answers (RFC 9110,
// section 6.6.1), where it has any: of the link, or of a witness.
func (p *prober) clock(ctx context.Context, c *crowd.Crowd, l *crowd.Link, d *fleet.Device) {
	address := ""
	secure := credential.TLS(l)
	if l.Protocol == crowd.HTTP {
		address = l.Address
	}
	for _, w := range c.Witnesses {
		if address == "" && w.Get != "" && w.Address(d.Cast) != nil {
			env := maps.Clone(d.Env)
			env["from"], env["to"] = time.Now(), time.Now()
			if s, err := w.Address(d.Cast).Expand(&formula.Machine{}, env); err == nil {
				address, secure = s, credential.TLS(w.Link)
			}
		}
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return
	}
	p.do(ctx, "clocks agree", func(ctx context.Context) (string, []string, bool) {
		t := link.Transport(secure, d.Cert, nil)
		t.DisableKeepAlives = true
		client := &http.Client{Transport: t, CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}}
		req, err := http.NewRequestWithContext(ctx, http.MethodHead, u.Scheme+"://"+u.Host+"/", nil)
		if err != nil {
			p.doubt = true
			return "not known: " + err.Error(), nil, true
		}
		asked := time.Now()
		resp, err := client.Do(req)
		if err != nil {
			what, _ := link.Explain(err, u.Host)
			p.doubt = true
			return "not known: " + u.Host + ": " + what, nil, true
		}
		resp.Body.Close()
		theirs, err := http.ParseTime(resp.Header.Get("Date"))
		if err != nil {
			p.doubt = true
			return "not known: " + u.Host + " does not tell its time", nil, true
		}
		p.skew = Skew(theirs, asked, time.Now())
		p.doubt = p.skew.Abs() >= time.Second
		return tellSkew(u.Host, p.skew), nil, true
	})
}

// Skew is how far a clock that tells whole seconds is ahead of ours, at least: it told
// the time between asked and answered.
func Skew(theirs, asked, answered time.Time) time.Duration {
	switch {
	case theirs.After(answered):
		return theirs.Sub(answered)
	case theirs.Add(time.Second).Before(asked):
		return theirs.Add(time.Second).Sub(asked)
	}
	return 0
}

func tellSkew(host string, skew time.Duration) string {
	switch r := skew.Round(time.Second); {
	case r > 0:
		return fmt.Sprintf("they do not: that of %s is %s ahead of this machine's", host, r)
	case r < 0:
		return fmt.Sprintf("they do not: that of %s is %s behind this machine's", host, -r)
	}
	return "to the second, with " + host
}

// late puts the clock first among the causes of a refusal, where the clocks differ.
func (p *prober) late(causes []string) []string {
	if p.skew.Abs() < clockMatters {
		return causes
	}
	return append([]string{"the clocks differ (see above): what is only good for a time is too old, or not good yet; " +
		"set this machine's clock"}, causes...)
}
