package personal

import (
	"net/netip"
	"regexp"
	"strings"
)

// patterns, those with the strongest proof first.
var patterns = append([]pattern{
	{Email, "", regexp.MustCompile(`[\p{L}\p{N}.!#$%&'*+/=?^_{|}~-]{1,64}@(?:[\p{L}\p{N}](?:[\p{L}\p{N}-]{0,61}[\p{L}\p{N}])?\.)+\p{L}{2,24}`), nil},
	{Bank, "IBAN", regexp.MustCompile(`[A-Z]{2}[0-9]{2}(?: ?[A-Z0-9]{4}){2,7}(?: ?[A-Z0-9]{1,4})?`), iban},
	{Card, "", regexp.MustCompile(`[3-6][0-9]{3}(?:[ -]?[0-9]){9,15}`), card},
	{Network, "", regexp.MustCompile(`(?:[0-9]{1,3}\.){3}[0-9]{1,3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}`), func(s string) bool {
		a, err := netip.ParseAddr(s)
		return err == nil && !a.IsUnspecified() && (a.Is4() || strings.Count(s, ":") > 2)
	}},
}, append(nationalNumbers, pattern{Phone, "", regexp.MustCompile(`(?:\+|00)[1-9](?:[ ()./-]{0,2}[0-9]){7,13}|\(?0[1-9][0-9]{1,4}\)?(?:[ ./-][0-9]{2,4}){2,4}`), func(s string) bool {
	n := len(onlyDigits(s))
	return n >= 8 && n <= 15
}})...)

func onlyDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

// digits gives the digits' values.
func digits(s string) []int {
	out := make([]int, 0, len(s))
	for _, r := range onlyDigits(s) {
		out = append(out, int(r-'0'))
	}
	return out
}

// luhn is the check of ISO/IEC 7812: every second digit from the right doubled.
func luhn(d []int) bool {
	sum := 0
	for i := range d {
		v := d[len(d)-1-i]
		if i%2 == 1 {
			if v *= 2; v > 9 {
				v -= 9
			}
		}
		sum += v
	}
	return sum%10 == 0
}

func card(s string) bool {
	d := digits(s)
	same := true
	for _, v := range d {
		same = same && v == d[0]
	}
	return len(d) >= 13 && len(d) <= 19 && !same && luhn(d)
}

// ibanLengths are the lengths of account numbers by country (ISO 13616).
var ibanLengths = map[string]int{"AD": 24, "AE": 23, "AL": 28, "AT": 20, "AZ": 28, "BA": 20, "BE": 16, "BG": 22, "BH": 22, "BR": 29, "CH": 21, "CR": 22, "CY": 28, "CZ": 24,
	"DE": 22, "DK": 18, "DO": 28, "EE": 20, "EG": 29, "ES": 24, "FI": 18, "FO": 18, "FR": 27, "GB": 22, "GE": 22, "GI": 23, "GL": 18, "GR": 27, "GT": 28, "HR": 21, "HU": 28,
	"IE": 22, "IL": 23, "IS": 26, "IT": 27, "JO": 30, "KW": 30, "KZ": 20, "LB": 28, "LI": 21, "LT": 20, "LU": 20, "LV": 21, "MC": 27, "MD": 24, "ME": 22, "MK": 19, "MT": 31,
	"MU": 30, "NL": 18, "NO": 15, "PK": 24, "PL": 28, "PS": 29, "PT": 25, "QA": 29, "RO": 24, "RS": 22, "SA": 24, "SE": 24, "SI": 19, "SK": 24, "SM": 27, "TN": 24, "TR": 26, "UA": 29, "XK": 20}

// iban checks length and the remainder by 97 (ISO 7064).
func iban(s string) bool {
	s = strings.ReplaceAll(s, " ", "")
	if ibanLengths[s[:2]] != len(s) {
		return false
	}
	return remainder97(s[4:]+s[:4]) == 1
}

// remainder97 reads letters as 10 to 35.
func remainder97(s string) int {
	rest := 0
	for _, r := range s {
		switch {
		case r >= '0' && r <= '9':
			rest = (rest*10 + int(r-'0')) % 97
		case r >= 'A' && r <= 'Z':
			rest = (rest*100 + int(r-'A') + 10) % 97
		}
	}
	return rest
}
