package inventory

import "time"

// Source is an inventory source.
type Source struct {
	Name    string            `db:"name" json:"name"`
	Rank    int               `db:"rank" json:"rank" doc:"The lower one's values win"`
	Mapping map[string]string `db:"-" json:"mapping,omitempty" doc:"What the headings of its files are"`
	Taken   *time.Time        `db:"taken" json:"taken,omitempty" doc:"When it was heard last"`
	Whole   *time.Time        `db:"whole" json:"whole,omitempty" doc:"When it last gave its complete list"`
	Listed  int               `db:"listed" json:"listed" doc:"Workloads that it lists"`
	Tags    int               `db:"tags" json:"tags" doc:"Tag values that it gives"`
	Raw     *[]byte           `db:"mapping" json:"-"`
}

// Token lets a script feed one source.
type Token struct {
	ID      int64      `db:"id" json:"id"`
	Name    string     `db:"name" json:"name"`
	Source  string     `db:"source" json:"source" doc:"That it feeds"`
	Release bool       `db:"releases" json:"releases" doc:"It may release policies, and feeds nothing"`
	Author  string     `db:"author" json:"author"`
	Made    time.Time  `db:"made" json:"made"`
	Used    *time.Time `db:"used" json:"used,omitempty"`
	Revoked *time.Time `db:"revoked" json:"revoked,omitempty"`
}

// Selection is a filter of a list under a name.
type Selection struct {
	List   string    `db:"list" json:"list"`
	Name   string    `db:"name" json:"name"`
	Filter string    `db:"filter" json:"filter" doc:"The query of the page's address"`
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
}
