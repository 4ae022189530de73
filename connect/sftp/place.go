package sftp

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"github.com/pkg/sftp"

	"welkin/connect/filestore"
)

// place keeps files in the folder.
type place struct{ *Folder }

// at gives a name's path; it never leads out of the folder.
func (p *place) at(name string) string {
	inside := path.Clean("/" + name)[1:]
	if p.settings.Path == "" && inside == "" {
		return "."
	}
	return path.Join(p.settings.Path, inside)
}

// List implements filestore.Place.
func (p *place) List(ctx context.Context, folder string, deep bool, see func(filestore.Info) bool) error {
	client, err := p.get(ctx)
	if err != nil {
		return err
	}
	if deep && folder != "" { // a file of that very name is meant too
		info, err := client.Stat(p.at(folder))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && !info.IsDir() {
			see(filestore.Info{Name: folder, Size: info.Size(), Changed: info.ModTime()})
			return nil
		}
	}
	_, err = p.list(ctx, client, folder, deep, see)
	return err
}

func (p *place) list(ctx context.Context, client *sftp.Client, folder string, deep bool, see func(filestore.Info) bool) (more bool, err error) {
	list, err := client.ReadDirContext(ctx, p.at(folder))
	if err != nil {
		return false, p.explain(err, p.at(folder))
	}
	for _, e := range list {
		name := path.Join(folder, e.Name())
		if deep && e.IsDir() {
			if more, err := p.list(ctx, client, name, deep, see); err != nil || !more {
				return more, err
			}
			continue
		}
		if !see(filestore.Info{Name: name, Folder: e.IsDir(), Size: e.Size(), Changed: e.ModTime()}) {
			return false, nil
		}
	}
	return true, nil
}

// Open implements filestore.Place.
func (p *place) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	client, err := p.get(ctx)
	if err != nil {
		return nil, err
	}
	f, err := client.Open(p.at(name))
	if err != nil {
		return nil, p.explain(err, name)
	}
	return &file{File: f, p: p, name: name, ctx: ctx}, nil
}

// file says what goes wrong while it is read, and ends when one gives up.
type file struct {
	*sftp.File
	p    *place
	name string
	ctx  context.Context
}

func (f *file) Read(b []byte) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.File.Read(b)
	if err != nil && err != io.EOF {
		err = f.p.explain(err, f.name)
	}
	return n, err
}

// Put implements filestore.Place.
func (p *place) Put(ctx context.Context, name string, r io.Reader, _ int64) error {
	client, err := p.get(ctx)
	if err != nil {
		return err
	}
	if dir := path.Dir(p.at(name)); dir != "." {
		if err := client.MkdirAll(dir); err != nil {
			return p.explain(err, dir)
		}
	}
	f, err := client.Create(p.at(name))
	if err != nil {
		return p.explain(err, name)
	}
	_, err = f.ReadFrom(r)
	return p.explain(errors.Join(err, f.Close()), name)
}

// Rename implements filestore.Place.
func (p *place) Rename(ctx context.Context, from, to string) error {
	client, err := p.get(ctx)
	if err != nil {
		return err
	}
	if dir := path.Dir(p.at(to)); dir != "." {
		if err := client.MkdirAll(dir); err != nil {
			return p.explain(err, dir)
		}
	}
	return p.explain(client.PosixRename(p.at(from), p.at(to)), to)
}

// Remove implements filestore.Place.
func (p *place) Remove(ctx context.Context, name string) error {
	client, err := p.get(ctx)
	if err != nil {
		return err
	}
	if err := client.Remove(p.at(name)); !errors.Is(err, fs.ErrNotExist) {
		return p.explain(err, name)
	}
	return nil
}

// Exists implements filestore.Place.
func (p *place) Exists(ctx context.Context, name string) (bool, error) {
	client, err := p.get(ctx)
	if err != nil {
		return false, err
	}
	_, err = client.Stat(p.at(name))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, p.explain(err, name)
}
