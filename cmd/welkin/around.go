package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // for the stores' file

	"welkin/demo"
	"welkin/localmaria"
	"welkin/standin/objectstore"
	"welkin/standin/sftpserver"
	"welkin/store"
)

// around is what stands around Welkin in the demo: a source database, and simulated
// services, all on loopback.
type around struct {
	connections []aroundConnection
	stops       []func()
}

type aroundConnection struct {
	store.Connection
	secrets map[string]string
}

func (a *around) stop() {
	for i := len(a.stops) - 1; i >= 0; i-- {
		a.stops[i]()
	}
}

func (a *around) add(name, kind string, settings map[string]any, secrets map[string]string) {
	text, _ := json.Marshal(settings)
	a.connections = append(a.connections, aroundConnection{store.Connection{Name: name, Kind: kind, Settings: text}, secrets})
}

// demoKey is the key, password and user's name of the demo's stand-ins, which answer on
// loopback alone.
const demoKey = "larkfell"

// startAround starts it all.
func (c *demoCommand) startAround(ctx context.Context, g *demo.Generator, say func(string, ...any)) (a *around, err error) {
	a = &around{}
	defer func() {
		if err != nil {
			a.stop()
		}
	}()
	incoming, err := filepath.Abs(filepath.Join(c.Data, "incoming"))
	if err != nil {
		return a, err
	}
	say("starting MariaDB and the stand-ins …")
	if err := a.stores(ctx, g, c.Data); err != nil {
		return a, err
	}
	if err := a.storesFile(ctx, g, filepath.Join(c.Data, "stores.db")); err != nil {
		return a, err
	}
	objects, err := objectstore.New("incoming", demoKey)
	if err != nil {
		return a, err
	}
	if err := objects.Fill("incoming", incoming); err != nil {
		return a, fmt.Errorf("filling the object store: %w", err)
	}
	port, err := a.serve(objects)
	if err != nil {
		return a, err
	}
	a.add("objects", "s3", map[string]any{"host": "127.0.0.1", "port": port, "bucket": "incoming", "access_key": demoKey, "tls": "disable"}, map[string]string{"secret_key": demoKey})
	keepers, err := sftpserver.Start("127.0.0.1:0", incoming, demoKey, demoKey, [32]byte{1, 2, 3})
	if err != nil {
		return a, err
	}
	a.stops = append(a.stops, keepers.Close)
	a.add("keepers", "sftp", map[string]any{"host": "127.0.0.1", "port": keepers.Port(), "user": demoKey, "host_key": keepers.Fingerprint()}, map[string]string{"password": demoKey})
	if port, err = a.serve(g.Council(demoKey)); err != nil {
		return a, err
	}
	a.add("council", "http", map[string]any{"url": fmt.Sprintf("http://127.0.0.1:%d", port), "auth": "key in a header", "paths": []string{"/v1/provisions", "/v1/roads", "/v1/council/figures"}}, map[string]string{"key": demoKey})
	return a, nil
}

// serve answers on a free port.
func (a *around) serve(h http.Handler) (port int, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }()
	a.stops = append(a.stops, func() { _ = server.Close() })
	return l.Addr().(*net.TCPAddr).Port, nil
}

// stores starts the database of the stores, and fills it once.
func (a *around) stores(ctx context.Context, g *demo.Generator, data string) error {
	maria, err := localmaria.Start(ctx, filepath.Join(data, "mariadb"))
	if err != nil {
		return err
	}
	a.stops = append(a.stops, maria.Stop)
	made, err := maria.Ensure(ctx, "stores")
	if err != nil {
		return err
	}
	a.add("stores", "mysql", map[string]any{"host": "127.0.0.1", "port": maria.Port, "database": "stores", "user": localmaria.Owner, "tls": "disable"}, map[string]string{"password": maria.Password()})
	if !made {
		return nil
	}
	db, err := maria.Open("stores")
	if err != nil {
		return err
	}
	defer db.Close()
	return g.Stores(ctx, db)
}

// storesFile makes the same as a SQLite file, once.
func (a *around) storesFile(ctx context.Context, g *demo.Generator, path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	a.add("stores file", "sqlite", map[string]any{"path": path}, nil)
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+path+".new")
	if err != nil {
		return err
	}
	err = g.Stores(ctx, db)
	if err = errors.Join(err, db.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}
