// Package consequences has what a change of the draft or of tags does: verdicts, groups,
// assertions and probes before and after it.
//
// It answers from models alone. Start reading at Changing.
package consequences
