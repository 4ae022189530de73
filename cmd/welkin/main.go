// Welkin is one program: it serves the application, works through its queue,
// runs the demo, and checks, formats, tries and runs sheets from a command line
// without a server. main.go has the commands; each other file has one or a few.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/alecthomas/kong"
)

// Exit codes of the commands that work on sheets.
const (
	exitDone     = 0
	exitFailed   = 1
	exitBadUse   = 2
	exitSetAside = 3
)

// version is set by the build.
var version = "development"

type commands struct {
	Config kong.ConfigFlag `help:"A JSON file of flags and their values."`

	Serve   serveCommand   `cmd:"" help:"Serve the application and work through its queue."`
	Worker  workerCommand  `cmd:"" help:"Work through the queue of an installation, without serving."`
	Person  personCommand  `cmd:"" help:"Add somebody who may sign in; the password is asked for."`
	Demo    demoCommand    `cmd:"" help:"Start the demo: a database of its own, made-up data, the application."`
	Check   checkCommand   `cmd:"" help:"Check a sheet and say what is wrong, with line and column."`
	Format  formatCommand  `cmd:"" help:"Write a sheet in its canonical form."`
	Try     tryCommand     `cmd:"" help:"Run a sheet up to a step on a sample and show the rows; nothing is written."`
	Run     runCommand     `cmd:"" help:"Run a sheet."`
	Openapi openapiCommand `cmd:"" name:"openapi" help:"Print the OpenAPI document of the application."`
	Steps   stepsCommand   `cmd:"" name:"steps" help:"Print the kinds of step and the functions as Markdown."`
	Version versionCommand `cmd:"" help:"Say which version this is."`
}

type versionCommand struct{}

func (versionCommand) Run() error {
	fmt.Println("welkin", version)
	return nil
}

// exitError carries an exit code up to main.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var c commands
	parser, err := kong.New(&c, kong.Name("welkin"), kong.Description("Build, run and watch data pipelines."),
		kong.UsageOnError(), kong.BindTo(ctx, (*context.Context)(nil)), kong.DefaultEnvars("WELKIN"), kong.Configuration(kong.JSON, "/etc/welkin/welkin.json"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "welkin:", err)
		return exitBadUse
	}
	cmd, err := parser.Parse(args)
	if err != nil {
		fmt.Fprintln(os.Stderr, "welkin:", err)
		return exitBadUse
	}
	err = cmd.Run()
	var exit *exitError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &exit):
		if exit.err != nil {
			fmt.Fprintln(os.Stderr, "welkin:", exit.err)
		}
		return exit.code
	}
	fmt.Fprintln(os.Stderr, "welkin:", err)
	return exitFailed
}
