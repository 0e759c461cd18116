package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"runcrowd/internal/run"
	"runcrowd/internal/spread"
)

// exposition writes metrics in the text format of Prometheus, version 0.0.4. There is no label
// for a device: a fleet would be too many.
type exposition struct{ b bytes.Buffer }

// metric begins a metric. Kind is gauge, counter or histogram.
func (x *exposition) metric(name, kind, help string) {
	fmt.Fprintf(&x.b, "# HELP runcrowd_%s %s\n# TYPE runcrowd_%s %s\n", name, help, name, kind)
}

var labelEscapes = strings.NewReplacer("\\", `\\`, "\n", `\n`, `"`, `\"`)

// sample writes a sample; labels are names and values in turn.
func (x *exposition) sample(name string, v float64, labels ...string) {
	x.b.WriteString("runcrowd_" + name)
	for i := 0; i < len(labels); i += 2 {
		fmt.Fprintf(&x.b, `%c%s="%s"`, "{,"[min(i, 1)], labels[i], labelEscapes.Replace(labels[i+1]))
	}
	if len(labels) > 0 {
		x.b.WriteByte('}')
	}
	x.b.WriteString(" " + strconv.FormatFloat(v, 'g', -1, 64) + "\n")
}

// one writes a metric that has one sample.
func (x *exposition) one(name, kind, help string, v float64, labels ...string) {
	x.metric(name, kind, help)
	x.sample(name, v, labels...)
}

// bounds are those of the histograms, in seconds.
var bounds = []float64{0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

func (x *exposition) histogram(name, help string, l *spread.Live) {
	x.metric(name, "histogram", help)
	upTo, n := l.Spread().Classes()
	total, k := 0, 0
	for _, b := range bounds {
		for ; k < len(upTo) && upTo[k].Seconds() <= b; k++ {
			total += n[k]
		}
		x.sample(name+"_bucket", float64(total), "le", strconv.FormatFloat(b, 'g', -1, 64))
	}
	for ; k < len(n); k++ {
		total += n[k]
	}
	x.sample(name+"_bucket", float64(total), "le", "+Inf")
	x.sample(name+"_sum", l.Sum().Seconds())
	x.sample(name+"_count", float64(total))
}

// metricsOf is what is known of a run while it plays.
func metricsOf(s *run.Session, crowd string) []byte {
	x := &exposition{}
	p := s.Progress()
	phase, _ := p.Phase.MarshalText()
	x.one("run_info", "gauge", "The run that plays: its crowd, its run and the version of the program.", 1, "crowd",
		crowd, "run", s.ID, "version", Version())
	x.one("phase", "gauge", "1 for the phase that the run is in.", 1, "phase", string(phase))
	x.one("round", "gauge", "The round that plays, from 1.", float64(p.Round))
	x.one("devices", "gauge", "Devices of the crowd.", float64(p.Devices))
	x.one("devices_connected", "gauge", "Devices that are connected.", float64(p.Up))
	x.one("messages_due_total", "counter", "Messages that fell due.", float64(p.Due))
	x.one("messages_sent_total", "counter", "Messages that were handed to the network.", float64(p.Sent))
	x.metric("messages_settled_total", "counter", "Messages by the protocol's own answer.")
	for _, o := range []struct {
		name string
		n    int64
	}{{"acknowledged", p.Accepted}, {"refused", p.Refused}, {"not_asked", p.NotAsked}, {"no_answer", p.NoAnswer},
		{"unsent", p.Unsent}} {
		x.sample("messages_settled_total", float64(o.n), "outcome", o.name)
	}
	x.metric("witness_found_total", "counter", "Messages that a witness found, once each; alerts that one heard.")
	for _, w := range p.Witnesses {
		x.sample("witness_found_total", float64(w.N), "witness", w.Witness, "proves", w.Proves)
	}
	x.one("connections_lost_total", "counter", "Connections of devices that were lost, or not accepted.", float64(p.Drops))
	x.one("commands_total", "counter", "Commands that devices received.", float64(p.Commands))
	acks, lags := s.Delays()
	x.histogram("acknowledged_seconds", "Time from sending a message to its acknowledgement.", acks)
	x.histogram("lag_seconds", "Time from when a message was due until it was sent.", lags)
	return x.b.Bytes()
}

// serveMetrics serves metrics until release. The error is why it cannot.
func serveMetrics(address, crowd string, session *atomic.Pointer[run.Session]) (release func(), err error) {
	host, port, err := net.SplitHostPort(address)
	if err == nil && host == "" { // who wants others to read it says so
		host = "127.0.0.1"
	}
	at := address
	if err == nil {
		at = net.JoinHostPort(host, port)
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		return nil, fmt.Errorf("--metrics: cannot listen at %s: %w; write an address such as :9090 (for this machine alone) or 0.0.0.0:9090",
			address, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		if s := session.Load(); s != nil {
			w.Write(metricsOf(s, crowd))
		}
	})
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) {
		phase := "getting ready"
		if s := session.Load(); s != nil {
			b, _ := s.Progress().Phase.MarshalText()
			phase = string(b)
		}
		fmt.Fprintf(w, "ok, %s\n", phase)
	})
	var handler http.Handler = mux
	if a, is := l.Addr().(*net.TCPAddr); is && a.IP.IsLoopback() {
		handler = onlyHost(mux, host)
	}
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second,
		MaxHeaderBytes: 16 << 10}
	go srv.Serve(l)
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		srv.Shutdown(ctx)
	}, nil
}

// onlyHost answers requests that name this machine as their host: a page of others that has its
// own name lead here does not read what is for this machine alone.
func onlyHost(h http.Handler, host string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := r.Host
		if only, _, err := net.SplitHostPort(name); err == nil {
			name = only
		}
		ip := net.ParseIP(strings.Trim(name, "[]"))
		if name != host && name != "localhost" && (ip == nil || !ip.IsLoopback()) {
			http.Error(w, "this is for requests to localhost", http.StatusForbidden)
			return
		}
		h.ServeHTTP(w, r)
	})
}
