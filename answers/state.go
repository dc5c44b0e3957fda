package answers

import (
	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/model"
)

// Window is the stretch of time that a request speaks of.
type Window struct {
	From string `query:"from" doc:"Start of the window, RFC 3339; without it, the first conversation"`
	To   string `query:"to" doc:"End of the window, RFC 3339; without it, the last conversation"`
}

func (w Window) Hours(m *model.Model) (from, to flow.Hour, err error) {
	from, to = m.From, m.To
	for _, b := range []struct {
		text string
		hour *flow.Hour
		name string
	}{{w.From, &from, "from"}, {w.To, &to, "to"}} {
		if b.text == "" {
			continue
		}
		t, bad := estate.ParseInstant(b.text)
		if bad != nil {
			return 0, 0, huma.Error422UnprocessableEntity(b.name + ": " + bad.Error())
		}
		*b.hour = flow.HourOf(t)
	}
	// Nothing was seen outside of what there is: a wider window is the same one.
	from, to = max(from, m.From), min(to, m.To)
	return from, max(from, to), nil
}
