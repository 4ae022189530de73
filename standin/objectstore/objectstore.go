// Package objectstore is a simulated object store that speaks the S3 protocol, in
// memory, for the demo and the tests. It knows one access key; secrets are not looked
// at.
package objectstore

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// Store is a simulated store. It is an http.Handler.
type Store struct {
	backend *s3mem.Backend
	inner   http.Handler
	key     string
}

// New makes a store with one bucket that takes one access key.
func New(bucket, key string) (*Store, error) {
	backend := s3mem.New()
	if err := backend.CreateBucket(bucket); err != nil {
		return nil, fmt.Errorf("making the bucket %s: %w", bucket, err)
	}
	return &Store{backend: backend, key: key, inner: gofakes3.New(backend).Server()}, nil
}

// ServeHTTP implements http.Handler.
func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.Header.Get("Authorization"), "Credential="+s.key+"/") {
		w.Header().Set("Content-Type", "application/xml")
		w.WriteHeader(http.StatusForbidden)
		_, _ = fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?><Error><Code>InvalidAccessKeyId</Code><Message>There is no such key.</Message></Error>`)
		return
	}
	if r.Method == http.MethodPut && r.Header.Get("Content-Length") == "" { // copies have none, which the library minds
		r.Header.Set("Content-Length", strconv.FormatInt(max(r.ContentLength, 0), 10))
	}
	s.inner.ServeHTTP(w, r)
}

// Put keeps an object.
func (s *Store) Put(bucket, name string, content []byte) error {
	_, err := s.backend.PutObject(bucket, name, map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}, bytes.NewReader(content), int64(len(content)), nil)
	return err
}

// Fill keeps all files of a folder, but those that are hidden.
func (s *Store) Fill(bucket, folder string) error {
	return filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if strings.HasPrefix(e.Name(), ".") && path != folder {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if e.IsDir() {
			return nil
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		return s.Put(bucket, filepath.ToSlash(name), content)
	})
}
