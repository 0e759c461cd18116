package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"runcrowd/internal/run"
	"runcrowd/internal/spread"
)

// metrics serves what is known of a run while it plays, for Prometheus. There is no label for
// a device: a fleet would be too many.
type metrics struct {
	session *atomic.Pointer[run.Session]
	info    prometheus.Labels
}

// bounds are those of the histograms, in seconds.
var bounds = []float64{0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("runcrowd_"+name, help, labels, nil)
}

var (
	infoDesc      = desc("run_info", "The run that plays: its crowd, its run and the version of the program.", "crowd", "run", "version")
	phaseDesc     = desc("phase", "1 for the phase that the run is in.", "phase")
	roundDesc     = desc("round", "The round that plays, from 1.")
	devicesDesc   = desc("devices", "Devices of the crowd.")
	connectedDesc = desc("devices_connected", "Devices that are connected.")
	dueDesc       = desc("messages_due_total", "Messages that fell due.")
	sentDesc      = desc("messages_sent_total", "Messages that were handed to the network.")
	outcomeDesc   = desc("messages_settled_total", "Messages by the protocol's own answer.", "outcome")
	foundDesc     = desc("witness_found_total", "Messages that a witness found, once each; notices that one heard.", "witness", "proves")
	lostDesc      = desc("connections_lost_total", "Connections of devices that were lost, or not accepted.")
	commandsDesc  = desc("commands_total", "Commands that devices received.")
	ackDesc       = desc("acknowledged_seconds", "Time from sending a message to its acknowledgement.")
	lagDesc       = desc("lag_seconds", "Time from when a message was due until it was sent.")
)

// Describe implements prometheus.Collector.
func (m *metrics) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{infoDesc, phaseDesc, roundDesc, devicesDesc, connectedDesc, dueDesc, sentDesc, outcomeDesc, foundDesc, lostDesc, commandsDesc, ackDesc, lagDesc} {
		c <- d
	}
}

// Collect implements prometheus.Collector.
func (m *metrics) Collect(c chan<- prometheus.Metric) {
	s := m.session.Load()
	if s == nil {
		return
	}
	p := s.Progress()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, n int64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(n), labels...)
	}
	gauge(infoDesc, 1, m.info["crowd"], s.ID, m.info["version"])
	phase, _ := p.Phase.MarshalText()
	gauge(phaseDesc, 1, string(phase))
	gauge(roundDesc, float64(p.Round))
	gauge(devicesDesc, float64(p.Devices))
	gauge(connectedDesc, float64(p.Up))
	count(dueDesc, p.Due)
	count(sentDesc, p.Sent)
	for _, x := range []struct {
		name string
		n    int64
	}{{"acknowledged", p.Accepted}, {"refused", p.Refused}, {"not_asked", p.NotAsked}, {"no_answer", p.NoAnswer}, {"unsent", p.Unsent}} {
		count(outcomeDesc, x.n, x.name)
	}
	for _, w := range p.Witnesses {
		count(foundDesc, int64(w.N), w.Witness, w.Proves)
	}
	count(lostDesc, p.Drops)
	count(commandsDesc, p.Commands)
	acks, lags := s.Delays()
	c <- histogram(ackDesc, acks)
	c <- histogram(lagDesc, lags)
}

func histogram(d *prometheus.Desc, l *spread.Live) prometheus.Metric {
	all := l.Spread()
	upTo, n := all.Classes()
	buckets, total := map[float64]uint64{}, uint64(0)
	for _, b := range bounds {
		buckets[b] = 0
	}
	for i := range upTo {
		total += uint64(n[i])
		for _, b := range bounds {
			if upTo[i].Seconds() <= b {
				buckets[b] += uint64(n[i])
			}
		}
	}
	return prometheus.MustNewConstHistogram(d, total, l.Sum().Seconds(), buckets)
}

// serveMetrics serves metrics until release. The error is why it cannot.
func serveMetrics(address, crowd string, session *atomic.Pointer[run.Session]) (release func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		return nil, fmt.Errorf("--metrics: cannot listen at %s: %w; write an address such as :9090 or 127.0.0.1:9090", address, err)
	}
	registry := prometheus.NewPedanticRegistry()
	registry.MustRegister(&metrics{session, prometheus.Labels{"crowd": crowd, "version": Version()}})
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) {
		phase := "getting ready"
		if s := session.Load(); s != nil {
			b, _ := s.Progress().Phase.MarshalText()
			phase = string(b)
		}
		fmt.Fprintf(w, "ok, %s\n", phase)
	})
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10}
	go srv.Serve(l)
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		srv.Shutdown(ctx)
	}, nil
}
