package personal_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"welkin/core/personal"
)

// found words what was found: kind, detail and part.
func found(text string) []string {
	var out []string
	for _, f := range personal.Find(text, nil) {
		kind := string(f.Kind)
		if f.Detail != "" {
			kind += " " + f.Detail
		}
		out = append(out, kind+": "+text[f.From:f.To])
	}
	return out
}

// TestNumbersWithCheckDigitsAreFound uses the made-up numbers with which the
// checks are usually explained.
func TestNumbersWithCheckDigitsAreFound(t *testing.T) {
	for text, want := range map[string][]string{
		"write to ann@larkfell.example, soon":   {"e-mail address: ann@larkfell.example"},
		"øst.vest+hut@høyfjell.example":         {"e-mail address: øst.vest+hut@høyfjell.example"},
		"pay GB82 WEST 1234 5698 7654 32 today": {"bank account IBAN: GB82 WEST 1234 5698 7654 32"},
		"NO9386011117947":                       {"bank account IBAN: NO9386011117947"},
		"card 4111 1111 1111 1111":              {"payment card: 4111 1111 1111 1111"},
		"5500-0000-0000-0004":                   {"payment card: 5500-0000-0000-0004"},
		"call +47 22 33 44 55 or not":           {"phone number: +47 22 33 44 55"},
		"tel. 0171 555 66 77":                   {"phone number: 0171 555 66 77"},
		"from 192.0.2.17 at night":              {"network address: 192.0.2.17"},
		"2001:db8::17":                          {"network address: 2001:db8::17"},
		"131052-308T":                           {"national number Finland: 131052-308T"},
		"44051401359":                           {"national number Poland: 44051401359"},
		"811218-9876":                           {"national number Sweden: 811218-9876"},
		"12345678Z":                             {"national number Spain: 12345678Z"},
		"RSSMRA85T10A562S":                      {"national number Italy: RSSMRA85T10A562S"},
		"111222333":                             {"national number Netherlands: 111222333"},
		"756.9217.0769.85":                      {"national number Switzerland: 756.9217.0769.85"},
		"86095742719":                           {"national number Germany: 86095742719"},
		"529.982.247-25":                        {"national number Brazil: 529.982.247-25"},
		"1 84 12 76 451 089 46":                 {"national number France: 1 84 12 76 451 089 46"},
		"85.07.30-033.28":                       {"national number Belgium: 85.07.30-033.28"},
	} {
		assert.Equal(t, want, found(text), text)
	}
}

func TestWhatOnlyLooksLikeItIsLeftAlone(t *testing.T) {
	for _, text := range []string{"", "hut 7", "4111 1111 1111 1112", "GB82 WEST 1234 5698 7654 33", "0000000000000000", "131052-308U", "44051401358", "111222334", "RSSMRA85T10A562T",
		"999.1.1.1", "2026-11-23 18:30:15", "18:30:15", "12.345.678", "price 1234567", "order 100000000001", "a@b", "x44051401359y"} {
		assert.Empty(t, found(text), text)
	}
}

func TestOnlyTheKindsWantedAreFound(t *testing.T) {
	text := "ann@larkfell.example, 4111111111111111"
	assert.Len(t, personal.Find(text, nil), 2)
	assert.Len(t, personal.Find(text, []personal.Kind{personal.Card}), 1)
	masked := personal.Replace(text, personal.Find(text, nil), func(part string) string { return fmt.Sprint(len(part)) })
	assert.Equal(t, "20, 16", masked)
}

// TestOneWrongDigitIsSeen: a card number with one digit changed is never one.
func TestOneWrongDigitIsSeen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := []byte("4" + rapid.StringOfN(rapid.RuneFrom([]rune("0123456789")), 14, 14, -1).Draw(t, "digits") + "0")
		for c := byte('0'); c <= '9'; c++ {
			d[15] = c
			if len(personal.Find(string(d), []personal.Kind{personal.Card})) == 1 {
				break
			}
		}
		at := rapid.IntRange(1, 15).Draw(t, "place")
		d[at] = '0' + (d[at]-'0'+byte(rapid.IntRange(1, 9).Draw(t, "by")))%10
		assert.Empty(t, personal.Find(string(d), []personal.Kind{personal.Card}), string(d))
	})
}

func TestHeadingsSayWhatAColumnHolds(t *testing.T) {
	for column, want := range map[string]personal.Kind{"email": personal.Email, "Guest E-Mail": personal.Email, "MobilePhone": personal.Phone, "first name": personal.Name, "Vorname": personal.Name,
		"guest_name": personal.Name, "date of birth": personal.Birth, "street": personal.Street, "bank account": personal.Bank, "Fødselsnummer": personal.National} {
		kind, ok := personal.ByHeading(column)
		assert.True(t, ok, column)
		assert.Equal(t, want, kind, column)
	}
	for _, column := range []string{"hut name", "file name", "nights", "guest_id", "town", "beds", "month_name", "guests"} {
		_, ok := personal.ByHeading(column)
		assert.False(t, ok, column)
	}
}

func FuzzFind(f *testing.F) {
	f.Add("GB82 WEST 1234 5698 7654 32 ann@x.example +47 22 33 44 55")
	f.Fuzz(func(t *testing.T, text string) {
		last := 0
		for _, found := range personal.Find(text, nil) {
			if found.From < last || found.To <= found.From || found.To > len(text) {
				t.Fatalf("%q: %+v", text, found)
			}
			last = found.To
		}
	})
}
