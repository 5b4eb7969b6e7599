package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"jadetrail/app/demo"
	"jadetrail/app/shop"
	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/core/words"
)

// peopleRoutes are the addresses of signing in, of one's own account, and of people and the shop.
func (s *Server) peopleRoutes(r *gin.RouterGroup) {
	r.GET("/first-day", s.firstDayPage)
	r.POST("/first-day", s.firstDay)
	r.GET("/sign-in", s.signInPage)
	r.POST("/sign-in", s.signIn)
	r.GET("/sign-in/second", s.secondPage)
	r.POST("/sign-in/second", s.second)
	r.GET("/welcome", s.welcomePage)
	r.POST("/welcome", s.welcome)
	r.POST("/sign-out", s.signOut)
	r.GET("/account", s.accountPage)
	r.POST("/account/password", s.changePassword)
	r.POST("/account/end", s.endSitting)
	r.GET("/account/second", s.setSecondPage)
	r.POST("/account/second", s.setSecond)
	r.POST("/account/second/take-off", s.endSecond)
	r.GET("/people", s.peoplePage)
	r.POST("/people", s.addPerson)
	r.POST("/people/:id", s.renamePerson)
	r.POST("/people/:id/on", s.switchOn)
	r.POST("/people/:id/off", s.switchOff)
	r.POST("/people/:id/code", s.giveCode)
	r.GET("/shop", s.shopPage)
	r.POST("/shop", s.changeShop)
}

// safeNext is an address of this application to go on to after signing in.
func safeNext(p string) string {
	u, err := url.Parse(p)
	if err != nil || strings.ContainsFunc(p, func(r rune) bool { return unicode.IsControl(r) || r == '\\' }) {
		return "/"
	}
	elsewhere := u.IsAbs() || u.Host != "" || u.User != nil || u.Opaque != ""
	if elsewhere || !strings.HasPrefix(u.Path, "/") || strings.HasPrefix(u.Path, "//") {
		return "/"
	}
	return u.RequestURI()
}

