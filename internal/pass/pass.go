// Package pass makes access tokens that expire: it signs them for a device, or
// fetches them from an authorization server, and makes a new one before the last
// runs out.
package pass

import (
	"context"
	"math/rand/v2"
	"sync"
	"time"
)

// Maker makes a token at a time, and says until when it is good; the zero time is
// for ever.
type Maker func(ctx context.Context, now time.Time) (token string, until time.Time, err error)

// Pass is a token that is renewed. It implements link.Pass.
type Pass struct {
	make  Maker
	ahead time.Duration // how long before its end a token is renewed; 0: a tenth of its life
	by    By

	mu    sync.Mutex
	token string
	renew time.Time
	until time.Time
}

// retryAfter is how long a token is kept that should be renewed, and could not be.
const retryAfter = 5 * time.Second

// By is what a pass goes by; what is nil is the clock, and chance.
type By struct {
	Now    func() time.Time
	Chance func() float64 // 0 to below 1
}

// New makes a pass; no token is made yet.
func New(m Maker, ahead time.Duration, by By) *Pass {
	if by.Now == nil {
		by.Now = time.Now
	}
	if by.Chance == nil {
		by.Chance = rand.Float64
	}
	return &Pass{make: m, ahead: ahead, by: by}
}

// Token gives the token, and when it has to be changed; the zero time is never. A
// token that cannot be renewed is given as long as it is good.
func (p *Pass) Token(ctx context.Context) (string, time.Time, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.by.Now()
	if p.token != "" && (p.renew.IsZero() || now.Before(p.renew)) {
		return p.token, p.renew, nil
	}
	token, until, err := p.make(ctx, now)
	if err != nil {
		if p.token != "" && now.Before(p.until) {
			p.renew = now.Add(retryAfter)
			return p.token, p.renew, nil
		}
		return "", time.Time{}, err
	}
	p.token, p.until, p.renew = token, until, time.Time{}
	if !until.IsZero() {
		ahead := p.ahead
		life := max(0, until.Sub(now))
		if ahead <= 0 || ahead >= life {
			ahead = life / 10
		}
		// Tokens that were made together end together: a fleet must not come to
		// renew them all at once.
		ahead += time.Duration(p.by.Chance() * float64(min(life/10, life-ahead)))
		p.renew = until.Add(-ahead)
	}
	return p.token, p.renew, nil
}
