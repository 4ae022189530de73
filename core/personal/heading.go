package personal

import (
	"slices"
	"strings"

	"welkin/core/match"
)

// headings are words of column names that say what a column holds, in several
// languages; a heading is cut at blanks, underscores and changes of case.
var headings = []struct {
	kind  Kind
	words []string
}{
	{Email, []string{"email", "mail", "epost", "courriel", "correo"}},
	{Phone, []string{"phone", "mobile", "telephone", "tel", "telefon", "telefono", "mobil", "handy", "portable", "movil"}},
	{Bank, []string{"iban", "account", "konto", "kontonummer", "compte", "cuenta", "conto"}},
	{Card, []string{"card", "creditcard", "karte", "kort", "carte", "tarjeta"}},
	{National, []string{"ssn", "fodselsnummer", "personnummer", "hetu", "pesel", "bsn", "dni", "nif", "codicefiscale", "nir", "ahv", "cpf"}},
	{Birth, []string{"birth", "birthday", "birthdate", "born", "dob", "fodt", "geburtstag", "geburtsdatum", "naissance", "nacimiento", "nascita"}},
	{Street, []string{"street", "address", "adresse", "strasse", "rue", "direccion", "indirizzo", "postcode", "zip", "gate", "vei"}},
	{Name, []string{"firstname", "lastname", "surname", "forename", "fullname", "fornavn", "etternavn", "vorname", "nachname", "prenom", "nom", "nombre", "apellido", "apellidos", "cognome", "guest", "member", "warden"}},
}

// notNames are words that make another thing of a name: hut name, file name.
var notNames = []string{"hut", "file", "step", "table", "column", "town", "month", "day", "product", "article", "district", "host", "user"}

// ByHeading tells by its name what personal data a column may hold.
func ByHeading(column string) (Kind, bool) {
	words := strings.Split(match.TidyName(spaced(column)), "_")
	joined := strings.Join(words, "")
	for _, h := range headings {
		if slices.Contains(h.words, joined) || slices.ContainsFunc(words, func(w string) bool { return slices.Contains(h.words, w) && h.kind != Name }) {
			return h.kind, true
		}
	}
	other := slices.ContainsFunc(words, func(w string) bool { return slices.Contains(notNames, w) })
	if !other && slices.ContainsFunc(words, func(w string) bool {
		return w == "name" || w == "names" || w == "navn" || slices.Contains(headings[len(headings)-1].words, w)
	}) && !slices.ContainsFunc(words, func(w string) bool { return w == "id" || w == "no" || w == "key" || w == "count" || w == "kind" }) {
		return Name, true
	}
	return "", false
}

// spaced puts a blank where small letters are followed by a large one.
func spaced(s string) string {
	var out strings.Builder
	small := false
	for _, r := range s {
		large := r >= 'A' && r <= 'Z'
		if small && large {
			out.WriteByte(' ')
		}
		small = r >= 'a' && r <= 'z'
		out.WriteRune(r)
	}
	return out.String()
}
