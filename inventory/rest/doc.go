// Package rest answers about workloads, their tags and sources over HTTP, in wire types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
