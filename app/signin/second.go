package signin

import (
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp/totp"
)

// period is for how long a number of the second factor is shown (RFC 6238, section 4.1).
const period = 30 * time.Second

// NewSecond is a new secret of a second factor, in base32.
func NewSecond() (string, error) {
	raw := make([]byte, 20) // RFC 4226, section 4, R6
	_, err := rand.Read(raw)
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw), err
}

// SecondLink is what a camera reads to put a secret into somebody's telephone.
func SecondLink(secret, shop, login string) string {
	plain := func(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }
	return fmt.Sprintf(
		"otpauth://totp/%s:%s?secret=%s&issuer=%s&algorithm=SHA1&digits=6&period=30", plain(shop), plain(login), secret,
		plain(shop),
	)
}

// Second tells in which period a number of the second factor is the one of a secret: that of now, the one before or
// the one after. A period that is not after last counts no more: a number is good once (RFC 6238, section 5.2).
func Second(secret, number string, now time.Time, last int64) (in int64, ok bool) {
	number = plainCode(number)
	if secret == "" || len(number) != 6 {
		return 0, false
	}
	for _, by := range []time.Duration{0, -period, period} {
		at := now.Add(by)
		want, err := totp.GenerateCode(secret, at)
		if in = at.Unix() / int64(period/time.Second); err == nil && in > last && SameCode(KeptOf(want), number) {
			return in, true
		}
	}
	return 0, false
}
