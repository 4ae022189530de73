package expr

import (
	"math/big"
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
)

// numberForm is a form of to_char and to_number, such as FM999G990D00.
type numberForm struct {
	marks         []byte // 9 0 , . and other characters, in order
	before, after int    // digits before and behind the point
	firstZero     int    // place of the first 0 before the point, counted in digits; -1 for none
	lastZero      int    // place of the last 0 behind the point, counted from 1; 0 for none
	point         bool
	tight         bool // FM
	sign          byte // 0, S at the front, s at the end, M for MI, P for PL, G for SG, R for PR
	ordinal       byte // T or t
}

func parseNumberForm(form string) (numberForm, *batch.Fault) {
	f := numberForm{firstZero: -1}
	bad := func(what string) (numberForm, *batch.Fault) {
		return f, batch.Faultf("bad argument", "%s can't stand in the number's form %q", what, cutText(form))
	}
	for i := 0; i < len(form); {
		rest := strings.ToUpper(form[i:min(i+2, len(form))])
		step := 1
		switch {
		case rest == "FM":
			f.tight, step = true, 2
		case rest == "MI", rest == "PL", rest == "SG", rest == "PR":
			if f.sign != 0 {
				return bad("a second sign")
			}
			f.sign, step = map[string]byte{"MI": 'M', "PL": 'P', "SG": 'G', "PR": 'R'}[rest], 2
			if rest != "PR" {
				f.marks = append(f.marks, f.sign)
			}
		case rest == "TH":
			f.ordinal, step = form[i], 2
		case rest == "RN", rest[0] == 'V', rest[0] == 'E', rest[0] == 'L':
			return bad(rest[:1])
		case rest[0] == 'S':
			if f.sign != 0 {
				return bad("a second sign")
			}
			if f.sign = 'S'; f.before+f.after > 0 || f.point {
				f.sign = 's'
			}
		case rest[0] == '.' || rest[0] == 'D':
			if f.point {
				return bad("a second decimal point")
			}
			f.point = true
			f.marks = append(f.marks, '.')
		case rest[0] == ',' || rest[0] == 'G':
			f.marks = append(f.marks, ',')
		case rest[0] == '9' || rest[0] == '0':
			f.marks = append(f.marks, rest[0])
			if f.point {
				if f.after++; rest[0] == '0' {
					f.lastZero = f.after
				}
			} else {
				if rest[0] == '0' && f.firstZero < 0 {
					f.firstZero = f.before
				}
				f.before++
			}
		case form[i] == '"':
			text, _, _ := strings.Cut(form[i+1:], `"`)
			for _, c := range []byte(text) {
				f.marks = append(f.marks, 0, c)
			}
			step = min(len(text)+2, len(form)-i)
		default:
			f.marks = append(f.marks, 0, form[i])
		}
		i += step
	}
	return f, nil
}

// formatNumber writes a number, rounded to the form's decimals, as to_char does.
func formatNumber(n *big.Int, scale int, form string) (string, *batch.Fault) {
	f, fault := parseNumberForm(form)
	if fault != nil {
		return "", fault
	}
	if scale > f.after {
		n = batch.DivideRounded(n, batch.PowerOfTen(scale-f.after))
	} else {
		n = new(big.Int).Mul(n, batch.PowerOfTen(f.after-scale))
	}
	negative := n.Sign() < 0
	digits := new(big.Int).Abs(n).String()
	for len(digits) <= f.after {
		digits = "0" + digits
	}
	whole, fraction := digits[:len(digits)-f.after], digits[len(digits)-f.after:]
	if len(whole) > f.before && whole != "0" {
		return f.overflow(negative), nil
	}
	blank := strings.Repeat(" ", max(f.before-len(whole), 0)) + whole
	if whole == "0" && (f.before == 0 || f.after > 0) {
		blank = strings.Repeat(" ", f.before) // a bare nought before the point is left out
	}
	blank = blank[len(blank)-f.before:]
	shown := f.after
	if f.tight {
		for shown > f.lastZero && fraction[shown-1] == '0' {
			shown--
		}
	}
	return f.write(blank, fraction, shown, negative), nil
}

func (f numberForm) overflow(negative bool) string {
	return f.write(strings.Repeat("#", f.before), strings.Repeat("#", f.after), f.after, negative)
}

// write lays digits out by the form; blanks in whole are digits not needed.
func (f numberForm) write(whole, fraction string, shown int, negative bool) string {
	var out strings.Builder
	started, signed := false, f.sign == 's' || f.sign == 'M' || f.sign == 'G'
	putSign := func() {
		if signed {
			return
		}
		signed = true
		switch {
		case f.sign == 'R' && negative:
			out.WriteByte('<')
		case negative:
			out.WriteByte('-')
		case f.sign == 'S':
			out.WriteByte('+')
		case !f.tight:
			out.WriteByte(' ')
		}
	}
	w, d := 0, 0
	for i := 0; i < len(f.marks); i++ {
		switch c := f.marks[i]; c {
		case '9', '0':
			if d > 0 || w >= f.before {
				if putSign(); d < shown {
					out.WriteByte(fraction[d])
				}
				d++
				continue
			}
			digit := whole[w]
			if digit == ' ' && f.firstZero >= 0 && w >= f.firstZero {
				digit = '0'
			}
			if w++; digit == ' ' {
				if !f.tight {
					out.WriteByte(' ')
				}
				continue
			}
			putSign()
			started = true
			out.WriteByte(digit)
		case ',':
			if started {
				out.WriteByte(',')
			} else if !f.tight {
				out.WriteByte(' ')
			}
		case '.':
			putSign()
			started = true
			out.WriteByte('.')
		case 'M', 'P', 'G':
			switch {
			case negative && c != 'P':
				out.WriteByte('-')
			case !negative && c != 'M':
				out.WriteByte('+')
			case !f.tight:
				out.WriteByte(' ')
			}
		default:
			i++
			out.WriteByte(f.marks[i])
		}
	}
	if len(f.marks) > 0 {
		putSign()
	}
	switch {
	case f.sign == 's' && negative:
		out.WriteByte('-')
	case f.sign == 's':
		out.WriteByte('+')
	case f.sign == 'R' && negative:
		out.WriteByte('>')
	case f.sign == 'R' && !f.tight:
		out.WriteByte(' ')
	}
	if f.ordinal != 0 && !negative && !f.point {
		out.WriteString(ordinal(strings.TrimSpace(out.String()), f.ordinal == 't'))
	}
	return out.String()
}

// parseNumber reads a number written in a form, as to_number does: what is
// neither digit, point nor sign is passed over.
func parseNumber(text, form string) (n *big.Int, scale int, fault *batch.Fault) {
	f, fault := parseNumberForm(form)
	if fault != nil {
		return nil, 0, fault
	}
	negative, behind := false, false
	var digits strings.Builder
	before := 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			if behind {
				if scale == f.after {
					continue
				}
				scale++
			} else if before++; before > f.before {
				return nil, 0, batch.Faultf("not a number", "%q has more digits before the point than %s", cutText(text), form)
			}
			digits.WriteByte(c)
		case c == '.' && f.point:
			behind = true
		case c == '-' || c == '<' && f.sign == 'R':
			negative = true
		}
	}
	if digits.Len() == 0 {
		return nil, 0, batch.Faultf("not a number", "%q holds no number written as %s", cutText(text), form)
	}
	n, _ = new(big.Int).SetString(digits.String(), 10)
	if negative {
		n.Neg(n)
	}
	return n, scale, nil
}

var numberFormType = schema.DecimalOf(schema.MaxPrecision, 9)
