// Package rest answers about verdicts, assertions, findings, probes and reports over HTTP, in wire types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
