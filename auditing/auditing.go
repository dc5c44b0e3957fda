// Package auditing makes evidence that a promise was kept over a time.
//
// Start reading at EvidenceKept.
package auditing
