// Package drafting is the step in which people write the policy: revisions, edits, proposals.
//
// Start reading at Edit.
package drafting
