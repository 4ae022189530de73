package personal

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// nationalNumbers are personal numbers of countries that have check digits.
var nationalNumbers = []pattern{
	{National, "Norway", regexp.MustCompile(`[0-9]{6} ?[0-9]{5}`), norway},
	{National, "Sweden", regexp.MustCompile(`(?:19|20)?[0-9]{6}[-+]?[0-9]{4}`), sweden},
	{National, "Finland", regexp.MustCompile(`[0-9]{6}[-+ABCDEFYXWVU][0-9]{3}[0-9A-Y]`), finland},
	{National, "Poland", regexp.MustCompile(`[0-9]{11}`), poland},
	{National, "Belgium", regexp.MustCompile(`[0-9]{2}\.?[0-9]{2}\.?[0-9]{2}-?[0-9]{3}\.?[0-9]{2}`), belgium},
	{National, "Germany", regexp.MustCompile(`[1-9][0-9](?: ?[0-9]{3}){3}`), germany},
	{National, "Switzerland", regexp.MustCompile(`756\.?[0-9]{4}\.?[0-9]{4}\.?[0-9]{2}`), switzerland},
	{National, "France", regexp.MustCompile(`[12] ?[0-9]{2} ?[0-9]{2} ?[0-9][0-9AB] ?[0-9]{3} ?[0-9]{3} ?[0-9]{2}`), france},
	{National, "Spain", regexp.MustCompile(`[0-9XYZ][0-9]{7}-?[A-HJ-NP-TV-Z]`), spain},
	{National, "Italy", regexp.MustCompile(`[A-Z]{6}[0-9]{2}[A-EHLMPRST][0-9]{2}[A-Z][0-9]{3}[A-Z]`), italy},
	{National, "Netherlands", regexp.MustCompile(`[0-9]{9}`), netherlands},
	{National, "Brazil", regexp.MustCompile(`[0-9]{3}\.[0-9]{3}\.[0-9]{3}-[0-9]{2}`), brazil},
}

// weighted sums digits times weights.
func weighted(d []int, weights ...int) int {
	sum := 0
	for i, w := range weights {
		sum += d[i] * w
	}
	return sum
}

// day tells whether there is a day of a month; a year of two digits is of either
// century.
func day(year, month, d int) bool {
	for _, century := range []int{1900, 2000} {
		t := time.Date(century+year, time.Month(month), d, 0, 0, 0, 0, time.UTC)
		if month >= 1 && month <= 12 && t.Day() == d && int(t.Month()) == month {
			return true
		}
	}
	return false
}

func pair(d []int, at int) int { return d[at]*10 + d[at+1] }

// norway: day, month, year, then two digits by remainders of 11.
func norway(s string) bool {
	d := digits(s)
	dd := pair(d, 0)
	if dd > 40 {
		dd -= 40 // D numbers
	}
	if !day(pair(d, 4), pair(d, 2), dd) {
		return false
	}
	first := (11 - weighted(d, 3, 7, 6, 1, 8, 9, 4, 5, 2)%11) % 11
	second := (11 - weighted(d, 5, 4, 3, 2, 7, 6, 5, 4, 3, 2)%11) % 11
	return d[9] == first && d[10] == second
}

func sweden(s string) bool {
	d := digits(s)
	if len(d) == 12 {
		d = d[2:]
	}
	if len(d) != 10 {
		return false
	}
	dd := pair(d, 4)
	if dd > 60 {
		dd -= 60 // coordination numbers
	}
	return day(pair(d, 0), pair(d, 2), dd) && luhn(d)
}

func finland(s string) bool {
	d := digits(s[:6])
	n, err := strconv.Atoi(s[:6] + s[7:10])
	return err == nil && day(pair(d, 4), pair(d, 2), pair(d, 0)) && "0123456789ABCDEFHJKLMNPRSTUVWXY"[n%31] == s[10]
}

func poland(s string) bool {
	d := digits(s)
	return day(pair(d, 0), pair(d, 2)%20, pair(d, 4)) && (10-weighted(d, 1, 3, 7, 9, 1, 3, 7, 9, 1, 3)%10)%10 == d[10]
}

func belgium(s string) bool {
	text := onlyDigits(s)
	d := digits(s)
	check := pair(d, 9)
	old, _ := strconv.Atoi(text[:9])
	young, _ := strconv.Atoi("2" + text[:9])
	return day(pair(d, 0), pair(d, 2)%20, pair(d, 4)) && (97-old%97 == check || 97-young%97 == check)
}

// germany is the tax number: ISO 7064, mod 11, 10; one digit comes two or three
// times among the first ten.
func germany(s string) bool {
	d := digits(s)
	counts := [10]int{}
	for _, v := range d[:10] {
		counts[v]++
	}
	repeated := 0
	for _, n := range counts {
		if n > 3 {
			return false
		}
		if n > 1 {
			repeated++
		}
	}
	if repeated != 1 {
		return false
	}
	product := 10
	for _, v := range d[:10] {
		sum := (v + product) % 10
		if sum == 0 {
			sum = 10
		}
		product = sum * 2 % 11
	}
	return (11-product)%10 == d[10]
}

func switzerland(s string) bool {
	d := digits(s)
	return (10-weighted(d, 1, 3, 1, 3, 1, 3, 1, 3, 1, 3, 1, 3)%10)%10 == d[12]
}

func france(s string) bool {
	text := strings.ReplaceAll(s, " ", "")
	body := strings.NewReplacer("2A", "19", "2B", "18").Replace(text[:13])
	n, err := strconv.ParseInt(body, 10, 64)
	key, err2 := strconv.Atoi(text[13:])
	month, _ := strconv.Atoi(text[3:5])
	return err == nil && err2 == nil && (month >= 1 && month <= 12 || month >= 20) && int(97-n%97) == key
}

func spain(s string) bool {
	s = strings.ReplaceAll(s, "-", "")
	n, err := strconv.Atoi(strings.NewReplacer("X", "0", "Y", "1", "Z", "2").Replace(s[:8]))
	return err == nil && "TRWAGMYFPDXBNJZSQVHLCKE"[n%23] == s[8]
}

// italy sums values by odd and even places.
func italy(s string) bool {
	odd := map[byte]int{}
	for i, v := range []int{1, 0, 5, 7, 9, 13, 15, 17, 19, 21, 2, 4, 18, 20, 11, 3, 6, 8, 12, 14, 16, 10, 22, 25, 24, 23} {
		odd[byte('A'+i)] = v
		if i < 10 {
			odd[byte('0'+i)] = v
		}
	}
	sum := 0
	for i := range 15 {
		c := s[i]
		switch {
		case i%2 == 0:
			sum += odd[c]
		case c >= 'A':
			sum += int(c - 'A')
		default:
			sum += int(c - '0')
		}
	}
	return byte('A'+sum%26) == s[15]
}

func netherlands(s string) bool {
	d := digits(s)
	sum := weighted(d, 9, 8, 7, 6, 5, 4, 3, 2) - d[8]
	return sum > 0 && sum%11 == 0
}

func brazil(s string) bool {
	d := digits(s)
	same := true
	for _, v := range d {
		same = same && v == d[0]
	}
	check := func(sum int) int {
		if r := sum % 11; r >= 2 {
			return 11 - r
		}
		return 0
	}
	return !same && check(weighted(d, 10, 9, 8, 7, 6, 5, 4, 3, 2)) == d[9] && check(weighted(d, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2)) == d[10]
}
