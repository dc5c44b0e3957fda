// Package rest answers what is wrong with the server, its disks and its database.
//
// It asks no database: that may be what is wrong. Start reading at Troubles.
package rest
