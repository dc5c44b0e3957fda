package app

// What days come to: looked at as traffic comes, and kept for those who ask.
