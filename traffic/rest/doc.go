// Package rest answers about conversations, the ledger, the map and exporters over HTTP, in wire types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
