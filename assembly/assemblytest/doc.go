// Package assemblytest runs the whole program for tests, over a database of the test's own,
// and speaks its API as a client that checks every answer against the OpenAPI document.
//
// A Client belongs to its test. Start reading at Serve.
package assemblytest
