package csv

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/text/transform"

	"welkin/core/batch"
	"welkin/core/schema"
)

// prepared gives the text as the splitter reads it: lines that end with a bare
// carriage return end with a line feed, and quotes behind an escape are doubled.
func prepared(r io.Reader, d Dialect) io.Reader {
	buffered := bufio.NewReaderSize(r, 64<<10)
	head, _ := buffered.Peek(64 << 10)
	r = buffered
	if bytes.IndexByte(head, '\r') >= 0 && bytes.IndexByte(head, '\n') < 0 {
		r = transform.NewReader(r, returns{})
	}
	if d.Escape != "" && d.Escape != d.Quote {
		r = transform.NewReader(r, escapes{escape: d.Escape[0], quote: d.quote()})
	}
	return r
}

// returns makes line feeds of carriage returns.
type returns struct{ transform.NopResetter }

func (returns) Transform(dst, src []byte, _ bool) (int, int, error) {
	n := copy(dst, src)
	for i := range n {
		if dst[i] == '\r' {
			dst[i] = '\n'
		}
	}
	if n < len(src) {
		return n, n, transform.ErrShortDst
	}
	return n, n, nil
}

// escapes doubles quotes that stand behind an escape, and takes the escape away.
type escapes struct {
	transform.NopResetter
	escape, quote byte
}

func (e escapes) Transform(dst, src []byte, atEOF bool) (to, from int, err error) {
	for from < len(src) {
		if to+2 > len(dst) {
			return to, from, transform.ErrShortDst
		}
		c := src[from]
		if c != e.escape {
			dst[to] = c
			to, from = to+1, from+1
			continue
		}
		if from+1 == len(src) {
			if !atEOF {
				return to, from, transform.ErrShortSrc
			}
			dst[to] = c
			return to + 1, from + 1, nil
		}
		switch next := src[from+1]; next {
		case e.quote:
			dst[to], dst[to+1] = next, next
			to += 2
		case e.escape:
			dst[to] = next
			to++
		default:
			dst[to], dst[to+1] = c, next
			to += 2
		}
		from += 2
	}
	return to, from, nil
}

// dateForms are those that are found by themselves, the likeliest first.
var dateForms = []string{"DD.MM.YYYY", "DD.MM.YY", "DD/MM/YYYY", "MM/DD/YYYY", "DD-MM-YYYY", "YYYY/MM/DD", "DD Mon YYYY", "Mon DD, YYYY", "DD-Mon-YYYY",
	"DD.MM.YYYY HH24:MI", "DD.MM.YYYY HH24:MI:SS", "DD/MM/YYYY HH24:MI", "MM/DD/YYYY HH24:MI", "DD/MM/YYYY HH24:MI:SS", "MM/DD/YYYY HH24:MI:SS", "YYYYMMDD"}

var datePieces = strings.NewReplacer("YYYY", "2006", "YY", "06", "Month", "January", "Mon", "Jan", "MM", "1", "DD", "2", "HH24", "15", "HH12", "3", "AM", "PM", "MI", "4", "SS", "5")

// dateLayout gives the layout of package time for a form of dates.
func dateLayout(form string) (string, error) {
	if form == "" {
		return "", nil
	}
	layout := datePieces.Replace(form)
	if form == "YYYYMMDD" { // without anything between the parts they have all their digits
		layout = "20060102"
	}
	if layout == form || strings.Trim(strings.NewReplacer("2006", "", "06", "", "January", "", "Jan", "", "PM", "").Replace(layout), "0123456789 ./,:-T") != "" {
		return "", fmt.Errorf("%q is no form of dates; write it with YYYY or YY, MM or Mon, DD, HH24, MI and SS", form)
	}
	return layout, nil
}

func readsAll(form string, column []string) bool {
	layout, _ := dateLayout(form)
	for _, v := range column {
		t, err := time.Parse(layout, v)
		if err != nil || form == "YYYYMMDD" && (t.Year() < 1900 || t.Year() > 2100) {
			return false
		}
	}
	return len(column) > 0
}

// conversion rewrites a text as batch.AppendText reads it; ok is false when it is
// not written as the dialect says.
type conversion func(text string) (plain string, fault *batch.Fault)

// converts gives the conversion of a type's texts, nil for none.
func (d Dialect) converts(t schema.Type) conversion {
	switch {
	case t.Numeric() && (d.Decimal != "" && d.Decimal != "." || d.Thousands != ""):
		return d.plain
	case t.Temporal() && d.Dates != "":
		layout, err := dateLayout(d.Dates)
		if err != nil {
			return nil
		}
		return func(text string) (string, *batch.Fault) {
			at, err := time.Parse(layout, strings.TrimSpace(text))
			if err != nil {
				if len(text) >= 10 && text[4] == '-' { // others stand year first, as always
					return text, nil
				}
				return "", batch.Faultf("not a date", "%q is not a date written as %s", text, d.Dates)
			}
			return at.Format("2006-01-02 15:04:05"), nil
		}
	}
	return nil
}

// plain writes a number with a point and without thousands marks.
func (d Dialect) plain(text string) (string, *batch.Fault) {
	plain := strings.TrimSpace(text)
	if d.Thousands != "" {
		plain = strings.ReplaceAll(plain, d.Thousands, "")
	}
	if d.Decimal != "" && d.Decimal != "." {
		if strings.Contains(plain, ".") {
			return "", batch.Faultf("not a number", "%q is not a number with %q before its decimals", text, d.Decimal)
		}
		plain = strings.Replace(plain, d.Decimal, ".", 1)
	}
	return plain, nil
}
