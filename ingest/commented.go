package ingest

import (
	"bufio"
	"bytes"
)

// commented is how a table begins whose header stands in comments: lines of # with a name
// and what it says, of which #fields has the names of the columns.
const commented = "#separator "

// commentedTable reads such a table as one with a header: other comments are blank lines,
// so that lines keep their numbers.
type commentedTable struct {
	lines  *bufio.Reader
	rest   []byte
	headed bool
}

func (c *commentedTable) Read(p []byte) (int, error) {
	if len(c.rest) == 0 {
		line, err := c.lines.ReadBytes('\n')
		if len(line) == 0 {
			return 0, err
		}
		if line[0] == '#' {
			names, is := bytes.CutPrefix(line, []byte("#fields\t"))
			if line = []byte("\n"); is && !c.headed {
				line, c.headed = names, true
			}
		}
		c.rest = line
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}
