package server

import (
	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/ingest"
)

// StreamCSV answers with CSV that is sent as it is made.
func StreamCSV(name string, rows func(*ingest.CSV)) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/csv; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
		w := ingest.NewCSV(ctx.BodyWriter())
		rows(w)
		_ = w.Flush() // nobody reads any more
	}}
}
