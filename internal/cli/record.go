package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/quantity"
	"runcrowd/internal/recording"
	"runcrowd/internal/sketch"
	"runcrowd/internal/witness/listen"
)

// recordingOf is what is recorded, and how.
type recordingOf struct {
	at                            sketch.Options // a broker without a crowd file
	with, topic, linkName, intake string
	status                        int
	length, every, maxSize        string
	count                         int64
	zip                           bool
	headers, mask                 []string
}

func (e *env) record() *cobra.Command {
	var o recordingOf
	cmd := &cobra.Command{
		Use:   "record FILE",
		Short: "Write the traffic of a platform, or of real devices, into a file",
		Long: `Record appends messages to FILE, a line of JSON each, until Ctrl-C. A group of a
crowd file can play them again.

With --broker it subscribes at the broker of that address, and hears what is published at
--topic; with --crowd at the broker of a crowd file, with the credentials of one of its
links. With --intake it listens for HTTP instead, and answers what real devices send. If
the connection is lost it says at the end when nothing could be heard.

A file is never written over: what is there stays, and a line that was not written
whole is skipped when it is read. With --max-size or --every it begins new files,
with the time in their names. Secrets of the crowd file are masked, and so are the
fields, headers, properties and parameters of a path that --mask names. A body that
is no JSON and has such a name in it is masked whole.

The format is described in docs/recording.md.`,
		Example: "  runcrowd record today.jsonl --broker mqtt://127.0.0.1:1883 --for 10m\n  runcrowd record " +
			"winter.jsonl --crowd harbour/crowd.yaml --topic \"harbour/#\"\n  runcrowd record " +
			"winter.jsonl.gz --crowd harbour/crowd.yaml --for 24h --every 1h\n  runcrowd record intake.jsonl --intake " +
			"0.0.0.0:8090 --headers X-Device --mask token",
		Args: exactly(1, "a file to write"),
		RunE: func(_ *cobra.Command, args []string) error { return e.recordInto(args[0], &o) },
	}
	f := cmd.Flags()
	f.StringVar(&o.with, "crowd", "", "a crowd file, whose broker is listened to")
	f.StringVar(&o.at.Address, "broker", "", "the address of a broker to listen to, in place of a crowd file")
	f.StringVar(&o.at.User, "user", "", "with --broker: the user; the password is asked for")
	f.StringVar(&o.at.Password, "password-env", "", "with --broker: the variable of the environment that has the password")
	f.StringVar(&o.at.CA, "ca", "", "with --broker: a file of certificates by which the broker's is checked")
	f.StringVar(&o.topic, "topic", "#", "what to subscribe to")
	f.StringVar(&o.linkName, "link", "", "the link to connect with, if the file has several")
	f.StringVar(&o.intake, "intake", "", "an address to take HTTP messages at, such as 0.0.0.0:8090")
	f.IntVar(&o.status, "status", http.StatusAccepted, "what the intake answers")
	f.StringVar(&o.length, "for", "", "how long; until Ctrl-C if not given")
	f.Int64Var(&o.count, "count", 0, "at most this many messages; 0: any number")
	f.StringVar(&o.maxSize, "max-size", "", "begin a new file at this size, such as 100MiB")
	f.StringVar(&o.every, "every", "", "begin a new file after this time, such as 1h")
	f.BoolVar(&o.zip, "gzip", false, "compress; so does a name that ends in .gz")
	f.StringSliceVar(&o.headers, "headers", nil, "headers to write down, by name")
	f.StringSliceVar(&o.mask, "mask", nil, "fields, headers, properties and parameters whose values are not written "+
		"down, by name")
	return cmd
}

