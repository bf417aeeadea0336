package resolve

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/match"
)

// worker works on one block of rows at a time: it matches policies and decides settings. Its
// scratch space is used again by whoever asks next. It is for one thread.
type worker struct {
	plan *Plan
	match.Matcher
	decide.Decider

	matches []levelMatch   // by number of the level
	loading *bitset.Set    // the rows for which levels are loaded; nil: Dom
	toLoad  []pendingMatch // scratch space of loadMatches

	in     []decide.Candidate // scratch space of candidates
	exempt []*bitset.Set      // scratch space of decide

	updaterScratch

	scratchApplied []applied // scratch space for what is asked of one subject
	scratchMarked  decide.Marked
	scratchAt      []int32
	scratchReasons Reasons
	scratchLaid    blockMatches // scratch space of matchesIn
	scratchWords   []uint8
}

// levelMatch is the laptops to which a policy applies at one level; detached is those of them for
// which its kind is detached.
type levelMatch struct {
	epoch, split        int32
	all                 *bitset.Set // nil: none
	inherited, detached *bitset.Set
}

// worker lends a worker for subjects; done gives it back. A worker that another thread gave back
// brings its buffers, which are as large as they ever needed to be.
func (p *Plan) worker(of *match.Subjects) *worker {
	w, _ := p.Gen.Workers.Get().(*worker)
	if w == nil {
		w = &worker{}
		w.Decider = decide.NewDecider(&w.Arena)
	}
	w.plan, w.Observer = p, nil
	w.Begin(&p.Population, of)
	return w
}

// done gives a worker back, with its scratch space.
func (w *worker) done() {
	// References to the plan are dropped, so that a worker in the pool keeps no plan in memory.
	gen := w.plan.Gen
	w.plan, w.Observer = nil, nil
	w.End()
	gen.Workers.Put(w)
}

// load turns to a block; dom is the rows that are looked at.
func (w *worker) load(block int, dom *bitset.Set) {
	w.loading = nil
	w.Out.Reset()
	w.Load(block, dom)
}
