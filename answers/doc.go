// Package answers has what the answers of several steps have in common: windows of time,
// rules, endpoints, conversations, findings, the outcome of an edit. They are wire types;
// what they are made from is in core and model.
//
// Everything here is a value, or safe for concurrent use. Start reading at Desk.
package answers
