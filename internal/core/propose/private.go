package propose

import (
	"math/big"
	"regexp"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
)

// look is a kind of private value: how columns of it are called, what its values are like, and what is
// proposed for it.
type look struct {
	is        string
	words     []string
	value     func(string) bool // nil where values tell nothing
	alone     bool              // values tell it whatever the column is called
	treatment func(c schema.Column, key string) feed.Treatment
}

func drop(schema.Column, string) feed.Treatment       { return feed.Treatment{Drop: true} }
func hash(_ schema.Column, key string) feed.Treatment { return feed.Treatment{Hash: key} }
func keepLast(c schema.Column, key string) feed.Treatment {
	if c.Type.Kind != schema.Text {
		return hash(c, key)
	}
	return feed.Treatment{Mask: feed.MaskKeepLast, Count: 2}
}
func year(c schema.Column, key string) feed.Treatment {
	switch c.Type.Kind {
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		return feed.Treatment{Mask: feed.MaskYear}
	}
	return hash(c, key)
}

var births = []string{"birth", "birthday", "birthdate", "born", "dob"} // born_at is one, but updated_at is none

// looks are in the order in which they are tried: what is told by its values comes first.
var looks = []look{
	{"a card number: its check digit is right", nil, isCard, true, drop},
	{"an account number: its check digits are right", nil, isIBAN, true, drop},
	{"an e-mail address", []string{"email", "mail", "emailaddress"}, email.MatchString, true, hash},
	{"a phone number", []string{"phone", "telephone", "tel", "mobile", "cell", "fax", "phonenumber"}, phone.MatchString,
		true, keepLast},
	{"a card number", []string{"cardnumber", "cardno", "pan", "creditcard"}, nil, false, drop},
	{"an account number", []string{"iban", "bic", "accountnumber", "bankaccount"}, nil, false, drop},
	{"a secret", []string{"password", "passwd", "pwd", "passwordhash", "secret", "token", "apikey", "salt", "pin",
		"pincode",
		"privatekey"}, nil, false, drop},
	{"a number that a state or an insurer knows a person by", []string{"ssn", "socialsecurity", "passport", "nationalid",
		"taxid", "taxnumber", "identitycard", "idcard", "insurancenumber", "driverlicense", "drivinglicence"}, nil, false,
		hash},
	{"a day of birth", births, nil, false, year},
	{"a person's name", []string{"firstname", "lastname", "surname", "fullname", "givenname", "familyname", "maidenname",
		"middlename"}, nil, false, hash},
	{"a postal address", []string{"street", "streetaddress", "address", "addressline", "postaladdress", "homeaddress"},
		nil,
		false, drop},
	{"an address in a network", []string{"ip", "ipaddress", "clientip", "remoteaddr"}, nil, false, hash},
}

var (
	email = regexp.MustCompile(`^[^\s@]{1,64}@[^\s@]{1,190}\.[A-Za-z]{2,}$`)
	phone = regexp.MustCompile(`^(\+|00)[1-9][0-9 ()/.-]{6,20}$|^0[1-9][0-9]{0,5}[ /-][0-9][0-9 -]{3,14}$`)
)

// A column is like what the most of its values are like, of so many at least.
const (
	leastValues = 3
	mostOf      = 0.6
)

// private tells what the values of a column look like that not everybody may see. A number is told from
// others by what the column is called, but for those with check digits.
func private(c schema.Column, values []string, key string) (Private, bool) {
	switch c.Type.Kind {
	case schema.Bool, schema.Float32, schema.Float64, schema.Time, schema.Interval:
		return Private{}, false
	}
	called := words(c.Name)
	if c.Type.Kind == schema.JSON {
		for _, v := range values {
			if emailWithin.MatchString(v) {
				return Private{Column: c.Name, Looks: "JSON with e-mail addresses in it: take out of it what is needed"}, true
			}
		}
		return Private{}, false
	}
	for _, l := range looks {
		named := has(called, l.words) && (!flag(called) || has(called, births))
		if named && l.value != nil && len(values) >= leastValues && share(values, l.value) == 0 {
			named = false // such as mail_count
		}
		if named || l.alone && len(values) >= leastValues && share(values, l.value) >= mostOf {
			return Private{Column: c.Name, Looks: l.is, Treatment: l.treatment(c, key)}, true
		}
	}
	return Private{}, false
}

var emailWithin = regexp.MustCompile(`[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+\.[A-Za-z]{2,}`)

// flag tells whether a name is that of a count, a time or a yes of something.
func flag(words []string) bool {
	return has(words, []string{"count", "is", "has", "verified", "confirmed", "id", "type", "kind", "at", "on", "until",
		"expires", "city", "country"}) && !has(words, []string{"nationalid", "taxid"})
}

func share(values []string, is func(string) bool) float64 {
	n := 0
	for _, v := range values {
		if is(v) {
			n++
		}
	}
	return float64(n) / float64(len(values))
}

// isCard tells whether a text is a number of a card: 13 to 19 digits of which the last one checks the
// others (ISO/IEC 7812-1, annex B).
func isCard(text string) bool {
	digits := strings.NewReplacer(" ", "", "-", "").Replace(text)
	if len(digits) < 13 || len(digits) > 19 || strings.Trim(digits, "0") == "" {
		return false
	}
	sum := 0
	for i := range len(digits) {
		d := int(digits[len(digits)-1-i]) - '0'
		if d < 0 || d > 9 {
			return false
		}
		if i%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return sum%10 == 0
}

var iban = regexp.MustCompile(`^[A-Z]{2}[0-9]{2}[A-Z0-9]{11,30}$`)

// isIBAN tells whether a text is the number of a bank account whose check digits are right (ISO 13616-1).
func isIBAN(text string) bool {
	text = strings.ReplaceAll(text, " ", "")
	if !iban.MatchString(text) {
		return false
	}
	var digits strings.Builder
	for _, r := range text[4:] + text[:4] {
		if r >= 'A' {
			digits.WriteString(big.NewInt(int64(r - 'A' + 10)).String())
		} else {
			digits.WriteRune(r)
		}
	}
	n, ok := new(big.Int).SetString(digits.String(), 10)
	return ok && new(big.Int).Mod(n, big.NewInt(97)).Int64() == 1
}
