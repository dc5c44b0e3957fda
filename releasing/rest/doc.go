// Package rest answers about releases, waves and enforcement points, and speaks with the points over HTTP, in wire
// types of its own.
//
// It reaches the store only through use cases. Handlers are safe for concurrent use.
package rest
