// This file reads the live estate from the store.

package workflow

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// load reads the live estate from the store.
func (s *liveEstate) load(ctx context.Context) (*Live, error) {
	live := &Live{Turn: 1, generations: &generations{}}
	versions, retired := map[objectKey]int64{}, map[objectKey]int64{}
	var err error
	if live.Revision, err = s.store.In(ctx).Revision(); err != nil {
		return nil, err
	}
	imported, err := s.store.In(ctx).AllBrought()
	if err != nil {
		return nil, err
	}
	records := make(map[objectKey]store.SourceRecord, len(imported))
	origins := make(map[objectKey]Origin, len(imported))
	for _, r := range imported {
		key := objectKey{estate.Kind(r.Kind), r.ObjectID}
		records[key], origins[key] = r, originOf(r)
	}
	decoding := startDecoding()
	for o, err := range s.store.In(ctx).Objects() {
		if err != nil {
			decoding.stop()
			return nil, err
		}
		key := objectKey{estate.Kind(o.Kind), o.ID}
		if o.Retired {
			retired[key] = o.Version
			continue
		}
		r := records[key]
		decoding.add(body{key, r.Brought, o.Body, o.Local})
		versions[key] = o.Version
		delete(records, key)
	}
	for key, r := range records {
		decoding.add(body{objectKey: key, imported: r.Brought})
	}
	live.versions, live.retired, live.imported = newCowMap(versions), newCowMap(retired), newCowMap(origins)
	objects, err := decoding.finish()
	if err != nil {
		return nil, err
	}
	taken, err := s.store.In(ctx).TakenOffers()
	if err != nil {
		return nil, err
	}
	facts, err := s.store.In(ctx).Facts()
	if err != nil {
		return nil, err
	}
	if live.told, err = readTold(taken, facts); err != nil {
		return nil, err
	}
	live.allAsTold(objects)
	snapshot := files.Assemble(objects, s.shipped).On(s.Today())
	snapshot.Sort()
	if len(snapshot.Units) == 0 { // before the first import
		snapshot.Units = []estate.Unit{{ID: standIn, Title: "Company"}}
	}
	snapshot, _ = snapshot.Sever(nil, nil)
	live.Side = impact.Resolve(snapshot)
	return live, nil
}

// loadRollouts reads the rollouts that are under way, and adds their changes to what will be live.
func (s *liveEstate) loadRollouts(ctx context.Context) error {
	rows, err := s.store.In(ctx).Rollouts(false)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.StartedAt == nil {
			continue
		}
		m, err := s.readMachine(s.store.In(ctx), row)
		if err != nil {
			return err
		}
		s.machines[row.ID] = m
		over, err := s.lay(ctx, s.live, m.edits, nil)
		if err != nil {
			return err
		}
		if over.snapshot == nil {
			return fmt.Errorf("the change of rollout %s is no estate: %w", row.ID, over.faults)
		}
		next := s.live.after(s.live.Revision, &draft{after: s.live.Side.With(over.snapshot)})
		next.Turn = s.live.Turn
		if p, _ := m.Progress(); p == rollout.TakingBack || p == rollout.TakenBack {
			m.altered = alteredSettings(impact.Compare(s.live.Side, next.Side))
			continue
		}
		next.rolling = append(slices.Clone(s.live.rolling), rolling{row.ID, m.edits, takingOut(s.live.Plan.Snapshot(), m.edits), m})
		next.noteEdits(s.live, m.edits)
		s.live = next
	}
	return nil
}

// body is an object as it is stored: as its source has it and as it was written here, either of
// which may be empty.
type body struct {
	objectKey
	imported, written, local string
}

// decoding decodes bodies on all threads while more of them are read.
type decoding struct {
	batch   []body
	batches chan []body
	wait    sync.WaitGroup

	mu      sync.Mutex // guards what follows
	objects []any
	err     error // the first
}

// bodiesInBatch is how many bodies a thread takes at once.
const bodiesInBatch = 500

func startDecoding() *decoding {
	d := &decoding{batches: make(chan []body, 2*runtime.GOMAXPROCS(0))}
	for range runtime.GOMAXPROCS(0) {
		d.wait.Go(d.decode)
	}
	return d
}

// add takes a body. It waits while all threads have enough to do.
func (d *decoding) add(b body) {
	if d.batch = append(d.batch, b); len(d.batch) == bodiesInBatch {
		d.batches <- d.batch
		d.batch = make([]body, 0, bodiesInBatch)
	}
}

// finish waits for the objects, which are in no order.
func (d *decoding) finish() ([]any, error) {
	d.batches <- d.batch
	d.stop()
	return d.objects, d.err
}

func (d *decoding) stop() {
	close(d.batches)
	d.wait.Wait()
}

func (d *decoding) decode() {
	reader := files.NewStoredReader()
	for batch := range d.batches {
		objects := make([]any, 0, len(batch))
		var failed error
		for i := range batch {
			object, err := batch[i].decode(reader)
			if err != nil {
				failed = fmt.Errorf("%s %s: %w", batch[i].kind, batch[i].id, err)
				break
			}
			objects = append(objects, object)
		}
		d.mu.Lock()
		d.objects = append(d.objects, objects...)
		if d.err == nil {
			d.err = failed
		}
		d.mu.Unlock()
	}
}

func (b *body) decode(reader *files.StoredReader) (any, error) {
	text, err := compose(b.imported, b.written, b.local)
	if err != nil {
		return nil, err
	}
	return reader.Read(b.kind, []byte(text))
}
