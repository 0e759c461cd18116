// Package credential makes what devices and witnesses show of themselves: certificates
// and keys, and access tokens that expire, signed for a device or fetched from an
// authorization server. A new token is made before the last runs out.
package credential

import (
	"context"
	"math/rand/v2"
	"sync"
	"time"
)

// Maker makes a token at a time, and says until when it is good; the zero time is
// for ever.
type Maker func(ctx context.Context, now time.Time) (token string, until time.Time, err error)

// Token is a token that is renewed. It implements link.TokenSource. One caller at a time makes
// a new one; the others go on with the old as long as it is good, and else wait.
type Token struct {
	maker Maker
	ahead time.Duration // how long before its end a token is renewed; 0: a tenth of its life
	by    By

	mu     sync.Mutex // guards what follows; never held while a token is made
	token  string
	renew  time.Time
	until  time.Time
	making *attempt // nil: none is being made
}

// attempt is a token being made. All who wait for it share what comes of it.
type attempt struct {
	done chan struct{}
	err  error // to be read when done is closed
}

// retryAfter is how long a token is kept that should be renewed, and could not be.
const retryAfter = 5 * time.Second

// By is what a token's holder goes by; what is nil is the clock, and chance.
type By struct {
	Now    func() time.Time
	Chance func() float64 // 0 to below 1
}

// NewToken makes a token's holder; no token is made yet.
func NewToken(m Maker, ahead time.Duration, by By) *Token {
	if by.Now == nil {
		by.Now = time.Now
	}
	if by.Chance == nil {
		by.Chance = rand.Float64
	}
	return &Token{maker: m, ahead: ahead, by: by}
}

// Token gives the token, and when it has to be changed; the zero time is never. A
// token that cannot be renewed is given as long as it is good.
func (p *Token) Token(ctx context.Context) (string, time.Time, error) {
	for {
		p.mu.Lock()
		now := p.by.Now()
		switch making := p.making; {
		case p.token != "" && (p.renew.IsZero() || now.Before(p.renew)):
			defer p.mu.Unlock()
			return p.token, p.renew, nil
		case making == nil:
			p.making = &attempt{done: make(chan struct{})}
			p.mu.Unlock()
			return p.renewed(ctx, now)
		case p.token != "" && now.Before(p.until):
			defer p.mu.Unlock()
			return p.token, now.Add(retryAfter), nil
		default:
			p.mu.Unlock()
			select {
			case <-making.done:
				if making.err != nil {
					return "", time.Time{}, making.err
				}
			case <-ctx.Done():
				return "", time.Time{}, ctx.Err()
			}
		}
	}
}

// renewed makes a new token; nobody else does so at this time.
func (p *Token) renewed(ctx context.Context, now time.Time) (string, time.Time, error) {
	token, until, err := p.maker(ctx, now)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.making.err = err
	close(p.making.done)
	p.making = nil
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
