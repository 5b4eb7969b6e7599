// Package signin knows how people prove who they are: passwords and what is kept of them, one-time codes, the second
// factor, and how often somebody may try. It keeps nothing itself.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
)

// MinPassword and MaxPassword bound how many characters a password has that somebody chooses (OWASP ASVS 4.0, 2.1.1
// and 2.1.2).
const MinPassword, MaxPassword = 12, 128

// Hardness is what it costs to try a password: the parameters of Argon2id (RFC 9106, section 3.1).
type Hardness struct {
	passes, kibibytes uint32
	lanes             uint8
}

// Secret is for passwords that somebody keeps (RFC 9106, section 4, second recommendation), Public for those that are
// printed for everybody, which a hash that is hard to try does not guard.
var (
	Secret = Hardness{passes: 3, kibibytes: 64 << 10, lanes: 2}
	Public = Hardness{passes: 1, kibibytes: 1 << 10, lanes: 1}
)

// ErrBusy tells that too many passwords are being looked at just now.
var ErrBusy = errors.New("too many people are signing in at this moment. Try again in a few seconds")

// looking holds a place for each password that is looked at: each takes 64 MiB, and their number must not be what a
// stranger chooses.
var looking = make(chan struct{}, 2)

// patience is how long a password waits for a place.
const patience = 15 * time.Second

// look runs f while it has a place.
func look(ctx context.Context, f func()) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	select {
	case looking <- struct{}{}:
	case <-ctx.Done():
		return ErrBusy
	}
	defer func() { <-looking }()
	f()
	return nil
}

// Hash is what is kept of a password.
func Hash(ctx context.Context, password string, h Hardness) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	var key []byte
	err := look(ctx, func() { key = argon2.IDKey([]byte(password), salt, h.passes, h.kibibytes, h.lanes, 32) })
	e := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, h.kibibytes, h.passes, h.lanes, e(salt), e(key),
	), err
}

// Check tells whether a password is the one of which hash was kept. Where nothing was kept it takes as long as it
// does with a wrong one, and is false.
func Check(ctx context.Context, hash, password string) (bool, error) {
	if hash == "" {
		hash = nobody()
		password = ""
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" || utf8.RuneCountInString(password) > MaxPassword {
		return false, nil
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil || m > Secret.kibibytes {
		return false, nil
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false, nil
	}
	var got []byte
	err := look(ctx, func() { got = argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want))) })
	return err == nil && subtle.ConstantTimeCompare(got, want) == 1, err
}

// nobody is what an account that does not exist keeps of its password.
var nobody = sync.OnceValue(func() string {
	h, err := Hash(context.Background(), rand.Text(), Secret)
	if err != nil {
		return ""
	}
	return h
})

// Sentinel errors of passwords that somebody chooses.
var (
	ErrShort = fmt.Errorf(
		"a password has at least %d characters; nothing was changed. Several words in a row are good", MinPassword,
	)
	ErrLong   = fmt.Errorf("a password has at most %d characters; nothing was changed", MaxPassword)
	ErrCommon = errors.New("this password is among those that are tried first; nothing was changed. " +
		"Take several words that do not belong together")
)

// leastGuesses is how many guesses of somebody who tries the commonest first a password must withstand.
const leastGuesses = 1e8

// Good refuses a password that is too short, or is soon guessed by somebody who knows the words about, as the name of
// who chooses it and of the shop.
func Good(password string, about ...string) error {
	switch n := utf8.RuneCountInString(password); {
	case n < MinPassword:
		return ErrShort
	case n > MaxPassword:
		return ErrLong
	}
	var known []string
	for _, text := range about {
		known = append(append(known, text, strings.Join(strings.Fields(text), "")), strings.Fields(text)...)
	}
	if zxcvbn.PasswordStrength(password, known).Guesses < leastGuesses {
		return ErrCommon
	}
	return nil
}
