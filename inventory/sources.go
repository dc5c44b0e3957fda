package inventory

import "time"

// Source is an inventory source.
type Source struct {
	Name    string            `db:"name"`
	Rank    int               `db:"rank"`
	Mapping map[string]string `db:"-"`
	Taken   *time.Time        `db:"taken"`
	Whole   *time.Time        `db:"whole"`
	Listed  int               `db:"listed"`
	Tags    int               `db:"tags"`
	Raw     *[]byte           `db:"mapping"`
}

// Token lets a script feed one source.
type Token struct {
	ID      int64      `db:"id"`
	Name    string     `db:"name"`
	Source  string     `db:"source"`
	Release bool       `db:"releases"`
	Author  string     `db:"author"`
	Made    time.Time  `db:"made"`
	Used    *time.Time `db:"used"`
	Revoked *time.Time `db:"revoked"`
}

// Selection is a filter of a list under a name.
type Selection struct {
	List   string    `db:"list"`
	Name   string    `db:"name"`
	Filter string    `db:"filter"`
	Author string    `db:"author"`
	At     time.Time `db:"at"`
}
