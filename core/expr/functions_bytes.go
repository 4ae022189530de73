package expr

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"welkin/core/batch"
	"welkin/core/schema"
)

const kBytes = schema.Bytes

var bytesFunctions = []Function{
	{Name: "md5", Group: "bytes", Args: kinds(kText), Gives: kText, Help: "MD5 sum in hexadecimal; not for secrets", Example: "md5('hut') → " + hexOf(md5sum("hut")), call: fn1(func(s string) string { return hexOf(md5sum(s)) })},
	{Name: "md5", Group: "bytes", Args: kinds(kBytes), Gives: kText, Help: "MD5 sum in hexadecimal; not for secrets", Example: "md5('hut'::bytea) → " + hexOf(md5sum("hut")), call: fn1(func(s []byte) string { return hexOf(md5sum(string(s))) })},
	{Name: "sha224", Group: "bytes", Args: kinds(kBytes), Gives: kBytes, Help: "SHA-224 sum", Example: "length(sha224('hut'::bytea)) → 28", call: fn1(func(s []byte) []byte { h := sha256.Sum224(s); return h[:] })},
	{Name: "sha256", Group: "bytes", Args: kinds(kBytes), Gives: kBytes, Help: "SHA-256 sum", Example: "left(encode(sha256('hut'::bytea), 'hex'), 4) → " + hexOf(sha256sum("hut"))[:4], call: fn1(func(s []byte) []byte { return sha256sum(string(s)) })},
	{Name: "sha384", Group: "bytes", Args: kinds(kBytes), Gives: kBytes, Help: "SHA-384 sum", Example: "length(sha384('hut'::bytea)) → 48", call: fn1(func(s []byte) []byte { h := sha512.Sum384(s); return h[:] })},
	{Name: "sha512", Group: "bytes", Args: kinds(kBytes), Gives: kBytes, Help: "SHA-512 sum", Example: "length(sha512('hut'::bytea)) → 64", call: fn1(func(s []byte) []byte { h := sha512.Sum512(s); return h[:] })},
	{Name: "length", Group: "bytes", Args: kinds(kBytes), Gives: kInt, Help: "number of bytes", Example: "length('hut'::bytea) → 3", call: fn1(func(s []byte) int64 { return int64(len(s)) })},
	{Name: "octet_length", Group: "bytes", Args: kinds(kText), Gives: kInt, Help: "number of bytes in UTF-8", Example: "octet_length('høy') → 4", call: fn1(func(s string) int64 { return int64(len(s)) })},
	{Name: "octet_length", Group: "bytes", Args: kinds(kBytes), Gives: kInt, Help: "number of bytes", Example: "octet_length('hut'::bytea) → 3", call: fn1(func(s []byte) int64 { return int64(len(s)) })},
	{Name: "bit_length", Group: "bytes", Args: kinds(kText), Gives: kInt, Help: "number of bits in UTF-8", Example: "bit_length('hut') → 24", call: fn1(func(s string) int64 { return int64(len(s)) * 8 })},
	{Name: "bit_count", Group: "bytes", Args: kinds(kBytes), Gives: kInt, Help: "number of bits that are set", Example: `bit_count('\x0f'::bytea) → 4`, call: fn1(func(s []byte) int64 {
		n := 0
		for _, c := range s {
			n += bits.OnesCount8(c)
		}
		return int64(n)
	})},
	{Name: "encode", Group: "bytes", Args: kinds(kBytes, kText), Gives: kText, Help: "bytes as text: hex, base64 or escape", Example: "encode('hut'::bytea, 'hex') → 687574", call: try2(encodeBytes)},
	{Name: "decode", Group: "bytes", Args: kinds(kText, kText), Gives: kBytes, Help: "bytes from text: hex, base64 or escape", Example: `decode('687574', 'hex') → \x687574`, call: try2(decodeBytes)},
	{Name: "convert_to", Group: "bytes", Args: kinds(kText, kText), Gives: kBytes, Help: "text as bytes in UTF8 or LATIN1", Example: `convert_to('hø', 'LATIN1') → \x68f8`, call: try2(convertTo)},
	{Name: "convert_from", Group: "bytes", Args: kinds(kBytes, kText), Gives: kText, Help: "text from bytes in UTF8 or LATIN1", Example: `convert_from('\x68f8'::bytea, 'LATIN1') → hø`, call: try2(convertFrom)},
	{Name: "substring", Group: "bytes", Args: kinds(kBytes, kInt, kInt), Gives: kBytes, Help: "so many bytes from one on", Example: `substring('\x010203'::bytea, 2, 1) → \x02`, call: try3(func(s []byte, from, n int64) ([]byte, *batch.Fault) {
		if n < 0 {
			return nil, batch.Faultf("bad argument", "a part can't have %d bytes", n)
		}
		end := min(from+min(n, 1<<40), int64(len(s))+1)
		from = max(from, 1)
		if end <= from {
			return []byte{}, nil
		}
		return s[from-1 : end-1], nil
	})},
	{Name: "get_byte", Group: "bytes", Args: kinds(kBytes, kInt), Gives: kInt, Help: "the byte at a place, counted from 0", Example: `get_byte('\x0aff'::bytea, 1) → 255`, call: try2(func(s []byte, at int64) (int64, *batch.Fault) {
		if at < 0 || at >= int64(len(s)) {
			return 0, batch.Faultf("bad argument", "there is no byte %d in %d bytes", at, len(s))
		}
		return int64(s[at]), nil
	})},
}