// notThere is err, unless it only says that something is not there.
func notThere(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

type signInView struct {
	Next, Login, Trouble string
	Accounts             []store.NewPerson
	Kept                 string // a form that was sent too late
	Late                 bool   // it came just now
}

func (s *Server) signInPage(c *gin.Context) {
	if s.Empty() {
		c.Redirect(http.StatusSeeOther, "/first-day")
		return
	}
	s.showSignIn(c, http.StatusOK, signInView{})
}

func (s *Server) showSignIn(c *gin.Context, status int, v signInView) {
	v.Next = safeNext(c.DefaultQuery("next", c.PostForm("next")))
	if keptIn(c) != nil {
		v.Kept = c.PostForm("kept")
	}
	if s.demo {
		v.Accounts = demo.People
	}
	s.render(c, status, "signin", page{Title: "Sign in", Here: "signin", Body: v})
}

// showLate asks who it is that has sent a form after the session had ended.
func (s *Server) showLate(c *gin.Context, kept string) {
	v := signInView{Next: "/", Kept: kept, Late: true}
	if s.demo {
		v.Accounts = demo.People
	}
	s.render(c, http.StatusUnauthorized, "signin", page{Title: "Sign in", Here: "signin", Body: v})
}

// tooOften says that somebody has to wait.
func tooOften(wait time.Duration) string {
	minutes := int(wait/time.Minute) + 1
	return fmt.Sprintf(
		"Too many tries that were wrong. Try again in %s, or in a browser in which you have signed in before.",
		words.Plural(minutes, "minute", "minutes"),
	)
}

// tried lets somebody try to prove who they are, and counts it where that is wrong. The status is 0 where it is right.
func (s *Server) tried(c *gin.Context, login string, try func() error) (status int, trouble string, err error) {
	a, err := s.attempt(c, login)
	if err != nil {
		return 0, "", err
	}
	if wait := s.signIns.Wait(a, s.Now()); wait > 0 {
		s.log.Warn("sign-in kept waiting", "id", sent(c.Request).id, "account", a.Account, "from", a.Source)
		return http.StatusTooManyRequests, tooOften(wait), nil
	}
	err = try()
	switch {
	case err == nil:
		s.signIns.Succeeded(a)
		return 0, "", nil
	case errors.Is(err, store.ErrSignIn), errors.Is(err, shop.ErrCode), errors.Is(err, shop.ErrSecond):
		s.signIns.Failed(a, s.Now())
		s.log.Warn("sign-in refused", "id", sent(c.Request).id, "account", a.Account, "from", a.Source)
		return http.StatusUnauthorized, words.Sentence(err), nil
	case errors.Is(err, signin.ErrBusy):
		return http.StatusServiceUnavailable, words.Sentence(err), nil
	}
	return 0, "", err
}

// mostLogin is how many bytes of a name are kept while somebody signs in.
const mostLogin = 64

// loginSaid is the name by which somebody wants to sign in.
func loginSaid(c *gin.Context) string {
	return cut(strings.ToLower(strings.TrimSpace(c.PostForm("login"))), mostLogin)
}

func (s *Server) signIn(c *gin.Context) {
	login := loginSaid(c)
	var t *store.Technician
	status, trouble, err := s.tried(c, login, func() (err error) {
		t, err = s.Store.SignIn(c.Request.Context(), login, c.PostForm("password"))
		return err
	})
	switch {
	case err != nil:
		s.fail(c, err)
	case status == http.StatusUnauthorized:
		s.showSignIn(c, status, signInView{Login: login, Trouble: "Name and password do not belong together. Try again."})
	case status != 0:
		s.showSignIn(c, status, signInView{Login: login, Trouble: trouble})
	case t.SecondSecret != "":
		if err := s.sessions.RenewToken(c.Request.Context()); err != nil {
			s.fail(c, err)
			return
		}
		s.sessions.Put(c.Request.Context(), "half", fmt.Sprintf("%d %d", t.ID, s.Now().Unix()))
		if keptIn(c) != nil {
			s.showSecond(c, http.StatusOK, "")
			return
		}
		c.Redirect(http.StatusSeeOther, "/sign-in/second?next="+url.QueryEscape(safeNext(c.PostForm("next"))))
	default:
		s.enter(c, t, safeNext(c.PostForm("next")))
	}
}

// enter lets somebody in.
func (s *Server) enter(c *gin.Context, t *store.Technician, next string) {
	if err := s.sits(c, t); err != nil {
		s.fail(c, err)
		return
	}
	if k := keptIn(c); k != nil {
		s.sendAgain(c, k)
		return
	}
	c.Redirect(http.StatusSeeOther, next)
}

// halfFor is how long the second factor may take after the password.
const halfFor = 5 * time.Minute

// half is who has given the password and not the second factor, nil for nobody.
func (s *Server) half(c *gin.Context) *store.Technician {
	var id uint64
	var since int64
	if _, err := fmt.Sscan(s.sessions.GetString(c.Request.Context(), "half"), &id, &since); err != nil {
		return nil
	}
	if s.Now().Sub(time.Unix(since, 0)) > halfFor {
		return nil
	}
	t, err := s.Store.Technician(id)
	if err != nil || t.OffAt != nil || t.SecondSecret == "" {
		return nil
	}
	return t
}

func (s *Server) secondPage(c *gin.Context) { s.showSecond(c, http.StatusOK, "") }

func (s *Server) showSecond(c *gin.Context, status int, trouble string) {
	if s.half(c) == nil {
		c.Redirect(http.StatusSeeOther, "/sign-in")
		return
	}
	v := signInView{Next: safeNext(c.DefaultQuery("next", c.PostForm("next"))), Trouble: trouble}
	if keptIn(c) != nil {
		v.Kept = c.PostForm("kept")
	}
	s.render(c, status, "second", page{Title: "Second factor", Here: "signin", Body: v})
}

// second takes the number of the second factor.
func (s *Server) second(c *gin.Context) {
	t := s.half(c)
	if t == nil {
		c.Redirect(http.StatusSeeOther, "/sign-in")
		return
	}
	left := -1
	status, trouble, err := s.tried(c, t.Login, func() (err error) {
		left, err = s.UseSecond(t.ID, c.PostForm("number"))
		return err
	})
	switch {
	case err != nil:
		s.fail(c, err)
	case status != 0:
		s.showSecond(c, status, trouble)
	default:
		if left >= 0 {
			said := fmt.Sprintf("care:That was a recovery code; %s left.", words.Plural(left, "is", "are"))
			s.sessions.Put(c.Request.Context(), "flash", said+" Set the second factor up anew to have eight.")
		}
		s.enter(c, t, safeNext(c.PostForm("next")))
	}
}

type welcomeView struct{ Login, Code, Trouble string }

func (s *Server) welcomePage(c *gin.Context) { s.showWelcome(c, http.StatusOK, welcomeView{}) }

func (s *Server) showWelcome(c *gin.Context, status int, v welcomeView) {
	s.render(c, status, "welcome", page{Title: "Choose a password", Here: "signin", Body: v})
}

// welcome takes a one-time code and the password that somebody chooses with it.
func (s *Server) welcome(c *gin.Context) {
	v := welcomeView{Login: loginSaid(c), Code: cut(c.PostForm("code"), mostLogin)}
	var t *store.Technician
	status, trouble, err := s.tried(c, v.Login, func() (err error) {
		if c.PostForm("password") != c.PostForm("again") {
			return errTwice
		}
		t, err = s.Enter(c.Request.Context(), v.Login, v.Code, c.PostForm("password"))
		return err
	})
	switch {
	case isChoice(err):
		v.Trouble = words.Sentence(err)
		s.showWelcome(c, http.StatusUnprocessableEntity, v)
	case err != nil:
		s.fail(c, err)
	case status != 0:
		v.Trouble = trouble
		s.showWelcome(c, status, v)
	case t.SecondSecret != "": // which the code does not stand for
		s.say(c, "sound", "The password is chosen. Sign in with it.", "/sign-in")
	default:
		s.enter(c, t, "/")
	}
}

// errTwice tells that a password was not typed twice the same.
var errTwice = errors.New("the two passwords are not the same; nothing was changed")

// isChoice tells that a password cannot be chosen, and nothing else went wrong.
func isChoice(err error) bool {
	return slices.ContainsFunc([]error{errTwice, signin.ErrShort, signin.ErrLong, signin.ErrCommon}, func(x error) bool {
		return errors.Is(err, x)
	})
}

func (s *Server) signOut(c *gin.Context) {
	ctx := c.Request.Context()
	if err := s.Store.End(me(c).ID, s.sessions.GetString(ctx, "sitting")); err != nil {
		s.fail(c, err)
		return
	}
	if err := s.sessions.Destroy(ctx); err != nil {
		s.fail(c, err)
		return
	}
	s.log.Info("signed out", "id", sent(c.Request).id, "who", me(c).Login)
	c.Redirect(http.StatusSeeOther, "/sign-in")
}

// signedIn lets only those in who are signed in.
func (s *Server) signedIn(c *gin.Context) {
	t, err := s.sitting(c)
	if notThere(err) != nil {
		s.fail(c, err)
		return
	}
	if err != nil {
		next := "/"
		if c.Request.Method == http.MethodGet {
			next = c.Request.URL.RequestURI()
		}
		if kept := keptFrom(c); kept != "" && !s.Empty() {
			s.showLate(c, kept)
			c.Abort()
			return
		}
		c.Redirect(http.StatusSeeOther, "/sign-in?next="+url.QueryEscape(next))
		c.Abort()
		return
	}
	c.Set("me", t)
	sent(c.Request).who = t.Login
	its, err := s.Store.Settings()
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Set("shop", its)
	if s.lacksSecond(t, its) && !strings.HasPrefix(c.FullPath(), "/account") && c.FullPath() != "/sign-out" {
		s.say(c, "care", "Your account needs a second factor before you go on.", "/account/second")
		c.Abort()
		return
	}
	s.CatchUp()
	sent(c.Request).acting = true
}

// lacksSecond tells that somebody needs a second factor and has none: everybody where the shop wants it so, and a lead
// wherever the bench can be reached from elsewhere.
func (s *Server) lacksSecond(t *store.Technician, its *store.Settings) bool {
	return t.SecondSecret == "" && (its.SecondFactor || s.beyond && t.Lead())
}

// firstDayView is the form that opens the shop.
type firstDayView struct {
	shop.FirstDay
	Trouble string
	Most    int
}

func (s *Server) firstDayPage(c *gin.Context) {
	v := firstDayView{}
	v.Bays = 6
	s.showFirstDay(c, http.StatusOK, v)
}

func (s *Server) showFirstDay(c *gin.Context, status int, v firstDayView) {
	if !s.Empty() {
		c.Redirect(http.StatusSeeOther, "/sign-in")
		return
	}
	v.Most = shop.MaxBays
	s.render(c, status, "firstday", page{Title: "The first day", Here: "signin", Body: v})
}

func (s *Server) firstDay(c *gin.Context) {
	v := firstDayView{}
	d := &v.FirstDay
	d.Code, d.Shop, d.Address = c.PostForm("code"), c.PostForm("shop"), c.PostForm("address")
	d.Login, d.Name, d.Password = c.PostForm("login"), c.PostForm("name"), c.PostForm("password")
	d.Bays, _ = strconv.Atoi(c.PostForm("bays"))
	a := signin.Attempt{Source: s.source(c), Account: "the first day"}
	if wait := s.signIns.Wait(a, s.Now()); wait > 0 {
		v.Trouble = tooOften(wait)
		s.showFirstDay(c, http.StatusTooManyRequests, v)
		return
	}
	err := errTwice
	var lead *store.Technician
	if d.Password == c.PostForm("again") {
		lead, err = s.OpenUp(c.Request.Context(), *d)
	}
	if err != nil {
		if errors.Is(err, shop.ErrFirstCode) {
			s.signIns.Failed(a, s.Now())
		}
		v.Trouble = s.worded(err)
		s.showFirstDay(c, http.StatusUnprocessableEntity, v)
		return
	}
	said := "sound:The shop is open. Make accounts for your people, and open the first job."
	s.sessions.Put(c.Request.Context(), "flash", said)
	s.enter(c, lead, "/people")
}

type accountView struct {
	Sittings []store.Sitting
	This     string
	Codes    int  // recovery codes that are left
	Needs    bool // a second factor
}

func (s *Server) accountPage(c *gin.Context) {
	now := s.Now().UTC()
	list, err := s.Store.Sittings(me(c).ID, now.Add(-longestSession), now.Add(-idleSession))
	if err != nil {
		s.fail(c, err)
		return
	}
	v := accountView{
		Sittings: list, This: s.sessions.GetString(c.Request.Context(), "sitting"), Codes: len(me(c).Recovery),
		Needs: s.lacksSecond(&store.Technician{Role: me(c).Role}, shopOf(c)),
	}
	s.render(c, http.StatusOK, "account", page{
		Title: "Your account", Here: "account", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Your account", ""}},
	})
}

// shopOf is the shop as its papers have it.
func shopOf(c *gin.Context) *store.Settings { return c.MustGet("shop").(*store.Settings) }

func (s *Server) changePassword(c *gin.Context) {
	var err error = errTwice
	if c.PostForm("password") == c.PostForm("again") {
		sitting := s.sessions.GetString(c.Request.Context(), "sitting")
		err = s.ownTry(c, func() error {
			return s.ChangePassword(c.Request.Context(), me(c), sitting, c.PostForm("old"), c.PostForm("password"))
		})
	}
	if err != nil {
		s.refuse(c, err, "/account")
		return
	}
	s.say(c, "sound", "Your password is changed. Everywhere else you are signed out.", "/account")
}

// ownTry lets somebody who is signed in give the password once more; too often wrong, and they wait as at the door.
func (s *Server) ownTry(c *gin.Context, f func() error) error {
	sitting := s.sessions.GetString(c.Request.Context(), "sitting")
	a := signin.Attempt{Source: s.source(c), Account: me(c).Login, Known: sitting}
	if wait := s.signIns.Wait(a, s.Now()); wait > 0 {
		return errors.New(tooOften(wait))
	}
	err := f()
	if errors.Is(err, shop.ErrPassword) {
		s.signIns.Failed(a, s.Now())
	}
	return err
}

func (s *Server) endSitting(c *gin.Context) {
	id, this := c.PostForm("sitting"), s.sessions.GetString(c.Request.Context(), "sitting")
	var err error
	if id == "" {
		err = s.Store.EndOthers(me(c).ID, this)
	} else {
		err = s.Store.End(me(c).ID, id)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	said := words.Either(id == "", "You are signed out everywhere else.", "You are signed out there.")
	s.say(c, "sound", said, "/account")
}

// secondView is what a telephone reads to have the secret.
type secondView struct {
	Secret  string
	Code    codeDrawing
	Trouble string
	Codes   []string // the recovery codes, once
	Needs   bool
}

func (s *Server) setSecondPage(c *gin.Context) { s.showSetSecond(c, http.StatusOK, "") }

func (s *Server) showSetSecond(c *gin.Context, status int, trouble string) {
	secret := s.sessions.GetString(c.Request.Context(), "second")
	if secret == "" {
		var err error
		if secret, err = signin.NewSecond(); err != nil {
			s.fail(c, err)
			return
		}
		s.sessions.Put(c.Request.Context(), "second", secret)
	}
	drawing, err := squareCode(signin.SecondLink(secret, shopOf(c).Name, me(c).Login))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, status, "secondset", page{Title: "Second factor", Here: "account", Body: secondView{
		Secret: secret, Code: drawing, Trouble: trouble, Needs: s.lacksSecond(me(c), shopOf(c)),
	}, Crumbs: []crumb{{"Bench", "/"}, {"Your account", "/account"}, {"Second factor", ""}}})
}

func (s *Server) setSecond(c *gin.Context) {
	secret := s.sessions.GetString(c.Request.Context(), "second")
	err := errors.New("the secret is not the one that was shown; nothing was set up")
	var codes []string
	if secret != "" {
		err = s.ownTry(c, func() (err error) {
			if err := s.ConfirmPassword(c.Request.Context(), me(c), c.PostForm("password")); err != nil {
				return err
			}
			codes, err = s.SetSecond(me(c), secret, c.PostForm("number"))
			return err
		})
	}
	if err != nil {
		s.showSetSecond(c, http.StatusUnprocessableEntity, s.worded(err))
		return
	}
	s.sessions.Remove(c.Request.Context(), "second")
	s.render(c, http.StatusOK, "secondset", page{
		Title: "Recovery codes", Here: "account", Body: secondView{Codes: codes},
		Crumbs: []crumb{{"Bench", "/"}, {"Your account", "/account"}, {"Recovery codes", ""}},
	})
}

func (s *Server) endSecond(c *gin.Context) {
	err := s.ownTry(c, func() error { return s.EndSecond(c.Request.Context(), me(c), c.PostForm("password")) })
	if err != nil {
		s.refuse(c, err, "/account")
		return
	}
	s.say(c, "sound", "The second factor is taken off.", "/account")
}

type peopleView struct {
	People []store.Technician
	Roles  []store.Role
	// Code is one that was just given, and is shown once; For is for whom.
	Code, For, Login string
	Within           string // how long it is good
}

func (s *Server) peoplePage(c *gin.Context) { s.showPeople(c, http.StatusOK, peopleView{}) }

func (s *Server) showPeople(c *gin.Context, status int, v peopleView) {
	var err error
	if v.People, err = s.Store.Accounts(); err != nil {
		s.fail(c, err)
		return
	}
	v.Roles = store.Roles
	s.render(c, status, "people", page{
		Title: "People", Here: "people", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"People", ""}},
	})
}

