package batch

import (
	"encoding/hex"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/schema"
)

// AppendText reads text as a value of type t, by the rules of a PostgreSQL
// cast, and appends it. On a fault nothing is appended.
func AppendText(to array.Builder, t schema.Type, text string) *Fault {
	switch to := to.(type) {
	case *array.StringBuilder:
		if t.Kind == schema.JSON {
			normal, fault := NormalJSON(text)
			if fault != nil {
				return fault
			}
			text = normal
		}
		to.Append(text)
	case *array.Int64Builder:
		v, fault := ParseInt(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.Float64Builder:
		v, fault := ParseFloat(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.Decimal128Builder:
		v, fault := ParseDecimal(text, t)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.BooleanBuilder:
		v, fault := ParseBool(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.Date32Builder:
		v, fault := ParseDate(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.TimestampBuilder:
		v, fault := ParseTimestamp(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.Time64Builder:
		v, fault := parseTime(text)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.BinaryBuilder:
		raw := []byte(text)
		if rest, ok := strings.CutPrefix(text, `\x`); ok {
			var err error
			if raw, err = hex.DecodeString(rest); err != nil {
				return Faultf("not bytes", "%q is not hexadecimal", text)
			}
		}
		to.Append(raw)
	case *array.FixedSizeBinaryBuilder:
		raw, err := hex.DecodeString(strings.ReplaceAll(strings.Trim(strings.TrimSpace(text), "{}"), "-", ""))
		if err != nil || len(raw) != 16 {
			return Faultf("not a uuid", "%q is not a uuid", text)
		}
		to.Append(raw)
	case *array.ListBuilder, *array.StructBuilder:
		return appendNestedText(to, t, text)
	default:
		return Faultf("no cast", "text can't become %s", t)
	}
	return nil
}

// ParseInt reads a 64-bit whole number.
func ParseInt(text string) (int64, *Fault) {
	text = strings.TrimSpace(text)
	v, err := strconv.ParseInt(text, 10, 64)
	if err == nil {
		return v, nil
	}
	if e, ok := err.(*strconv.NumError); ok && e.Err == strconv.ErrRange {
		return 0, Faultf("number too large", "%s is larger than a whole number can be", text)
	}
	return 0, Faultf("not a number", "%q is not a whole number", text)
}

// ParseFloat reads a float; NaN and Infinity are allowed, hexadecimal is not.
func ParseFloat(text string) (float64, *Fault) {
	text = strings.TrimSpace(text)
	v, err := strconv.ParseFloat(text, 64)
	if err != nil && math.IsInf(v, 0) {
		return 0, Faultf("number too large", "%s is larger than a float can be", text)
	}
	if err != nil || strings.ContainsAny(text, "xX_pP") {
		return 0, Faultf("not a number", "%q is not a number", text)
	}
	return v, nil
}

// ParseBool reads true, false and PostgreSQL's short forms of them.
func ParseBool(text string) (bool, *Fault) {
	switch strings.ToLower(strings.TrimSpace(text)) {
	case "true", "t", "yes", "y", "on", "1":
		return true, nil
	case "false", "f", "no", "n", "off", "0":
		return false, nil
	}
	return false, Faultf("not true or false", "%q is neither true nor false", text)
}

// ParseDate reads an ISO date, or the date of an ISO timestamp.
func ParseDate(text string) (arrow.Date32, *Fault) {
	text = strings.TrimSpace(text)
	if d, ok := isoDate(text); ok {
		return d, nil
	}
	if v, fault := ParseTimestamp(text); fault == nil {
		return ToDay(time.UnixMicro(int64(v)).UTC()), nil
	}
	return 0, Faultf("not a date", "%q is not a date; dates are written as 2026-11-23", text)
}

// two reads two digits; ok is false when they are none.
func two(s string) (n int, ok bool) {
	a, b := s[0]-'0', s[1]-'0'
	return int(a)*10 + int(b), a < 10 && b < 10
}

// isoDate reads yyyy-mm-dd without a look at anything else.
func isoDate(s string) (arrow.Date32, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return 0, false
	}
	century, ok1 := two(s)
	year, ok2 := two(s[2:])
	month, ok3 := two(s[5:])
	day, ok4 := two(s[8:])
	if year += century * 100; !ok1 || !ok2 || !ok3 || !ok4 || month < 1 || month > 12 || day < 1 || day > daysIn(year, month) {
		return 0, false
	}
	return civilDay(year, month, day), true
}

func daysIn(year, month int) int {
	if month == 2 {
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 30 + (month+month/8)%2
}

// civilDay counts days from 1970 on; the year begins in March, so that the leap
// day is its last.
func civilDay(year, month, day int) arrow.Date32 {
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	if year < 0 {
		era = (year - 399) / 400
	}
	of := year - era*400
	yearDay := (153*(month-3)+2)/5 + day - 1
	return arrow.Date32(era*146_097 + of*365 + of/4 - of/100 + yearDay - 719_468)
}

// isoTimestamp reads yyyy-mm-dd hh:mm:ss with up to six decimals and no offset.
func isoTimestamp(s string) (arrow.Timestamp, bool) {
	if len(s) < 19 || len(s) > 26 || s[10] != ' ' && s[10] != 'T' || s[13] != ':' || s[16] != ':' {
		return 0, false
	}
	day, ok := isoDate(s[:10])
	hour, ok1 := two(s[11:])
	minute, ok2 := two(s[14:])
	second, ok3 := two(s[17:])
	if !ok || !ok1 || !ok2 || !ok3 || hour > 23 || minute > 59 || second > 59 {
		return 0, false
	}
	micros := int64(0)
	if len(s) > 19 {
		if s[19] != '.' || len(s) == 20 {
			return 0, false
		}
		unit := int64(100_000)
		for i := 20; i < len(s); i++ {
			c := s[i]
			if c < '0' || c > '9' {
				return 0, false
			}
			micros += int64(c-'0') * unit
			unit /= 10
		}
	}
	return arrow.Timestamp(int64(day)*86_400_000_000 + int64(hour*3600+minute*60+second)*1_000_000 + micros), true
}

var timestampLayouts = []string{
	"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999Z07", "2006-01-02 15:04:05.999999999",
	"2006-01-02 15:04Z07:00", "2006-01-02 15:04Z07", "2006-01-02 15:04", "2006-01-02",
}

// ParseTimestamp reads an ISO timestamp, with T or a blank between day and
// time; an offset is applied, none means UTC.
func ParseTimestamp(text string) (arrow.Timestamp, *Fault) {
	if t, ok := isoTimestamp(text); ok {
		return t, nil
	}
	s := strings.TrimSpace(text)
	if len(s) > 10 && s[10] == 'T' {
		s = s[:10] + " " + s[11:]
	}
	for _, layout := range timestampLayouts {
		if t, err := time.Parse(layout, s); err == nil {
			return arrow.Timestamp(t.UnixMicro()), nil
		}
	}
	return 0, Faultf("not a timestamp", "%q is not a timestamp; they are written as 2026-11-23 18:30:00", text)
}

func parseTime(text string) (arrow.Time64, *Fault) {
	for _, layout := range []string{"15:04:05.999999999", "15:04"} {
		if t, err := time.Parse(layout, strings.TrimSpace(text)); err == nil {
			return arrow.Time64(t.Sub(t.Truncate(24 * time.Hour)).Microseconds()), nil
		}
	}
	return 0, Faultf("not a time", "%q is not a time of day; they are written as 18:30:00", text)
}

// AppendFrom appends the value at row i of a column of the same type.
func AppendFrom(to array.Builder, from arrow.Array, i int) {
	if from.IsNull(i) {
		to.AppendNull()
		return
	}
	switch a := from.(type) {
	case *array.Boolean:
		to.(*array.BooleanBuilder).Append(a.Value(i))
	case *array.Int64:
		to.(*array.Int64Builder).Append(a.Value(i))
	case *array.Float64:
		to.(*array.Float64Builder).Append(a.Value(i))
	case *array.Decimal128:
		to.(*array.Decimal128Builder).Append(a.Value(i))
	case *array.String:
		to.(*array.StringBuilder).Append(a.Value(i))
	case *array.Binary:
		to.(*array.BinaryBuilder).Append(a.Value(i))
	case *array.FixedSizeBinary:
		to.(*array.FixedSizeBinaryBuilder).Append(a.Value(i))
	case *array.Date32:
		to.(*array.Date32Builder).Append(a.Value(i))
	case *array.Time64:
		to.(*array.Time64Builder).Append(a.Value(i))
	case *array.Timestamp:
		to.(*array.TimestampBuilder).Append(a.Value(i))
	case *array.MonthDayNanoInterval:
		to.(*array.MonthDayNanoIntervalBuilder).Append(a.Value(i))
	case *array.List:
		list := to.(*array.ListBuilder)
		list.Append(true)
		start, end := a.ValueOffsets(i)
		for j := start; j < end; j++ {
			AppendFrom(list.ValueBuilder(), a.ListValues(), int(j))
		}
	case *array.Struct:
		record := to.(*array.StructBuilder)
		record.Append(true)
		for f := range a.NumField() {
			AppendFrom(record.FieldBuilder(f), a.Field(f), i)
		}
	}
}
