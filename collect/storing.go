package collect

import (
	"bytes"
	"context"
	"strings"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/database"
	"lucidorchard/ingest"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// From the spool to the database.

// storeAll takes batches from the spool to the database, in their order, until
// all is there after the last came.
func (c *Collector) storeAll(ctx context.Context, done <-chan struct{}) {
	pause := time.Second
	ending := false
	for {
		b, err := c.spool.next()
		if err != nil {
			c.Log.Error("a batch in the spool cannot be read; it is set aside", "error", err)
			continue
		}
		if b == nil {
			if ending {
				return
			}
			select {
			case <-c.spool.more:
			case <-done:
				ending = true
			}
			continue
		}
		start := time.Now()
		changed := c.Disk.Changed()
		var added traffic.Added
		if err = c.Disk.Room(""); err == nil {
			once, cancel := context.WithTimeout(ctx, 2*time.Minute)
			added, err = c.Store.AddEncoded(once, b)
			cancel()
		}
		if err == nil {
			fresh := c.spool.stored(b, time.Since(start), added.Before != nil)
			select {
			case c.stored <- traffic.Stored{Version: added.Version, Fresh: fresh}:
			default:
			}
			pause = time.Second
			continue
		}
		if bad := database.Refused(err); bad != nil {
			if err = c.setAside(ctx, b, bad); err == nil {
				pause = time.Second
				continue
			}
		}
		c.spool.failed(err)
		select {
		case <-done: // it stays in the spool, for the next start
			c.Log.Warn("the database does not take the last batches; they stay in the spool", "folder", c.Spool,
				"error", err)
			return
		default:
		}
		c.Log.Error("a batch cannot be stored; it is tried again", "wait", pause, "error", err)
		select {
		case <-time.After(pause):
		case <-changed:
		case <-done:
		}
		pause = min(30*time.Second, 2*pause)
	}
}

// setAside takes a batch out of the way that the database refuses for what it
// holds: it is kept where people see it and can have it.
func (c *Collector) setAside(ctx context.Context, b *rows.Encoded, bad *database.DataError) error {
	c.Log.Error("the database refuses a batch for what it holds; it is set aside", "batch", b.ID, "records", b.Count,
		"reason", bad.Reason)
	once, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	var text bytes.Buffer
	w := ingest.NewCSV(&text)
	_ = w.Write(ingest.FlowHeader) // into memory
	err := b.EachRecord(func(r *flow.Joined) {
		r.Observer = strings.ToValidUTF8(strings.ReplaceAll(r.Observer, "\x00", "␀"), "�")
		_ = w.Write(ingest.FlowRow(r.Record))
	})
	if err == nil {
		err = w.Flush()
	}
	if err == nil {
		err = c.Store.KeepRefused(once, c.Name, b, bad.Reason, text.Bytes())
	}
	if err != nil {
		return err
	}
	c.spool.refused()
	return nil
}