func (s *Server) addPerson(c *gin.Context) {
	login, name := c.PostForm("login"), c.PostForm("name")
	code, err := s.AddPerson(me(c).Name, login, name, store.Role(c.PostForm("role")))
	if err != nil {
		s.refuse(c, err, "/people")
		return
	}
	login = strings.ToLower(strings.TrimSpace(login))
	s.showPeople(c, http.StatusOK, peopleView{Code: code, For: strings.TrimSpace(name), Login: login, Within: "a week"})
}

// personOf is the account that a request is about.
func personOf(c *gin.Context) uint64 {
	id, err := strconv.ParseUint(c.Param("id"), 10, 64)
	if err != nil {
		return 0 // which nobody has
	}
	return id
}

// toPeople leads back to the people, after an act about one.
func (s *Server) toPeople(c *gin.Context, err error, said string) {
	if err != nil {
		s.refuse(c, err, "/people")
		return
	}
	s.say(c, "sound", said, "/people")
}

func (s *Server) renamePerson(c *gin.Context) {
	err := s.Rename(me(c).Name, personOf(c), c.PostForm("name"), store.Role(c.PostForm("role")))
	s.toPeople(c, err, "The account is changed.")
}

func (s *Server) switchOn(c *gin.Context) {
	s.toPeople(c, s.Switch(me(c).Name, personOf(c), true), "The account is switched on.")
}

