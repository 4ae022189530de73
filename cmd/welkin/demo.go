package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"welkin/demo"
	"welkin/localpg"
	"welkin/store"
)

type demoCommand struct {
	Data    string  `help:"Folder for the demo's databases and files." type:"path" default:".data"`
	Address string  `help:"Address and port to listen on." default:"127.0.0.1:4870"`
	Scale   float64 `help:"Size of the data; 1 is about 200,000 stays." default:"1"`
	Log     string  `help:"How much is logged." enum:"debug,info,warn,error" default:"warn"`
}

// Run starts everything the demo needs and stops it again in the end.
func (c *demoCommand) Run(ctx context.Context) error {
	say := func(format string, args ...any) { fmt.Printf(format+"\n", args...) }
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return err
	}
	if err := portIsFree(c.Address); err != nil { // said before anything is started
		return err
	}
	lock, err := lockFolder(c.Data)
	if err != nil {
		return err
	}
	defer lock.Close()
	say("starting PostgreSQL …")
	pg, err := localpg.Start(ctx, filepath.Join(c.Data, "postgres"), localpg.Options{})
	if err != nil {
		return err
	}
	defer pg.Stop()
	g := demo.New(demo.Options{Scale: c.Scale, Today: time.Now()})
	if err := c.prepare(ctx, g, pg, say); err != nil {
		return err
	}
	around, err := c.startAround(ctx, g, say)
	if err != nil {
		return err
	}
	defer around.stop()
	serve := serveCommand{Address: c.Address, installation: installation{Database: pg.Address("welkin"), KeyFile: filepath.Join(c.Data, "key"),
		Data: c.Data, Memory: 512, Runs: 2, Log: c.Log, Private: true}} // what it asks runs on this machine
	people, err := c.settle(ctx, &serve.installation, pg, around)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go func() {
		select {
		case err := <-pg.Exited():
			stop(fmt.Errorf("PostgreSQL ended by itself (%v); start the demo again, its data is kept", err))
		case <-ctx.Done():
		}
	}()
	err = serve.serve(ctx, serve.logger(), func(address string) {
		say("\nWelkin answers at  http://%s", address)
		say("sign in as         %s   password  %s", people.Login, people.Password)
		say("(also as %s, same password)   Ctrl-C stops everything; the data is kept.\n", "builder, operator, reader")
	})
	if cause := context.Cause(ctx); err == nil && cause != nil && cause != context.Canceled {
		err = cause
	}
	say("stopped.")
	return err
}

// lockFolder keeps a second demo away from a data folder. The lock goes with its
// process, so a killed demo leaves none behind.
func lockFolder(folder string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("the demo runs already on the data in %s; stop it, or give this one another folder with --data", folder)
	}
	return lock, nil
}

// prepare makes the databases and the made-up data when they are new.
func (c *demoCommand) prepare(ctx context.Context, g *demo.Generator, pg *localpg.Server, say func(string, ...any)) error {
	for _, name := range []string{"welkin", "warehouse", "booking"} {
		if _, err := pg.Ensure(ctx, name); err != nil {
			return err
		}
	}
	mark := filepath.Join(c.Data, "generated")
	if _, err := os.Stat(mark); err == nil {
		return nil
	}
	say("making up the Larkfell Hut Association's data …")
	if err := g.Booking(ctx, pg.Address("booking")); err != nil {
		return fmt.Errorf("filling the booking database: %w", err)
	}
	if err := g.Incoming(filepath.Join(c.Data, "incoming")); err != nil {
		return fmt.Errorf("writing the warden logs: %w", err)
	}
	return os.WriteFile(mark, []byte(time.Now().Format(time.RFC3339)+"\n"), 0o644)
}

// settle puts people, connections, pipelines and schedules into Welkin's store.
// The database's port may differ from the last start's; the connections follow.
func (c *demoCommand) settle(ctx context.Context, i *installation, pg *localpg.Server, around *around) (demo.SignIn, error) {
	s, err := i.open(ctx)
	if err != nil {
		return demo.SignIn{}, err
	}
	defer s.Close()
	in, err := demo.People(ctx, s, filepath.Join(c.Data, "sign-in.json"))
	if err != nil {
		return in, err
	}
	incoming, err := filepath.Abs(filepath.Join(c.Data, "incoming"))
	if err != nil {
		return in, err
	}
	folder, _ := json.Marshal(map[string]any{"path": incoming})
	database := func(name string) store.Connection {
		text, _ := json.Marshal(map[string]any{"host": "127.0.0.1", "port": pg.Port, "database": name, "user": pg.User(), "tls": "disable"})
		return store.Connection{Name: name, Kind: "postgresql", Settings: text}
	}
	password := map[string]string{"password": pg.Password()}
	if err := demo.Connections(ctx, s, store.Connection{Name: "incoming", Kind: "folder", Settings: folder}, nil); err != nil {
		return in, err
	}
	for _, name := range []string{"booking", "warehouse"} {
		if err := demo.Connections(ctx, s, database(name), password); err != nil {
			return in, err
		}
	}
	for _, o := range around.connections {
		if err := demo.Connections(ctx, s, o.Connection, o.secrets); err != nil {
			return in, err
		}
	}
	if err := demo.Pipelines(ctx, s); err != nil {
		return in, err
	}
	return in, demo.Sources(ctx, s)
}