func (e *env) recordInto(path string, o *recordingOf) error {
	opt := recording.Options{Zip: o.zip}
	var err error
	if o.maxSize != "" {
		if opt.MaxSize, err = quantity.ParseSize(o.maxSize); err != nil || opt.MaxSize <= 0 {
			return fmt.Errorf("--max-size: %q is not a size, such as 100 MiB", o.maxSize)
		}
	}
	if o.every != "" {
		if opt.Every, err = quantity.ParseDuration(o.every); err != nil || opt.Every < time.Second {
			return fmt.Errorf("--every: %q is not a time of a second or more, such as 1h", o.every)
		}
	}
	ways := 0
	for _, way := range []string{o.with, o.at.Address, o.intake} {
		if way != "" {
			ways++
		}
	}
	if ways != 1 {
		return errors.New("say what to record: --broker ADDRESS or --crowd FILE for a broker, or --intake ADDRESS for HTTP")
	}
	if o.status < 100 || o.status > 599 {
		return fmt.Errorf("--status: %d is no HTTP status", o.status)
	}
	ctx, stop := interruptible()
	defer stop()
	lasts := time.Duration(0)
	if o.length != "" {
		if lasts, err = quantity.ParseDuration(o.length); err != nil || lasts <= 0 {
			return fmt.Errorf("--for: %q is not a time above zero, such as 24h", o.length)
		}
	}
	r := &recorder{only: o, mask: recording.Mask{Names: o.mask}}
	ctx, r.enough = context.WithCancel(ctx)
	defer r.enough()
	var take func() error
	if o.intake == "" {
		f, spec, err := e.recordedAt(o)
		if err != nil {
			return err
		}
		r.mask.Hide = f.Crowd.Redact
		fmt.Fprintf(e.stderr, "Recording %s of %s. Ctrl-C ends it.\n", strings.Join(spec.Filters, ", "), spec.Link.URL())
		take = func() error {
			unheard, err := listen.Record(ctx, lasts, f, spec, r.take)
			if err != nil {
				return fail(err, f.Crowd)
			}
			e.tellUnheard(&unheard, f.Crowd.Redact)
			return nil
		}
	} else {
		l, err := net.Listen("tcp", o.intake)
		if err != nil {
			return fmt.Errorf("--intake: cannot listen at %s: %w", o.intake, err)
		}
		fmt.Fprintf(e.stderr, "Recording what comes to http://%s, and answering %d. Ctrl-C ends it.\n", l.Addr(), o.status)
		take = func() error {
			if lasts > 0 {
				defer time.AfterFunc(lasts, r.enough).Stop()
			}
			return r.serve(ctx, l)
		}
	}
	if r.w, err = recording.Create(path, opt); err != nil {
		return err
	}
	go r.flush(ctx)
	err = take()
	r.mu.Lock()
	defer r.mu.Unlock()
	if e := r.w.Close(); r.err == nil {
		r.err = e
	}
	if r.err != nil {
		err = fmt.Errorf("%s could not be written: %w", path, r.err)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(e.stderr, "\n%s recorded in %s.\n", plural(int(r.w.Lines), "message"), strings.Join(r.w.Files, ", "))
	return nil
}

// recordedAt is the subscription that a recording needs.
func (e *env) recordedAt(o *recordingOf) (*fleet.Fleet, *crowd.Witness, error) {
	if o.at.Address != "" {
		return e.listenerAt(o.at, o.topic)
	}
	f, err := loadFleet(o.with, nil)
	if err != nil {
		return nil, nil, err
	}
	if err := crowd.CheckFilter(o.topic); err != nil {
		return nil, nil, fmt.Errorf("--topic: %w", err)
	}
	spec := &crowd.Witness{Name: "record", Filters: []string{o.topic}, QoS: 2}
	var names []string
	for _, w := range f.Crowd.Witnesses { // a witness may read more than a device
		if len(w.Filters) > 0 && o.linkName == "" && spec.Link == nil {
			spec.Link = w.Link
		}
	}
	for _, l := range f.Crowd.Links {
		if l.Protocol != crowd.MQTT {
			continue
		}
		if names = append(names, l.Name); l.Name == o.linkName || o.linkName == "" && spec.Link == nil {
			spec.Link = l
		}
	}
	switch {
	case spec.Link == nil && o.linkName != "":
		return nil, nil, unknownName("--link", "the file has no MQTT link", o.linkName, names)
	case spec.Link == nil:
		return nil, nil, errors.New("the file has no MQTT link to record at")
	case spec.Link.GuestErr != nil:
		return nil, nil, fmt.Errorf("the link %q has credentials of single devices; name another one with --link: %w",
			spec.Link.Name, spec.Link.GuestErr)
	}
	return f, spec, nil
}

// recorder writes messages down.
type recorder struct {
	only   *recordingOf
	mask   recording.Mask
	enough context.CancelFunc

	mu   sync.Mutex
	w    *recording.Writer
	err  error
	done bool
}

// take writes a message down.
func (r *recorder) take(l *recording.Line) { r.taken(l) }

// taken tells whether a message was written down.
func (r *recorder) taken(l *recording.Line) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.done || r.err != nil {
		return false
	}
	r.mask.Apply(l)
	if r.err = r.w.Write(l); r.err != nil || r.only.count > 0 && r.w.Lines >= r.only.count {
		r.done = true
		r.enough()
	}
	return r.err == nil
}

// flush puts what is compressed on the disk now and then.
func (r *recorder) flush(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		r.mu.Lock()
		if r.err == nil && !r.done {
			r.err = r.w.Flush()
		}
		r.mu.Unlock()
	}
}

// mostRecorded bounds a body, in bytes.
const mostRecorded = 16 << 20

// serve takes messages over HTTP. What could not be written down is not acknowledged.
func (r *recorder) serve(ctx context.Context, l net.Listener) error {
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			at := clock.Now()
			body, err := io.ReadAll(http.MaxBytesReader(w, q.Body, mostRecorded))
			if err != nil {
				http.Error(w, "the body could not be read, or is too long", http.StatusRequestEntityTooLarge)
				return
			}
			x := &recording.Line{At: at, Path: q.URL.RequestURI(), Method: q.Method, Body: body,
				ContentType: q.Header.Get("Content-Type")}
			for _, name := range r.only.headers {
				for _, v := range q.Header.Values(name) {
					x.Headers = append(x.Headers, recording.Pair{name, v})
				}
			}
			if !r.taken(x) {
				http.Error(w, "it could not be written down", http.StatusServiceUnavailable)
				return
			}
			w.WriteHeader(r.only.status)
		})}
	go func() {
		<-ctx.Done()
		stop, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if s.Shutdown(stop) != nil {
			s.Close()
		}
	}()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
