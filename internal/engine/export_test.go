package engine

// CutReplaysAt has suspended changes merged so many at a time, so that cuts fall between any
// two of them.
func CutReplaysAt(n int64) { replayRows = n }