func (s *Server) switchOff(c *gin.Context) {
	s.toPeople(c, s.Switch(me(c).Name, personOf(c), false), "The account is switched off, and signed out everywhere.")
}

func (s *Server) giveCode(c *gin.Context) {
	t, err := s.Store.Technician(personOf(c))
	var code string
	if err == nil {
		code, err = s.Reset(me(c).Name, t.ID, c.PostForm("second") != "")
	}
	if err != nil {
		s.refuse(c, err, "/people")
		return
	}
	s.showPeople(c, http.StatusOK, peopleView{Code: code, For: t.Name, Login: t.Login, Within: "a day"})
}

type shopView struct {
	*store.Settings
	Bays, Most int
}

func (s *Server) shopPage(c *gin.Context) {
	bays, err := s.Store.Bays()
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "shop", page{
		Title: "The shop", Here: "shop", Body: shopView{shopOf(c), len(bays), shop.MaxBays},
		Crumbs: []crumb{{"Bench", "/"}, {"The shop", ""}},
	})
}

func (s *Server) changeShop(c *gin.Context) {
	bays, err := strconv.Atoi(c.PostForm("bays"))
	if err == nil {
		err = s.ChangeShop(me(c).Name, c.PostForm("name"), c.PostForm("address"), bays, c.PostForm("second") != "")
	}
	if err != nil {
		s.refuse(c, err, "/shop")
		return
	}
	s.say(c, "sound", "The shop is changed.", "/shop")
}
