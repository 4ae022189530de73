package format

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"

	"welkin/core/batch"
)

// Encoding finds an encoding by its name, such as windows-1252 (the names of the
// WHATWG's Encoding standard); nil for UTF-8.
func Encoding(name string) (encoding.Encoding, error) {
	if name == "" || strings.EqualFold(name, "utf-8") {
		return nil, nil
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return nil, fmt.Errorf("the encoding %q is not known; common ones are utf-8, windows-1252, iso-8859-1 and utf-16le", name)
	}
	return e, nil
}

// Mark is UTF-8's byte order mark.
var Mark = []byte("\xef\xbb\xbf")

// Decoded gives r's text, stored in an encoding, as UTF-8 without a byte order
// mark.
func Decoded(r io.Reader, encoding string) (io.Reader, error) {
	e, err := Encoding(encoding)
	if err != nil {
		return nil, err
	}
	if e != nil {
		r = transform.NewReader(r, e.NewDecoder())
	}
	head := make([]byte, len(Mark))
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	return io.MultiReader(bytes.NewReader(bytes.TrimPrefix(head[:n], Mark)), r), nil
}

// WrongEncoding is the fault of a record that is not valid in its encoding.
func WrongEncoding(encoding string) *batch.Fault {
	if encoding == "" {
		encoding = "utf-8"
	}
	return batch.Faultf("wrong encoding", "the row holds bytes that are not valid %s; set the file's encoding, such as windows-1252", encoding)
}
