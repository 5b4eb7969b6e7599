package store

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
	"gorm.io/gorm"
)

var accountForm = regexp.MustCompile(`^[a-z_]{1,32}$`)

// ErrSignIn is returned for a name and password that do not belong together.
var ErrSignIn = errors.New("name and password do not belong together")

// hardness is what it costs to try a password: the parameters of Argon2id (RFC 9106, section 3.1).
type hardness struct {
	passes, kibibytes uint32
	lanes             uint8
}

var (
	secret = hardness{passes: 3, kibibytes: 64 << 10, lanes: 2} // RFC 9106, section 4, second recommendation
	public = hardness{passes: 1, kibibytes: 1 << 10, lanes: 1}
)

func hashPassword(password string, h hardness) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey([]byte(password), salt, h.passes, h.kibibytes, h.lanes, 32)
	e := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, h.kibibytes, h.passes, h.lanes, e(salt), e(key),
	), nil
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// nobody is hashed against when a name does not exist, so that it takes as long
// as a wrong password.
var nobody = sync.OnceValue(func() string {
	h, err := hashPassword("nobody", secret)
	if err != nil {
		return ""
	}
	return h
})

// SignIn returns the technician whose login and password these are.
func (s *Store) SignIn(login, password string) (*Technician, error) {
	var t Technician
	err := s.db.First(&t, "login = ?", strings.ToLower(strings.TrimSpace(login))).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	if err != nil {
		checkPassword(nobody(), password)
		return nil, ErrSignIn
	}
	if !checkPassword(t.PasswordHash, password) {
		return nil, ErrSignIn
	}
	return &t, nil
}

// Lead returns the lead with a login; ErrNotFound for one who is none.
func (s *Store) Lead(login string) (*Technician, error) {
	var t Technician
	if err := s.db.First(&t, "login = ? AND `lead`", strings.ToLower(strings.TrimSpace(login))).Error; err != nil {
		return nil, found(err, "the lead %s", login)
	}
	return &t, nil
}

// Technician returns a technician by id.
func (s *Store) Technician(id uint64) (*Technician, error) {
	var t Technician
	if err := s.db.First(&t, id).Error; err != nil {
		return nil, found(err, "account %d", id)
	}
	return &t, nil
}