func md5sum(s string) []byte    { h := md5.Sum([]byte(s)); return h[:] }
func sha256sum(s string) []byte { h := sha256.Sum256([]byte(s)); return h[:] }
func hexOf(b []byte) string     { return hex.EncodeToString(b) }

func encodeBytes(b []byte, form string) (string, *batch.Fault) {
	switch strings.ToLower(form) {
	case "hex":
		return hex.EncodeToString(b), nil
	case "base64":
		text := base64.StdEncoding.EncodeToString(b)
		var out strings.Builder
		for len(text) > 76 { // lines of 76 characters, RFC 2045
			out.WriteString(text[:76] + "\n")
			text = text[76:]
		}
		return out.String() + text, nil
	case "escape":
		var out strings.Builder
		for _, c := range b {
			switch {
			case c == 0 || c >= 128:
				out.WriteString(`\` + string('0'+rune(c>>6)) + string('0'+rune(c>>3&7)) + string('0'+rune(c&7)))
			case c == '\\':
				out.WriteString(`\\`)
			default:
				out.WriteByte(c)
			}
		}
		return out.String(), nil
	}
	return "", batch.Faultf("bad argument", "bytes are written as hex, base64 or escape, not %q", cutText(form))
}

func decodeBytes(s, form string) ([]byte, *batch.Fault) {
	bad := batch.Faultf("not bytes", "%q can't be read as %s", cutText(s), form)
	switch strings.ToLower(form) {
	case "hex":
		b, err := hex.DecodeString(dropBlanks(s))
		if err != nil {
			return nil, bad
		}
		return b, nil
	case "base64":
		b, err := base64.StdEncoding.DecodeString(dropBlanks(s))
		if err != nil {
			return nil, bad
		}
		return b, nil
	case "escape":
		out := []byte{}
		for i := 0; i < len(s); i++ {
			if s[i] != '\\' {
				out = append(out, s[i])
				continue
			}
			rest := s[i+1:]
			switch {
			case strings.HasPrefix(rest, `\`):
				out, i = append(out, '\\'), i+1
			case len(rest) >= 3 && rest[0] >= '0' && rest[0] <= '3' && octal(rest[1]) && octal(rest[2]):
				out, i = append(out, (rest[0]-'0')<<6|(rest[1]-'0')<<3|(rest[2]-'0')), i+3
			default:
				return nil, bad
			}
		}
		return out, nil
	}
	return nil, batch.Faultf("bad argument", "bytes are read from hex, base64 or escape, not %q", cutText(form))
}

func octal(c byte) bool { return c >= '0' && c <= '7' }

func dropBlanks(s string) string {
	return strings.NewReplacer(" ", "", "\n", "", "\t", "", "\r", "").Replace(s)
}

func encodingOf(name string) (latin bool, fault *batch.Fault) {
	switch strings.NewReplacer("-", "", "_", "").Replace(strings.ToUpper(name)) {
	case "UTF8", "UNICODE":
		return false, nil
	case "LATIN1", "ISO88591":
		return true, nil
	}
	return false, batch.Faultf("bad argument", "the encoding is UTF8 or LATIN1 here, not %q", cutText(name))
}

func convertTo(s, encoding string) ([]byte, *batch.Fault) {
	latin, fault := encodingOf(encoding)
	if fault != nil || !latin {
		return []byte(s), fault
	}
	out := make([]byte, 0, len(s))
	for _, r := range s {
		if r > 255 {
			return nil, batch.Faultf("bad argument", "%q has no place in %s", r, encoding)
		}
		out = append(out, byte(r))
	}
	return out, nil
}

func convertFrom(b []byte, encoding string) (string, *batch.Fault) {
	latin, fault := encodingOf(encoding)
	if fault != nil {
		return "", fault
	}
	if latin && !slices.Contains(b, 0) {
		runes := make([]rune, len(b))
		for i, c := range b {
			runes[i] = rune(c)
		}
		return string(runes), nil
	}
	if !utf8.Valid(b) || strings.ContainsRune(string(b), 0) {
		return "", batch.Faultf("not text", "the bytes are not valid UTF-8")
	}
	return string(b), nil
}
