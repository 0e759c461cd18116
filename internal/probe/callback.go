package probe

import (
	"context"
	"net"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/witness/listen"
)

// callTime is how long a first call of the platform is waited for.
const callTime = 10 * time.Second

// firstCall waits for the platform to call: it does that when it has something to say.
func (p *prober) firstCall(ctx context.Context, f *fleet.Fleet, w *crowd.Witness) {
	p.do(context.WithoutCancel(ctx), "the platform calls", func(context.Context) (string, []string, bool) {
		waiting, cancel := context.WithTimeout(ctx, callTime)
		defer cancel()
		called := false
		_, err := listen.To(waiting, 0, f, w, func(listen.Overheard) {
			called = true
			cancel()
		})
		if err != nil {
			return f.Crowd.Redact(err.Error()), []string{"take an address of this machine and a port that nothing else uses"}, false
		}
		if called {
			return w.Name + ": at " + w.Callback.URL, nil, true
		}
		p.doubt = true
		return w.Name + ": nothing came to " + w.Callback.URL + " within " + callTime.String() + "; let the platform call " +
			"it while this waits, from where it runs at http(s)://" +
			strings.Join(ownNames(w.Callback.Address), " or "), nil, true
	})
}

// ownNames are the addresses by which others may reach what listens at one.
func ownNames(address string) []string {
	host, port, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsUnspecified() {
		return []string{address}
	}
	var list []string
	addrs, _ := net.InterfaceAddrs()
	for _, a := range addrs {
		if n, is := a.(*net.IPNet); is && !n.IP.IsLoopback() && n.IP.To4() != nil {
			list = append(list, net.JoinHostPort(n.IP.String(), port))
		}
	}
	if len(list) == 0 {
		return []string{address}
	}
	return list
}
