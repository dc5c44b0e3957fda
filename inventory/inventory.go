// Package inventory is the first step: workloads, what sources report of their tags and addresses, and
// what people set by hand.
//
// Its types are values; start reading at Listing.
package inventory
