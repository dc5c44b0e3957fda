package server

// Page is a stretch of a list.
type Page struct {
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (p Page) Cut(n int) (from, to int) {
	return min(p.Offset, n), min(p.Offset, n) + min(p.Limit, n-min(p.Offset, n))
}
