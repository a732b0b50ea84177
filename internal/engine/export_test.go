package engine

// CutReplaysAt has suspended changes merged so many at a time, so that cuts fall between any
// two of them.
func CutReplaysAt(n int64) { replayRows = n }

// ProveInParts has proofs go through tables in parts of so many rows, until the function that it gives is called.
func ProveInParts(rows int64) (as func()) {
	was := partRows
	partRows = rows
	return func() { partRows = was }
}
