package main

import "context"

var demoCommand = command{name: "demo", about: "run the demo fleet", synopsis: "later", example: "vessik demo -once", run: func(ctx context.Context, c *call) error { return c.parse() }}
