// Package archive looks into archives (zip, and tar compressed or not) as into
// folders: their entries are files.
package archive

import (
	"archive/tar"
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
	"time"

	"welkin/core/format"
)

// Entry is a file in an archive.
type Entry struct {
	Name    string
	Size    int64
	Changed time.Time
}

var named = regexp.MustCompile(`(?i)\.(zip|tar|tgz|tar\.(gz|zst|bz2))$`)

// Is tells by its name whether a file is an archive.
func Is(name string) bool { return named.MatchString(name) }

// Split parts a name or pattern such as clubs.zip/*.csv into the archive and what is
// inside; ok is false where none is named.
func Split(name string) (outer, inner string, ok bool) {
	parts := strings.Split(name, "/")
	for i := range len(parts) - 1 {
		if Is(parts[i]) {
			return strings.Join(parts[:i+1], "/"), strings.Join(parts[i+1:], "/"), true
		}
	}
	return "", "", false
}

func isZip(name string) bool { return strings.HasSuffix(strings.ToLower(name), ".zip") }

// List lists the entries of an archive by its name's ending. A zip archive must be
// readable at any place.
func List(name string, r io.Reader) ([]Entry, error) {
	var out []Entry
	err := walk(name, r, func(e Entry, _ func() (io.ReadCloser, error)) error {
		out = append(out, e)
		return nil
	})
	return out, err
}

// Open opens one entry. Closing it leaves the archive open.
func Open(name string, r io.Reader, entry string) (io.ReadCloser, error) {
	var out io.ReadCloser
	err := walk(name, r, func(e Entry, open func() (io.ReadCloser, error)) error {
		if e.Name != entry {
			return nil
		}
		f, err := open()
		if err != nil {
			return err
		}
		out = f
		return errFound
	})
	if errors.Is(err, errFound) {
		return out, nil
	}
	if err == nil {
		err = fmt.Errorf("%s is not in the archive", entry)
	}
	return nil, err
}

var errFound = errors.New("found")

// walk goes through the files of an archive. Names that lead out of it are made safe.
func walk(name string, r io.Reader, see func(e Entry, open func() (io.ReadCloser, error)) error) error {
	if isZip(name) {
		random, ok := r.(format.Random)
		if !ok {
			return fmt.Errorf("a zip archive is read from its end, which is not possible here")
		}
		size, err := random.Seek(0, io.SeekEnd)
		if err != nil {
			return err
		}
		z, err := zip.NewReader(random, size)
		if err != nil {
			return fmt.Errorf("%s is no zip archive: %w", name, err)
		}
		for _, f := range z.File {
			if f.FileInfo().IsDir() || f.Flags&1 != 0 { // folders, and what is encrypted
				continue
			}
			if err := see(Entry{clean(f.Name), int64(f.UncompressedSize64), f.Modified}, f.Open); err != nil {
				return err
			}
		}
		return nil
	}
	plain, _, err := format.Decompressed(r)
	if err != nil {
		return err
	}
	t := tar.NewReader(plain)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s is no tar archive, or broken: %w", name, err)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if err := see(Entry{clean(h.Name), h.Size, h.ModTime}, func() (io.ReadCloser, error) { return io.NopCloser(t), nil }); err != nil {
			return err
		}
	}
}

func clean(name string) string {
	return strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(name, `\`, "/")), "/")
}
