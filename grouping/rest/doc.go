// Package rest answers about groups, their members and their history over HTTP, in wire types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
