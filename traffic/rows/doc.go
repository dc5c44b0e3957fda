// Package rows encodes records and conversations as the rows that COPY takes, ahead of the
// transaction that stores them: collectors keep them in their queue, imports in parts
// on the disk.
//
// It knows no connection. What it returns is not changed afterwards and may be shared.
// Start reading at BatchOf and PartOf.
package rows
