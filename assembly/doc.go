// Package assembly puts the program together: the store of all steps, their use cases, and
// the server with its parts of the API.
//
// It decides nothing. Start reading at New and Handler.
package assembly
