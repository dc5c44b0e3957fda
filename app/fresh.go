package app

// What is new reaches those who watch before it is read again with all else.
