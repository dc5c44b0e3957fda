// Package imports has what imports of every kind share: the file that was sent, how it is
// read, and the report of what taking it does.
//
// Start reading at File and ImportReport.
package imports
