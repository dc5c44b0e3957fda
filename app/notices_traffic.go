package app

// Notices of whatever traffic a filter of the ledger selects.
