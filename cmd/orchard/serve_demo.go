package main

import (
	"context"
	"log/slog"

	"lucidorchard/assembly"
	"lucidorchard/collect"
	"lucidorchard/demo"
)

// startDemo runs the points and exporters of the demo, as far as the options ask for them. The
// points run only when the server answers; stop ends the exporters.
func (o *serveOptions) startDemo(ctx context.Context, a *assembly.App, collector *collect.Collector,
	address string) (stand *standIn, stop func(), err error) {
	stop = func() {}
	if o.demo && o.points {
		tokens, err := demoPoints(ctx, a, o.data)
		if err != nil {
			return nil, stop, unusable("the demo's enforcement points: %s", err)
		}
		stand = &standIn{server: "http://" + address, tokens: tokens, loses: demo.LosesARule,
			after: o.drift, log: slog.New(slog.DiscardHandler)}
		stand.prepare()
	}
	if collector != nil && o.demo && o.live {
		if target, ok := collector.Address("udp"); ok {
			sender := demo.NewSender(o.scale)
			if stand != nil {
				sender.Passes = stand.passes
			}
			stop = sender.Stop
			if err := sender.Start(target); err != nil {
				return nil, stop, unusable("%s", err)
			}
		}
	}
	return stand, stop, nil
}
