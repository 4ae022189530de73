package main

import "context"

type serveCommand struct{}

func (serveCommand) Run(context.Context) error { return nil }

type workerCommand struct{}

func (workerCommand) Run(context.Context) error { return nil }

type demoCommand struct{}

func (demoCommand) Run(context.Context) error { return nil }
