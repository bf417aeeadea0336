// This file sends records of the audit log elsewhere as they are written.

package service

import (
	"context"
	"crypto/sha256"
	"fmt"
	"time"

	"zenithridge.example/zridge/service/store"
)

const (
	forwardEvery = time.Second // how often the log is looked at for new records
	forwardPause = time.Minute // the longest pause after a failure; the first is forwardEvery, and each next one twice as long
	forwardMost  = 200         // records that are sent at once
)

// forwarder sends the records of the audit log to one place, in their order. Up to where it came is
// kept in the database: a record is sent at least once, also after an interruption or a restart, and
// twice only if the service ended between sending it and noting that.
type forwarder struct {
	to     destination
	place  string // names it in the database
	data   *store.Store
	config *Config

	sent   int64 // number of the last record that was sent
	failed int   // tries in a row
}

// newForwarders prepares the places to which records are sent.
func newForwarders(c *Config, data *store.Store) (list []*forwarder, err error) {
	for _, text := range c.Audit.Places {
		to, err := destinationOf(text)
		if err != nil {
			return nil, err
		}
		// Two addresses of one host are two places; what may be secret in them is not stored.
		sum := sha256.Sum256([]byte(text))
		f := &forwarder{to: to, place: fmt.Sprintf("%s %x", to, sum[:8]), data: data, config: c}
		if f.sent, err = data.AuditForwarded(f.place); err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, nil
}

// run sends records until the context ends, and then what is left, if the place takes it.
func (f *forwarder) run(ctx context.Context) {
	next := time.NewTimer(0)
	defer next.Stop()
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopWithin)
			defer cancel()
			f.forward(last)
			return
		case <-next.C:
			f.forward(ctx)
			next.Reset(min(forwardEvery<<min(f.failed, 10), forwardPause))
		}
	}
}

// forward sends all records that were not sent yet. It stops at the first failure.
func (f *forwarder) forward(ctx context.Context) {
	for {
		n, err := f.some(ctx)
		switch {
		case err != nil:
			f.failed++
			if f.failed == 1 { // said once, until it works again
				f.config.Log.Error("sending records of the audit log; they are sent again", "to", f.to.String(), "error", err, "after", f.sent)
			}
			return
		case f.failed > 0:
			f.config.Log.Info("records of the audit log are sent again", "to", f.to.String(), "up to", f.sent)
			f.failed = 0
		}
		if n < forwardMost {
			return
		}
	}
}

// some sends the next records, and tells how many.
func (f *forwarder) some(ctx context.Context) (n int, err error) {
	records, err := f.data.In(ctx).AuditAfter(f.sent, forwardMost)
	if err != nil || len(records) == 0 {
		return 0, err
	}
	list := make(entries, len(records))
	for i, r := range records {
		list[i] = recordEntry(r)
	}
	within, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if err := f.to.send(within, list); err != nil {
		return 0, err
	}
	f.sent = records[len(records)-1].Number
	// Noted even where the service ends meanwhile: otherwise all of them would be sent again.
	return len(records), f.data.In(context.WithoutCancel(ctx)).SetAuditForwarded(f.place, f.sent)
}
