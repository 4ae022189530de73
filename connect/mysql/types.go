package mysql

import (
	"fmt"
	"regexp"
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
)

var measured = regexp.MustCompile(`^(?:decimal|numeric|dec|fixed)\((\d+)(?:,(\d+))?\)`)

// typeOf gives the type of a native one, as information_schema or the driver name it.
func typeOf(native string) (schema.Type, bool) {
	n := strings.ToLower(strings.TrimPrefix(strings.ToLower(native), "unsigned "))
	unsigned := n != strings.ToLower(native) || strings.Contains(n, "unsigned")
	word, _, _ := strings.Cut(strings.Fields(n + " x")[0], "(")
	switch word {
	case "tinyint", "bit":
		if strings.HasPrefix(n, word+"(1)") {
			return schema.Of(schema.Bool), true
		}
		return schema.Of(schema.Int), true
	case "bool", "boolean":
		return schema.Of(schema.Bool), true
	case "smallint", "mediumint", "int", "integer", "year":
		return schema.Of(schema.Int), true
	case "bigint":
		if unsigned {
			return schema.DecimalOf(20, 0), true
		}
		return schema.Of(schema.Int), true
	case "decimal", "numeric", "dec", "fixed":
		if m := measured.FindString(n); m != "" {
			if t, err := schema.ParseType("decimal" + m[strings.IndexByte(m, '('):]); err == nil {
				return t, true
			}
			return schema.Of(schema.Text), false // more digits than Welkin's decimals have
		}
		return schema.DecimalOf(schema.MaxPrecision, 9), true
	case "float", "double", "real":
		return schema.Of(schema.Float), true
	case "date":
		return schema.Of(schema.Date), true
	case "time":
		return schema.Of(schema.Time), true
	case "datetime":
		return schema.Of(schema.Timestamp), true
	case "timestamp":
		return schema.Of(schema.TimestampTZ), true
	case "json":
		return schema.Of(schema.JSON), true
	case "uuid":
		return schema.Of(schema.UUID), true
	case "binary", "varbinary", "blob", "tinyblob", "mediumblob", "longblob":
		return schema.Of(schema.Bytes), true
	case "char", "varchar", "text", "tinytext", "mediumtext", "longtext", "enum", "set", "inet6", "inet4":
		return schema.Of(schema.Text), true
	}
	return schema.Of(schema.Text), false
}

// plain writes bits as numbers, bytes as hexadecimal, and says of a day of zeros that
// it is none.
func plain(native string, t schema.Type, raw []byte) (string, *batch.Fault) {
	if strings.HasPrefix(native, "bit") {
		n := uint64(0)
		for _, b := range raw {
			n = n<<8 | uint64(b)
		}
		return fmt.Sprint(n), nil
	}
	switch t.Kind {
	case schema.Bytes:
		return fmt.Sprintf(`\x%x`, raw), nil
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		if strings.HasPrefix(string(raw), "0000-") {
			return "", batch.Faultf("not a date", "%q is a day that there is not", raw)
		}
	}
	return string(raw), nil
}
