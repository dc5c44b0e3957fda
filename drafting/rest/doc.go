// Package rest answers about the policy document, its revisions and proposals over HTTP, in wire types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
