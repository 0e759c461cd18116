package run

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/recording"
	"runcrowd/internal/scratch"
)

// planned is a message of an earlier run.
type planned struct {
	due    int64
	stream int32
	n      int32
	at     int64 // what it carried, in the ledger
}

// Resend makes a crowd play what an earlier run sent: the same messages at the same distances,
// through the devices of the same names. What the plan and commands did then is in them; nothing
// is done again. Cleanup removes what was needed for it.
func Resend(c *crowd.Crowd, folder string) (messages int, cleanup func(), err error) {
	readings := map[[2]string]*crowd.Reading{}
	casts := map[string]*crowd.Cast{}
	for _, m := range c.Members {
		casts[m.Name] = m.Cast
		for _, r := range m.Cast.Readings {
			readings[[2]string{m.Name, r.Name}] = r
		}
	}
	if parts := Parts(folder); parts != nil {
		return 0, nil, fmt.Errorf("%s holds the parts of a run; name one of them, such as %s", folder, parts[0])
	}
	path := filepath.Join(folder, LedgerFile)
	s, err := ledger.NewScanner(path)
	if err != nil {
		return 0, nil, ledgerError(folder, err)
	}
	defer s.Close()
	var list []planned
	err = s.Scan(func(r *ledger.Record) error {
		if r.Type == ledger.DueRecord && r.Meant != ledger.ToRefuse && r.Meant != ledger.ToDiscard {
			list = append(list, planned{r.At, int32(r.Stream), int32(len(r.Carried.B)), r.Carried.At})
		}
		return nil
	})
	if err != nil {
		return 0, nil, ledgerError(folder, err)
	}
	facts := &s.Facts
	if len(list) == 0 {
		return 0, nil, fmt.Errorf("%s: nothing was sent in that run", folder)
	}
	for _, st := range facts.Streams {
		r := readings[[2]string{st.Device, st.Reading}]
		switch {
		case r == nil:
			return 0, nil, fmt.Errorf("the run %s has a device %q with a reading %q, and %s has not", facts.Run, st.Device,
				st.Reading, c.Path)
		case r.Raw || r.Batch > 1 || r.Payload.Nested || r.Payload.Form != "json":
			return 0, nil, fmt.Errorf("the reading %q is no flat JSON, and what it carried does not say how its bodies were "+
				"written; with --begin %s instead, the same values are made again", st.Reading,
				facts.Start.UTC().Format(time.RFC3339))
		}
	}
	slices.SortFunc(list, func(a, b planned) int {
		return cmp.Or(cmp.Compare(a.due, b.due),
			cmp.Compare(a.stream, b.stream))
	})
	dir, cleanup, err := scratch.Dir()
	if err != nil {
		return 0, nil, err
	}
	f, err := os.Create(filepath.Join(dir, "again.jsonl"))
	if err != nil {
		cleanup()
		return 0, nil, err
	}
	out := bufio.NewWriter(f)
	var buf []byte
	for _, m := range list {
		carried, err := s.Read(m.at, int(m.n))
		if err == nil {
			st := &facts.Streams[m.stream]
			l := recording.Line{At: time.Unix(0, m.due), Topic: st.Device + "/" + st.Reading, Body: carried,
				ContentType: "application/json"}
			if buf, err = l.Append(buf[:0]); err == nil {
				_, err = out.Write(buf)
			}
		}
		if err != nil {
			f.Close()
			cleanup()
			return 0, nil, err
		}
	}
	if err := errors.Join(out.Flush(), f.Close()); err != nil {
		cleanup()
		return 0, nil, err
	}
	first, last := time.Unix(0, list[0].due), time.Unix(0, list[len(list)-1].due)
	rec := &crowd.Recording{File: filepath.Base(folder), Paths: []string{f.Name()}, Speed: 1, First: first, Last: last,
		Lines: int64(len(list)), Raw: map[string]bool{}}
	rec.Topic, _ = recording.Pattern("")
	for _, cast := range casts {
		cast.Recording = rec
	}
	p := &c.Plan
	p.Events, p.Rounds, p.Every, p.GiveUp, p.Messages = nil, 1, 0, 0, 0
	p.For, p.Join = last.Sub(first)+time.Second, crowd.Join{}
	return len(list), cleanup, nil
}
