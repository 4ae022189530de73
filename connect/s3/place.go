package s3

import (
	"context"
	"errors"
	"io"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"

	"welkin/connect/filestore"
)

// place keeps files in the bucket, below a folder.
type place struct {
	*Bucket
	prefix string
}

func (p *place) key(name string) string { return strings.TrimPrefix(path.Join(p.prefix, name), "/") }

func (p *place) name(key string) string {
	return strings.TrimPrefix(strings.TrimPrefix(key, p.prefix), "/")
}

// List implements filestore.Place.
func (p *place) List(ctx context.Context, folder string, deep bool, see func(filestore.Info) bool) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	prefix := p.key(folder)
	if prefix != "" {
		prefix += "/"
	}
	if deep && folder != "" { // a file of that very name is meant too
		if info, err := p.client.StatObject(ctx, p.bucket, p.key(folder), minio.StatObjectOptions{}); err == nil {
			see(filestore.Info{Name: folder, Size: info.Size, Changed: info.LastModified})
			return nil
		}
	}
	for o := range p.client.ListObjects(ctx, p.bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: deep}) {
		if o.Err != nil {
			return p.explain(o.Err, p.bucket)
		}
		name := p.name(o.Key)
		isFolder := strings.HasSuffix(name, "/")
		if name = strings.TrimSuffix(name, "/"); name == "" || deep && isFolder {
			continue
		}
		if !see(filestore.Info{Name: name, Folder: isFolder, Size: o.Size, Changed: o.LastModified}) {
			return nil
		}
	}
	return nil
}

// Open implements filestore.Place.
func (p *place) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	o, err := p.client.GetObject(ctx, p.bucket, p.key(name), minio.GetObjectOptions{})
	if err == nil {
		_, err = o.Stat() // nothing is asked before
	}
	if err != nil {
		return nil, p.explain(err, name)
	}
	return &object{o, p, name}, nil
}

// object says what goes wrong while it is read.
type object struct {
	*minio.Object
	p    *place
	name string
}

func (o *object) Read(b []byte) (int, error) {
	n, err := o.Object.Read(b)
	if err != nil && err != io.EOF {
		err = o.p.explain(err, o.name)
	}
	return n, err
}

// Put implements filestore.Place.
func (p *place) Put(ctx context.Context, name string, r io.Reader, size int64) error {
	_, err := p.client.PutObject(ctx, p.bucket, p.key(name), r, size, minio.PutObjectOptions{PartSize: 64 << 20})
	return p.explain(err, name)
}

// mostCopied is what the protocol copies at once.
const mostCopied = 5 << 30

// Rename implements filestore.Place: the store copies, and the old one goes.
func (p *place) Rename(ctx context.Context, from, to string) error {
	dst, src := minio.CopyDestOptions{Bucket: p.bucket, Object: p.key(to)}, minio.CopySrcOptions{Bucket: p.bucket, Object: p.key(from)}
	info, err := p.client.StatObject(ctx, p.bucket, p.key(from), minio.StatObjectOptions{})
	switch {
	case err != nil:
	case info.Size > mostCopied:
		_, err = p.client.ComposeObject(ctx, dst, src)
	default:
		_, err = p.client.CopyObject(ctx, dst, src)
	}
	if err != nil {
		return p.explain(err, from)
	}
	return p.Remove(ctx, from)
}

// Remove implements filestore.Place.
func (p *place) Remove(ctx context.Context, name string) error {
	return p.explain(p.client.RemoveObject(ctx, p.bucket, p.key(name), minio.RemoveObjectOptions{}), name)
}

// Exists implements filestore.Place.
func (p *place) Exists(ctx context.Context, name string) (bool, error) {
	_, err := p.client.StatObject(ctx, p.bucket, p.key(name), minio.StatObjectOptions{})
	var answer minio.ErrorResponse
	if errors.As(err, &answer) && answer.Code == "NoSuchKey" {
		return false, nil
	}
	return err == nil, p.explain(err, name)
}
