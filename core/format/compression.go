package format

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Compressions that are read; bzip2 is read alone.
const (
	Gzip  = "gzip"
	Zstd  = "zstd"
	Bzip2 = "bzip2"
)

// Compression tells from its first bytes how a file is compressed, "" for not at
// all.
func Compression(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return Gzip
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return Zstd
	case len(head) > 9 && bytes.HasPrefix(head, []byte("BZh")) && (bytes.Equal(head[4:10], []byte("1AY&SY")) || bytes.Equal(head[4:10], []byte("\x17rE8P\x90"))):
		return Bzip2
	}
	return ""
}

// Decompressed gives the content of r, whether compressed or not, and how it was.
// Closing it closes no more than the decompression.
func Decompressed(r io.Reader) (io.ReadCloser, string, error) {
	buffered := bufio.NewReaderSize(r, 64<<10)
	head, err := buffered.Peek(10)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, "", err
	}
	kind := Compression(head)
	switch kind {
	case Gzip:
		z, err := gzip.NewReader(buffered)
		if err != nil {
			return nil, kind, fmt.Errorf("the gzip data are broken: %w", err)
		}
		return broken{z, kind}, kind, nil
	case Zstd:
		z, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(512<<20))
		if err != nil {
			return nil, kind, fmt.Errorf("the zstd data are broken: %w", err)
		}
		return broken{z.IOReadCloser(), kind}, kind, nil
	case Bzip2:
		return broken{io.NopCloser(bzip2.NewReader(buffered)), kind}, kind, nil
	}
	return io.NopCloser(buffered), "", nil
}

// broken says of an error that it is the compression's.
type broken struct {
	io.ReadCloser
	kind string
}

func (b broken) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		err = fmt.Errorf("the %s data end too early or are broken: %w", b.kind, err)
	}
	return n, err
}

// Compressed compresses what is written; closing it ends the compression alone.
func Compressed(w io.Writer, kind string) (io.WriteCloser, error) {
	switch kind {
	case "":
		return unclosed{w}, nil
	case Gzip:
		return gzip.NewWriter(w), nil
	case Zstd:
		return zstd.NewWriter(w)
	}
	return nil, fmt.Errorf("files are compressed with %s or %s, not with %q", Gzip, Zstd, kind)
}

type unclosed struct{ io.Writer }

func (unclosed) Close() error { return nil }
