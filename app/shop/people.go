package shop

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Bounds of what people write, in characters.
const (
	maxName    = 120 // of a person, a customer, a shop, a PC
	maxAddress = 400
	maxText    = 4000 // of what is wrong, a note
)

// loginForm is what names for signing in look like: nothing in them is easily taken for something else.
var loginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{1,31}$`)

// Codes are good for a while: the first one of an account longer than one for a forgotten password.
const (
	firstCodeFor = 7 * 24 * time.Hour
	codeFor      = 24 * time.Hour
)

// Sentinel errors of accounts.
var (
	ErrCode = errors.New("name and code do not belong together, or the code is not good any more; nothing was changed. " +
		"A lead gives a new one")
	ErrSecond = errors.New("this number is not the one of now, or was used before. " +
		"Take the next one that the telephone shows")
)

// wellSaid is a text as it is kept: without space at its ends and without characters that are not shown; an error
// where it is longer than most characters, or says nothing and must.
func wellSaid(what, text string, most int, must bool) (string, error) {
	text = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r == '\r' || r != '\n' && unicode.In(r, unicode.Cc, unicode.Cf, unicode.Co) || r == utf8.RuneError {
			return -1
		}
		return r
	}, text))
	switch n := utf8.RuneCountInString(text); {
	case n == 0 && must:
		return "", fmt.Errorf("%s is not said; nothing was changed", what)
	case n > most:
		return "", fmt.Errorf("%s has %d characters, and at most %d are kept; nothing was changed", what, n, most)
	}
	return text, nil
}

// lineSaid is wellSaid for a text of one line.
func lineSaid(what, text string, most int, must bool) (string, error) {
	return wellSaid(what, strings.Join(strings.Fields(text), " "), most, must)
}

// entry is an act of somebody that no drive has part in.
func (s *Shop) entry(who string, act trail.Act, text string) (trail.Entry, error) {
	tail, err := s.tail()
	return trail.Entry{
		ID: "e-" + string(act) + "-" + tail, Time: s.Now(), Who: who, Act: act, Text: text,
	}, err
}

// FirstDay is what makes a shop of an empty installation.
type FirstDay struct {
	Code                  string // as it was printed at the terminal
	Shop, Address         string
	Login, Name, Password string // of the first lead
	Bays                  int
}

// Bounds of the bays of a shop.
const MinBays, MaxBays = 1, 60

// Welcome gives a new one-time code with which the first lead is made, while nobody has an account; "" where somebody
// has. It holds until the program ends or gives another.
func (s *Shop) Welcome() (string, error) {
	people, err := s.Store.Accounts()
	if err != nil || len(people) > 0 {
		return "", err
	}
	code := signin.NewCode()
	kept := signin.KeptOf(code)
	s.welcome.Store(&kept)
	return code, nil
}

// Empty tells that the shop waits for its first lead.
func (s *Shop) Empty() bool { return s.welcome.Load() != nil }

// OpenUp makes the first lead, the shop and its bays.
func (s *Shop) OpenUp(ctx context.Context, d FirstDay) (*store.Technician, error) {
	kept := s.welcome.Load()
	if kept == nil {
		return nil, store.ErrOpened
	}
	if !signin.SameCode(*kept, d.Code) {
		return nil, ErrFirstCode
	}
	name, err := lineSaid("the shop's name", d.Shop, maxName, true)
	address, e1 := wellSaid("the address", d.Address, maxAddress, false)
	person, e2 := lineSaid("your name", d.Name, maxName, true)
	if err = errors.Join(err, e1, e2); err != nil {
		return nil, err
	}
	if d.Bays < MinBays || d.Bays > MaxBays {
		return nil, fmt.Errorf("a bench has %d to %d bays; nothing was made", MinBays, MaxBays)
	}
	lead := &store.Technician{Login: strings.ToLower(strings.TrimSpace(d.Login)), Name: person, Role: store.Leader}
	if !loginForm.MatchString(lead.Login) {
		return nil, errLoginForm
	}
	if err := signin.Good(d.Password, lead.Login, lead.Name, name); err != nil {
		return nil, err
	}
	if lead.PasswordHash, err = signin.Hash(ctx, d.Password, signin.Secret); err != nil {
		return nil, err
	}
	e, err := s.entry(lead.Name, trail.ActShop, fmt.Sprintf(
		"The shop is opened with %s; its first lead signs in as %s", words.Plural(d.Bays, "bay", "bays"), lead.Login,
	))
	if err != nil {
		return nil, err
	}
	settings := store.Settings{Name: name, Address: address, OpenedAt: s.Now().UTC()}
	if err := s.Store.OpenShop(settings, lead, bayLetters(d.Bays), e); err != nil {
		return nil, err
	}
	s.welcome.Store(nil)
	return lead, nil
}

// ErrFirstCode tells that the first lead's code is another.
var ErrFirstCode = errors.New("that is not the code that the terminal shows; nothing was made")

var errLoginForm = errors.New("a name for signing in has 2 to 32 small letters without accents, digits, dots and " +
	"dashes, and begins with a letter or digit; nothing was made")

// bayLetters are the bays of a bench: A to Z, then AA, AB and so on.
func bayLetters(bays int) (out []store.Bay) {
	for n := range bays {
		letter := string(rune('A' + n%26))
		if n >= 26 {
			letter = string(rune('A'+n/26-1)) + letter
		}
		out = append(out, store.Bay{Letter: letter})
	}
	return out
}

// AddPerson makes an account for somebody, who chooses a password with the one-time code that it returns.
func (s *Shop) AddPerson(by, login, name string, role store.Role) (code string, err error) {
	t := store.Technician{Login: strings.ToLower(strings.TrimSpace(login)), Role: role}
	if !loginForm.MatchString(t.Login) {
		return "", errLoginForm
	}
	if t.Name, err = lineSaid("the name", name, maxName, true); err != nil {
		return "", err
	}
	if !role.May(store.Reader) {
		return "", fmt.Errorf("%q is no role; nothing was made", role)
	}
	code = s.giveCode(&t, firstCodeFor)
	text := fmt.Sprintf("Account made for %s, who signs in as %s: %s", t.Name, t.Login, role)
	e, err := s.entry(by, trail.ActPerson, text)
	if err != nil {
		return "", err
	}
	return code, s.Store.AddPerson(&t, e)
}

func (s *Shop) giveCode(t *store.Technician, lasts time.Duration) string {
	code, until := signin.NewCode(), s.Now().Add(lasts).UTC()
	t.CodeHash, t.CodeUntil = signin.KeptOf(code), &until
	return code
}

// changePerson changes an account, which is entered as text says.
func (s *Shop) changePerson(by string, id uint64, change func(t *store.Technician) (text string, err error)) error {
	return s.Store.ChangePerson(id, func(t *store.Technician) (*trail.Entry, error) {
		text, err := change(t)
		if err != nil {
			return nil, err
		}
		e, err := s.entry(by, trail.ActPerson, text)
		return &e, err
	})
}

// Rename gives somebody another name and another role.
func (s *Shop) Rename(by string, id uint64, name string, role store.Role) error {
	name, err := lineSaid("the name", name, maxName, true)
	if err == nil && !role.May(store.Reader) {
		err = fmt.Errorf("%q is no role; nothing was changed", role)
	}
	if err != nil {
		return err
	}
	return s.changePerson(by, id, func(t *store.Technician) (string, error) {
		was := *t
		t.Name, t.Role = name, role
		switch {
		case was.Name == name && was.Role == role:
			return "", fmt.Errorf("%s is called so and is %s already; nothing was changed", name, role)
		case was.Role == role:
			return fmt.Sprintf("The account %s is %s's, who was %s before", t.Login, name, was.Name), nil
		case was.Name == name:
			return fmt.Sprintf("%s (%s) is %s, and was %s before", name, t.Login, role, was.Role), nil
		}
		return fmt.Sprintf("The account %s is %s's, %s; before it was %s's, %s", t.Login, name, role, was.Name, was.Role), nil
	})
}

// Switch switches an account off, or on again. Whoever sits somewhere with one that is switched off is out at once.
func (s *Shop) Switch(by string, id uint64, on bool) error {
	return s.changePerson(by, id, func(t *store.Technician) (string, error) {
		if on == (t.OffAt == nil) {
			return "", fmt.Errorf("the account of %s is %s already; nothing was changed", t.Name, words.Either(on, "on", "off"))
		}
		t.OffAt = nil
		if !on {
			now := s.Now().UTC()
			t.OffAt = &now
		}
		return fmt.Sprintf("The account of %s (%s) is switched %s", t.Name, t.Login, words.Either(on, "on", "off")), nil
	})
}

// Reset gives somebody who has forgotten the password a one-time code. The former password is good no more, and
// whoever sits somewhere by it is out; with second, the second factor is taken off as well.
func (s *Shop) Reset(by string, id uint64, second bool) (code string, err error) {
	err = s.changePerson(by, id, func(t *store.Technician) (string, error) {
		if t.OffAt != nil {
			return "", fmt.Errorf("the account of %s is switched off; nothing was changed. Switch it on first", t.Name)
		}
		code = s.giveCode(t, codeFor)
		t.PasswordHash = ""
		text := fmt.Sprintf("One-time code given to %s (%s); the former password is good no more", t.Name, t.Login)
		if second && t.SecondSecret != "" {
			t.SecondSecret, t.Recovery = "", nil
			text += ", and the second factor is taken off"
		}
		return text, nil
	})
	if err != nil {
		return "", err
	}
	return code, s.Store.EndOthers(id, "")
}

// Enter gives somebody who has a one-time code the password that they choose.
func (s *Shop) Enter(ctx context.Context, login, code, password string) (*store.Technician, error) {
	t, err := s.Store.Account(login)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrCode
	}
	if err != nil {
		return nil, err
	}
	usable := func(t *store.Technician) bool {
		return signin.SameCode(t.CodeHash, code) && t.OffAt == nil && t.CodeUntil != nil && s.Now().Before(*t.CodeUntil)
	}
	if !usable(t) {
		return nil, ErrCode
	}
	hash, err := s.chosen(ctx, t, password)
	if err != nil {
		return nil, err
	}
	return t, s.changePerson(t.Name, t.ID, func(now *store.Technician) (string, error) {
		if !usable(now) { // somebody was quicker
			return "", ErrCode
		}
		now.PasswordHash, now.CodeHash, now.CodeUntil = hash, "", nil
		*t = *now
		return fmt.Sprintf("%s (%s) has chosen a password with the one-time code", t.Name, t.Login), nil
	})
}

// chosen is what is kept of a password that somebody chooses.
func (s *Shop) chosen(ctx context.Context, t *store.Technician, password string) (string, error) {
	about := []string{t.Login, t.Name}
	if its, err := s.Store.Settings(); err == nil {
		about = append(about, its.Name)
	}
	if err := signin.Good(password, about...); err != nil {
		return "", err
	}
	return signin.Hash(ctx, password, signin.Secret)
}

// ErrPassword tells that the password is not the one of the account.
var ErrPassword = errors.New("that is not your password; nothing was changed")

// ChangePassword gives somebody another password, and ends all sittings but the one in which that was done.
func (s *Shop) ChangePassword(ctx context.Context, who *store.Technician, sitting, old, password string) error {
	if err := s.ConfirmPassword(ctx, who, old); err != nil {
		return err
	}
	hash, err := s.chosen(ctx, who, password)
	if err != nil {
		return err
	}
	err = s.changePerson(who.Name, who.ID, func(t *store.Technician) (string, error) {
		t.PasswordHash = hash
		return fmt.Sprintf("%s (%s) has chosen another password", t.Name, t.Login), nil
	})
	if err != nil {
		return err
	}
	return s.Store.EndOthers(who.ID, sitting)
}

// ConfirmPassword lets somebody who is signed in show the password once more, before what a stranger at the keyboard
// must not do.
func (s *Shop) ConfirmPassword(ctx context.Context, who *store.Technician, password string) error {
	right, err := signin.Check(ctx, who.PasswordHash, password)
	if err == nil && !right {
		err = ErrPassword
	}
	return err
}

// recoveries is how many recovery codes there are with a second factor.
const recoveries = 8

// SetSecond sets somebody's second factor up, once a number shows that the telephone has its secret. It returns the
// recovery codes, each good once instead of a number; nobody sees them again.
func (s *Shop) SetSecond(who *store.Technician, secret, number string) (codes []string, err error) {
	in, ok := signin.Second(secret, number, s.Now(), 0)
	if !ok {
		return nil, fmt.Errorf("%w; nothing was set up", ErrSecond)
	}
	var kept []string
	for range recoveries {
		code := signin.NewCode()
		codes, kept = append(codes, code), append(kept, signin.KeptOf(code))
	}
	return codes, s.changePerson(who.Name, who.ID, func(t *store.Technician) (string, error) {
		t.SecondSecret, t.SecondLast, t.Recovery = secret, in, kept
		return fmt.Sprintf("%s (%s) has set up a second factor", t.Name, t.Login), nil
	})
}

// EndSecond takes somebody's own second factor off.
func (s *Shop) EndSecond(ctx context.Context, who *store.Technician, password string) error {
	if err := s.ConfirmPassword(ctx, who, password); err != nil {
		return err
	}
	return s.changePerson(who.Name, who.ID, func(t *store.Technician) (string, error) {
		if t.SecondSecret == "" {
			return "", errors.New("there is no second factor; nothing was changed")
		}
		t.SecondSecret, t.Recovery = "", nil
		return fmt.Sprintf("%s (%s) has taken the second factor off", t.Name, t.Login), nil
	})
}

// UseSecond takes a number of somebody's second factor, or one of the recovery codes, each once. left is how many of
// those are left, -1 where none was used.
func (s *Shop) UseSecond(id uint64, number string) (left int, err error) {
	left = -1
	return left, s.Store.ChangePerson(id, func(t *store.Technician) (*trail.Entry, error) {
		if in, ok := signin.Second(t.SecondSecret, number, s.Now(), t.SecondLast); ok {
			t.SecondLast = in
			return nil, nil
		}
		for i, kept := range t.Recovery {
			if signin.SameCode(kept, number) {
				t.Recovery = append(append([]string{}, t.Recovery[:i]...), t.Recovery[i+1:]...)
				left = len(t.Recovery)
				e, err := s.entry(t.Name, trail.ActPerson, fmt.Sprintf(
					"%s (%s) has used a recovery code; %d are left", t.Name, t.Login, left,
				))
				return &e, err
			}
		}
		return nil, ErrSecond
	})
}

// ChangeShop changes what stands on the shop's papers, how many bays its bench has, and whether everybody needs a
// second factor. Bays become more, never fewer: history hangs on them.
func (s *Shop) ChangeShop(by, name, address string, bays int, second bool) error {
	name, err := lineSaid("the shop's name", name, maxName, true)
	address, e := wellSaid("the address", address, maxAddress, false)
	if err = errors.Join(err, e); err != nil {
		return err
	}
	have, err := s.Store.Bays()
	if err != nil {
		return err
	}
	if bays < len(have) || bays > MaxBays {
		return fmt.Errorf("the bench has %d bays, and can have up to %d; nothing was changed", len(have), MaxBays)
	}
	entry, err := s.entry(by, trail.ActShop, "")
	if err != nil {
		return err
	}
	is, err := s.Store.Settings()
	if err != nil {
		return err
	}
	var said []string
	if is.Name != name || is.Address != address {
		said = append(said, "other words on its papers")
	}
	if bays > len(have) {
		said = append(said, fmt.Sprintf("%d bays instead of %d", bays, len(have)))
	}
	if is.SecondFactor != second {
		said = append(said, words.Either(second, "everybody needs a second factor", "a second factor is left to each"))
	}
	if len(said) == 0 {
		return errors.New("that is how it is already; nothing was changed")
	}
	entry.Text = "The shop: " + strings.Join(said, ", ")
	return s.Store.ChangeSettings(func(a *store.Settings) error {
		a.Name, a.Address, a.SecondFactor = name, address, second
		return nil
	}, bayLetters(bays), entry)
}
