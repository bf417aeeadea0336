// Package engine computes tables block by block, in parallel, and only the blocks that an edit
// touches. It knows blocks, rows and patches. It does not know what the rows stand for: no units,
// policies, settings or values.
//
// A table has one list of blocks for each object, for example one list of sets for each group. An
// edit makes a new table that shares with the table before every list in which nothing differs. A
// run has three steps:
//
//  1. [Run] gives each block to a [Worker]. There is one Worker for each thread. A Worker reads the tables before the edit, computes the
//     block, and keeps a [Patch] for each result that differs. It does not write to any table.
//  2. When all blocks are done, [Apply] gives all patches to the caller, who writes them. All patches of one object are written by one
//     thread, so no locks are needed.
//  3. [SetBlock] writes one patch. It copies the list first if the list is shared with the table before.
//
// Because tables are only written in step 2, every Worker sees the same tables for the whole of
// step 1, and the plan before the edit stays valid for whoever still reads it.
//
// # Row sets
//
// During step 1 a Worker must remember, for each object, on which rows of the block its result
// differs. [RowSets] keeps these sets. [Merge] combines the result of the rows that were computed
// with the result of the rows that were not.
package engine
