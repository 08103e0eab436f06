package cli

import "context"

var demoCommand = command{name: "demo", about: "show the tool at work on practice servers", examples: []string{"gharbor demo"}, run: func(ctx context.Context, c *call) error { return nil }}
