package fixed

import (
	"encoding/binary"
	"fmt"
	"math/big"
	"strings"
	"time"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// charset finds an encoding by its name, EBCDIC among them; nil for UTF-8.
func charset(name string) (encoding.Encoding, error) {
	if name == EBCDIC {
		return charmap.CodePage037, nil
	}
	return format.Encoding(name)
}

// datePieces are those of which a form of dates is made; all parts have all their
// digits, since nothing needs to stand between them.
var datePieces = strings.NewReplacer("YYYY", "2006", "YY", "06", "MM", "01", "DD", "02", "HH24", "15", "MI", "04", "SS", "05")

func (f Field) dateLayout() (string, error) {
	layout := datePieces.Replace(f.Dates)
	if layout == f.Dates || strings.Trim(layout, "0123456789 ./,:-T") != "" {
		return "", fmt.Errorf("the field %q is written as %q, which is no form of dates; use YYYY or YY, MM, DD, HH24, MI and SS", f.Name, f.Dates)
	}
	return layout, nil
}

// overpunched gives the digits that stand for a last digit with its sign (IBM's zoned
// decimals, as they look in ASCII): { and A to I positive, } and J to R negative, and
// p to y, which some systems write for negative ones.
func overpunched(c rune) (digit rune, negative, ok bool) {
	switch {
	case c >= '0' && c <= '9':
		return c, false, true
	case c == '{':
		return '0', false, true
	case c >= 'A' && c <= 'I':
		return '1' + c - 'A', false, true
	case c == '}':
		return '0', true, true
	case c >= 'J' && c <= 'R':
		return '1' + c - 'J', true, true
	case c >= 'p' && c <= 'y':
		return '0' + c - 'p', true, true
	}
	return 0, false, false
}

// text reads a field's characters as the text of its value, "" for null.
func (f Field) text(raw string) (string, *batch.Fault) {
	value := strings.Trim(raw, " \x00\r")
	if f.Fill != "" && f.Fill != " " && f.Fill != "0" {
		value = strings.Trim(value, f.Fill)
	}
	if f.Type.Kind == schema.Text && f.Fill == "0" {
		value = strings.TrimLeft(value, "0")
	}
	if value == "" {
		return "", nil
	}
	switch {
	case f.Dates != "":
		if strings.Trim(value, "0") == "" { // a day that is not known
			return "", nil
		}
		layout, err := f.dateLayout()
		if err != nil {
			return "", batch.Faultf("not a date", "%s", err)
		}
		at, err := time.Parse(layout, value)
		if err != nil {
			return "", batch.Faultf("not a date", "%q is not written as %s", value, f.Dates)
		}
		switch f.Type.Kind {
		case schema.Date:
			return at.Format("2006-01-02"), nil
		case schema.Time:
			return at.Format("15:04:05"), nil
		}
		return at.Format("2006-01-02 15:04:05"), nil
	case f.Type.Numeric():
		return f.number(value)
	}
	return value, nil
}

// number reads digits with their sign and the point that is not written.
func (f Field) number(value string) (string, *batch.Fault) {
	bad := func() (string, *batch.Fault) {
		return "", batch.Faultf("not a number", "%q is not a number%s", value, map[string]string{SignLeading: " with its sign first", SignTrailing: " with its sign last", SignOverpunch: " whose last digit holds the sign", SignLeadingOverpunch: " whose first digit holds the sign"}[f.Sign])
	}
	digits, negative := value, false
	switch f.Sign {
	case SignTrailing:
		last := digits[len(digits)-1]
		if last == '+' || last == '-' {
			digits, negative = digits[:len(digits)-1], last == '-'
		}
	case SignOverpunch, SignLeadingOverpunch:
		runes := []rune(digits)
		at := len(runes) - 1
		if f.Sign == SignLeadingOverpunch {
			at = 0
		}
		digit, minus, ok := overpunched(runes[at])
		if !ok {
			return bad()
		}
		runes[at], negative = digit, minus
		digits = string(runes)
	default:
		if digits[0] == '+' || digits[0] == '-' {
			digits, negative = strings.TrimSpace(digits[1:]), digits[0] == '-'
		}
	}
	if f.Scale == 0 { // a point may be written
		if negative {
			return "-" + digits, nil
		}
		return digits, nil
	}
	if digits = strings.TrimSpace(digits); digits == "" || strings.Trim(digits, "0123456789") != "" {
		if strings.Count(digits, ".") == 1 { // a written point goes before the one that is not
			return value, nil
		}
		return bad()
	}
	return pointed(digits, f.Scale, negative), nil
}

// pointed puts a point before the last digits.
func pointed(digits string, scale int, negative bool) string {
	if n := scale + 1 - len(digits); n > 0 {
		digits = strings.Repeat("0", n) + digits
	}
	if scale > 0 {
		digits = digits[:len(digits)-scale] + "." + digits[len(digits)-scale:]
	}
	if negative {
		return "-" + digits
	}
	return digits
}

// stored reads a packed or binary field's bytes as the text of its value.
func (f Field) stored(raw []byte) (string, *batch.Fault) {
	if f.Store == StoreBinary {
		var v int64
		switch len(raw) {
		case 1:
			v = int64(int8(raw[0]))
		case 2:
			v = int64(int16(binary.BigEndian.Uint16(raw)))
		case 4:
			v = int64(int32(binary.BigEndian.Uint32(raw)))
		case 8:
			v = int64(binary.BigEndian.Uint64(raw))
		default:
			return "", batch.Faultf("not a number", "%x has %d bytes; binary numbers have 1, 2, 4 or 8", raw, len(raw))
		}
		n := big.NewInt(v)
		return pointed(new(big.Int).Abs(n).String(), f.Scale, v < 0), nil
	}
	digits := make([]byte, 0, 2*len(raw))
	blank := true
	for i, b := range raw {
		blank = blank && (b == 0x40 || b == 0x20 || b == 0)
		high, low := b>>4, b&15
		if high > 9 || low > 9 && i < len(raw)-1 {
			digits = nil
			break
		}
		digits = append(digits, '0'+high)
		if i < len(raw)-1 {
			digits = append(digits, '0'+low)
		}
	}
	if blank && len(raw) > 0 {
		return "", nil
	}
	if digits == nil || len(raw) == 0 {
		return "", batch.Faultf("not a number", "%x is no packed number", raw)
	}
	switch raw[len(raw)-1] & 15 {
	case 0xc, 0xf, 0xa, 0xe:
	case 0xd, 0xb:
		return pointed(string(digits), f.Scale, true), nil
	default:
		return "", batch.Faultf("not a number", "%x is no packed number: its last half byte is no sign", raw)
	}
	return pointed(string(digits), f.Scale, false), nil
}

// write gives the characters of a value, "" being null, or its bytes where places
// count bytes; e is nil for UTF-8.
func (f Field) write(value string, e encoding.Encoding, bytewise bool) ([]byte, error) {
	if f.Store == StorePacked || f.Store == StoreBinary {
		return f.pack(value)
	}
	text := value
	right := f.Type.Numeric() // how values stand in their place
	switch {
	case value == "":
	case f.Dates != "":
		layout, err := f.dateLayout()
		if err != nil {
			return nil, err
		}
		var at time.Time
		for _, form := range []string{"2006-01-02", "15:04:05.999999", "2006-01-02 15:04:05.999999", "2006-01-02 15:04:05.999999-07"} {
			if at, err = time.Parse(form, value); err == nil {
				break
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%s can't be written as %s", value, f.Dates)
		}
		text = at.UTC().Format(layout)
	case f.Type.Numeric() && (f.Sign != "" || f.Scale > 0):
		digits, negative, err := f.digits(value)
		if err != nil {
			return nil, err
		}
		width := f.Length
		if f.Sign == SignLeading || f.Sign == SignTrailing || f.Sign == "" && negative {
			width--
		}
		if n := width - len(digits); n > 0 {
			digits = strings.Repeat("0", n) + digits
		}
		text = signed(digits, f.Sign, negative)
	}
	var raw []byte
	pad := []byte(" ")
	if f.Fill != "" && value != "" {
		pad = []byte(f.Fill)
	}
	raw = []byte(text)
	length := len([]rune(text))
	if e != nil {
		var err error
		if raw, err = e.NewEncoder().Bytes(raw); err != nil {
			return nil, fmt.Errorf("%q has characters that the encoding lacks", text)
		}
		if pad, err = e.NewEncoder().Bytes(pad); err != nil {
			return nil, fmt.Errorf("%q can't fill a place in this encoding", f.Fill)
		}
	}
	if bytewise {
		length = len(raw)
	}
	if length > f.Length {
		return nil, fmt.Errorf("%q is longer than the %d characters of %s", text, f.Length, f.Name)
	}
	filled := make([]byte, 0, f.Length)
	if !right {
		filled = append(filled, raw...)
	}
	for range f.Length - length {
		filled = append(filled, pad...)
	}
	if right {
		filled = append(filled, raw...)
	}
	return filled, nil
}

// digits gives a number's digits with as many behind the point as the field has.
func (f Field) digits(value string) (digits string, negative bool, err error) {
	whole, fraction, _ := strings.Cut(strings.TrimLeft(value, "+-"), ".")
	if len(fraction) > f.Scale {
		if strings.Trim(fraction[f.Scale:], "0") != "" {
			return "", false, fmt.Errorf("%s has more than the %d decimals of %s", value, f.Scale, f.Name)
		}
		fraction = fraction[:f.Scale]
	}
	digits = strings.TrimLeft(whole+fraction+strings.Repeat("0", f.Scale-len(fraction)), "0")
	if digits == "" {
		digits = "0"
	}
	if strings.Trim(digits, "0123456789") != "" {
		return "", false, fmt.Errorf("%s can't be written in digits", value)
	}
	return digits, strings.HasPrefix(value, "-"), nil
}

// signed puts a sign to digits.
func signed(digits, sign string, negative bool) string {
	mark := map[bool]string{true: "-", false: "+"}[negative]
	punched := func(d byte) string {
		if negative {
			return string("}JKLMNOPQR"[d-'0'])
		}
		return string("{ABCDEFGHI"[d-'0'])
	}
	switch sign {
	case SignLeading:
		return mark + digits
	case SignTrailing:
		return digits + mark
	case SignOverpunch:
		return digits[:len(digits)-1] + punched(digits[len(digits)-1])
	case SignLeadingOverpunch:
		return punched(digits[0]) + digits[1:]
	}
	if negative {
		return "-" + digits
	}
	return digits
}

func (f Field) pack(value string) ([]byte, error) {
	if value == "" {
		if f.Store == StoreBinary {
			return nil, fmt.Errorf("%s is null, which a binary number can't be", f.Name)
		}
		return []byte(strings.Repeat("\x40", f.Length)), nil
	}
	digits, negative, err := f.digits(value)
	if err != nil {
		return nil, err
	}
	if f.Store == StoreBinary {
		n, ok := new(big.Int).SetString(digits, 10)
		if negative {
			n.Neg(n)
		}
		if edge := new(big.Int).Lsh(big.NewInt(1), uint(8*f.Length-1)); !ok || n.Cmp(edge) >= 0 || n.Cmp(new(big.Int).Neg(edge)) < 0 {
			return nil, fmt.Errorf("%s does not fit into the %d bytes of %s", value, f.Length, f.Name)
		}
		raw := binary.BigEndian.AppendUint64(nil, uint64(n.Int64()))
		return raw[8-f.Length:], nil
	}
	most := 2*f.Length - 1
	if len(digits) > most {
		return nil, fmt.Errorf("%s has more than the %d digits of %s", value, most, f.Name)
	}
	digits = strings.Repeat("0", most-len(digits)) + digits
	raw := make([]byte, f.Length)
	for i := range most {
		raw[i/2] |= (digits[i] - '0') << (4 * (1 - i%2))
	}
	raw[f.Length-1] |= map[bool]byte{true: 0xd, false: 0xc}[negative]
	return raw, nil
}
