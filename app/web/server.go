// Package web is the application in the browser: Gin handlers, view models and
// embedded pages.
package web

import (
	"bytes"
	"cmp"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template/parse"
	"time"

	"github.com/alexedwards/scs/mysqlstore"
	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"
	"golang.org/x/sys/unix"

	"jadetrail/app/shop"
	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

//go:embed templates
var templateFiles embed.FS

//go:embed static
var staticFiles embed.FS

// Server is the web application: what comes over the web is read, the shop is asked, and what it says is shown.
type Server struct {
	*shop.Shop
	sessions *scs.SessionManager
	pages    map[string]*template.Template
	demo     bool
	secure   bool
	beyond   bool
	hosts    []string
	proxy    string
	signIns  *signin.Limits
	watching streams
	benches  work.Shared[*benchView]
	log      *slog.Logger
	forget   func() // ends the sweeping of old sessions
}

// Options of a server.
type Options struct {
	Shop *shop.Shop
	Demo bool // shows the demo's accounts on the sign-in page
	// Secure tells that browsers reach it over TLS, Beyond that they do so from other machines.
	Secure, Beyond bool
	// Hosts are the names by which it is reached, besides those of this machine for itself. A request for any other
	// is refused: it was led here by somebody else's name.
	Hosts []string
	// Proxy is the address of the one that is believed when it says where a request comes from, "" for none.
	Proxy string
	// Log is told of every request, refusal, act and failure; nil for nowhere.
	Log *slog.Logger
}

// maxBody bounds every request's body.
const maxBody = 1 << 20

// New returns the application.
func New(o Options) (*Server, error) {
	s := &Server{
		Shop: o.Shop, demo: o.Demo, secure: o.Secure, beyond: o.Beyond, hosts: o.Hosts, proxy: o.Proxy,
		sessions: scs.New(), signIns: signin.NewLimits(), watching: streams{of: map[string]int{}},
		log: cmp.Or(o.Log, slog.New(slog.DiscardHandler)),
	}
	if o.Log != nil {
		o.Shop.Store.Log = o.Log
	}
	db, err := o.Shop.Store.SQL()
	if err != nil {
		return nil, err
	}
	kept := mysqlstore.New(db)
	s.sessions.Store, s.forget = hashedSessions{kept}, kept.StopCleanup
	s.sessions.Lifetime = longestSession
	s.sessions.Cookie.Name, s.sessions.Cookie.Secure = s.cookie("session"), o.Secure
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteStrictMode
	return s, s.parse()
}

// Close closes the shop, and waits for its work.
func (s *Server) Close() {
	s.Shop.Close()
	s.forget()
}

// parse reads the templates. Those in shared are there for every page; a page is a file of its name, or a folder of
// its name with a file page.html and its parts.
func (s *Server) parse() error {
	shared, err := template.New("frame.html").Funcs(functions).ParseFS(templateFiles, "templates/shared/*.html")
	if err != nil {
		return err
	}
	entries, err := templateFiles.ReadDir("templates")
	if err != nil {
		return err
	}
	s.pages = map[string]*template.Template{}
	for _, e := range entries {
		if e.Name() == "shared" {
			continue
		}
		page, err := shared.Clone()
		if err != nil {
			return err
		}
		files := "templates/" + e.Name()
		if e.IsDir() {
			files += "/*.html"
		}
		if _, err := page.ParseFS(templateFiles, files); err != nil {
			return err
		}
		for _, t := range page.Templates() {
			if t.Tree != nil {
				closeUp(t.Tree.Root)
			}
		}
		s.pages[strings.TrimSuffix(e.Name(), ".html")] = page
	}
	return nil
}

var spaces = regexp.MustCompile(`\s+`)

// closeUp leaves one space of each stretch of it in the text of a template: the lines of its file are for those who
// read that, and none of them means anything in a page.
func closeUp(n parse.Node) {
	list := func(l *parse.ListNode) {
		if l == nil {
			return
		}
		for _, x := range l.Nodes {
			closeUp(x)
		}
	}
	branch := func(b *parse.BranchNode) {
		list(b.List)
		list(b.ElseList)
	}
	switch x := n.(type) {
	case *parse.TextNode:
		x.Text = spaces.ReplaceAll(x.Text, []byte(" "))
	case *parse.ListNode:
		list(x)
	case *parse.IfNode:
		branch(&x.BranchNode)
	case *parse.RangeNode:
		branch(&x.BranchNode)
	case *parse.WithNode:
		branch(&x.BranchNode)
	}
}

// part is what a part of a page is about: the page, what of it, and what of that; nil where there is no such thing.
type part struct{ View, Of, It any }

// standingWords are how a check of whether the PC will start stands, in words.
var standingWords = map[plan.Standing]string{
	plan.Sound: "sound", plan.Mends: "the plan mends it", plan.Must: "to be done", plan.Wrong: "it would not start",
}

var functions = template.FuncMap{
	"lasts": plan.Lasts,
	"standing": func(x plan.Standing) string {
		return standingWords[x]
	},
	"exact":   func(b disk.Bytes) string { return b.Exact() },
	"decimal": func(b disk.Bytes) string { return b.Decimal() },
	"group":   func(n any) string { return disk.Grouped(toInt(n)) },
	"when":    when,
	"stamp":   stamp,
	"day":     func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") },
	"short":   func(s string) string { return s[:min(len(s), 12)] },
	"role":    func(r layout.Role) string { return strings.ReplaceAll(string(r), "-", " ") },
	// The role, where a title does not say it already.
	"besides": func(s layout.Span) string {
		r := strings.ReplaceAll(string(s.Role), "-", " ")
		if strings.EqualFold(s.Title(), r) {
			return ""
		}
		return ", " + r
	},
	"json": func(v any) (template.JS, error) {
		b, err := json.Marshal(v) // escapes <, > and &, so it cannot end its element
		return template.JS(b), err
	},
	"tail":   lastFour,
	"stem":   func(s string) string { return s[:max(len(s)-4, 0)] },
	"act":    func(a trail.Act) string { return words.Entered(a) },
	"makers": disk.Bytes.Maker,
	"handed": dockLink,
	"shown":  volume.Shown,
	"words":  func(v compare.Verdict) string { return strings.ReplaceAll(string(v), "-", " ") },
	"why":    func(w layout.Why) string { return w.Explains() },
	"column": column,
	"ago":    func(t time.Time) string { return ago(time.Since(t)) },
	"date":   func(t time.Time) string { return t.Local().Format("2006-01-02") },
	"kind":   func(k volume.Kind) string { return kindName(string(k)) },
	"told":   func(x seek.Source) string { return toldWords[x] },
	"inc":    func(n int) int { return n + 1 },
	"plural": words.Plural,
	"add":    func(a, b int) int { return a + b },
	"times":  func(a, b int) int { return a * b },
	"base":   path.Base,
	// A day as a person writes it.
	"plainDay": func(t *time.Time) string { return t.Format("2 January 2006") },
	"browser":  browserOf,
	// What stands between the things of a list: nothing before the first.
	"between": func(i int, mark string) string {
		if i == 0 {
			return ""
		}
		return mark
	},
	"part":      func(view, of, it any) part { return part{view, of, it} },
	"pageOf":    pageOf,
	"static":    staticAt,
	"modules":   modules,
	"actOf":     actOf,
	"seenActOf": seenActOf,
	"sentences": func(all []string) string { return strings.Join(all, " ") },
}

// when is a moment as the bench's clock shows it; stamp is the same exactly.
func when(t time.Time) string { return t.Local().Format("2 Jan 15:04") }

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// lastFour is what of a serial number is read from a drive's label.
func lastFour(s string) string { return s[max(len(s)-4, 0):] }

// toldWords are what tells of a find.
var toldWords = map[seek.Source]string{
	seek.BySector: "its own start", seek.ByCopy: "the copy of its start", seek.ByFiles: "its table of files",
	seek.ByTable: "an old table", seek.ByChain: "a former chain", seek.ByRecord: "the trail",
}

// ago words how long something is back.
func ago(d time.Duration) string {
	for _, u := range []struct {
		of        time.Duration
		one, many string
	}{{24 * time.Hour, "a day", "days"}, {time.Hour, "an hour", "hours"}, {time.Minute, "a minute", "minutes"}} {
		switch n := int(d / u.of); {
		case n == 1:
			return u.one + " ago"
		case n > 1:
			return fmt.Sprintf("%d %s ago", n, u.many)
		}
	}
	return "just now"
}

func toInt(n any) int64 {
	switch v := n.(type) {
	case int:
		return int64(v)
	case int64:
		return v
	case disk.LBA:
		return int64(v)
	case disk.Bytes:
		return int64(v)
	}
	return 0
}

// routes are the addresses, and what answers at each.
func (s *Server) routes() *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	if err := r.SetTrustedProxies(s.trusted()); err != nil {
		panic(err) // its form was looked at before
	}
	r.Use(gin.CustomRecoveryWithWriter(nil, s.recovered))
	in := r.Group("/", s.allowed)
	in.GET("/static/*path", serveStatic)
	in.GET("/healthz", s.health)
	in.GET("/", s.benchPage)
	for _, routes := range []func(*gin.RouterGroup){
		s.peopleRoutes,
		s.counterRoutes,
		s.jobRoutes,
		s.planRoutes,
		s.runRoutes,
		s.insideRoutes,
		s.searchRoutes,
		s.findRoutes,
		s.compareRoutes,
		s.pcRoutes,
		s.dockRoutes,
		s.handOverRoutes,
		s.shelfRoutes,
		s.trailRoutes,
	} {
		routes(in)
	}
	r.NoRoute(func(c *gin.Context) { s.fail(c, errNoPage) })
	return r
}

// Handler answers requests.
func (s *Server) Handler() http.Handler {
	r := s.routes()
	s.sessions.ErrorFunc = s.sessionFailed
	withSession := s.sessions.LoadAndSave(r)
	all := http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if req.URL.Path == "/healthz" || strings.HasPrefix(req.URL.Path, "/static/") { // also while the database is away
			r.ServeHTTP(w, req)
			return
		}
		withSession.ServeHTTP(&reply{ResponseWriter: w}, req)
	})
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := int64(maxBody)
		if strings.HasPrefix(r.URL.Path, "/dock/uploads/") {
			most = maxPiece
		}
		if strings.HasPrefix(r.URL.Path, "/jobs/") && strings.HasSuffix(r.URL.Path, "/pictures") {
			most = shop.MaxPicture + maxBody
		}
		if r.URL.Path == "/trail/take-in" {
			most = shop.MaxTakenIn + maxBody
		}
		http.MaxBytesHandler(all, most).ServeHTTP(w, r)
	})
	return s.logged(patiently(slowest, s.headers(s.ownHost(http.NewCrossOriginProtection().Handler(h)))))
}

// errNoPage tells that an address leads nowhere.
var errNoPage = fmt.Errorf("this page does not exist: %w", store.ErrNotFound)

// trusted are the addresses that are believed when they say where a request comes from.
func (s *Server) trusted() []string {
	if s.proxy == "" {
		return nil
	}
	return []string{s.proxy}
}

// ownHost refuses requests for a host that this is not: a name that somebody else holds may lead here.
func (s *Server) ownHost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := strings.ToLower(r.Host)
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.Trim(host, "[]")
		if !slices.Contains(s.hosts, host) && !slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, host) {
			s.refused(r, fmt.Errorf("the request is for the host %.80q", host))
			http.Error(
				w, "This bench is not reached by that name. Take the address that the program has printed.",
				http.StatusMisdirectedRequest,
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// headers keeps the pages to what the application itself ships, and to who asked for them.
func (s *Server) headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Cache-Control", "no-store") // but for what says otherwise, as styles and scripts
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if s.secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Referrer-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

// page is what every page has.
type page struct {
	Title  string
	Me     *store.Technician
	Crumbs []crumb
	Flash  *flash
	Demo   bool
	Shop   string // its name, "" for nobody who is signed in
	Here   string
	Body   any
	// Rail is where the job stands that the page is about, nil for a page of no job.
	Rail *rail
	// Work is what goes on with the drive that the page is about, nil for nothing.
	Work *workBox
}

type crumb struct{ Text, Link string }

// flash is a sentence shown once on the next page.
type flash struct{ Kind, Text string }

func (s *Server) render(c *gin.Context, status int, name string, p page) {
	p.Demo = s.demo
	if me, ok := c.Get("me"); ok {
		p.Me = me.(*store.Technician)
	}
	if its, ok := c.Get("shop"); ok {
		p.Shop = its.(*store.Settings).Name
	}
	if p.Rail == nil && p.Me != nil {
		p.Rail = s.railFor(c, name)
	}
	if t := s.sessions.PopString(c.Request.Context(), "flash"); t != "" {
		kind, text, _ := strings.Cut(t, ":")
		p.Flash = &flash{kind, text}
	}
	var b bytes.Buffer
	if err := s.pages[name].Execute(&b, p); err != nil {
		s.failed(c.Request, err)
		c.String(http.StatusInternalServerError, "The page could not be made: %v", err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Data(status, "text/html; charset=utf-8", b.Bytes())
}

// say shows a sentence on the next page and leads there.
func (s *Server) say(c *gin.Context, kind, text, where string) {
	s.sessions.Put(c.Request.Context(), "flash", kind+":"+text)
	sent(c.Request).said = text
	c.Redirect(http.StatusSeeOther, where)
}

// refuse leads back with the reason of a refusal.
func (s *Server) refuse(c *gin.Context, err error, where string) {
	s.refused(c.Request, err)
	s.say(c, "care", s.worded(err), where)
}

// errorView is the page of an error.
type errorView struct {
	Text string
	ID   string // under which the log tells more, "" where there is no more to tell
	Sent bool   // something was sent, of which nobody knows whether it was done
}

// fail shows an error's own page.
func (s *Server) fail(c *gin.Context, err error) {
	if full := store.Full(err); full || store.Away(err) {
		s.failed(c.Request, err)
		c.Abort()
		s.away(c.Writer, c.Request, full)
		return
	}
	status, title := http.StatusInternalServerError, "That did not work"
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, trail.ErrNoRecord) || errors.Is(err, shelf.ErrNoBackup) || errors.Is(err, volume.ErrNotFound) || errors.Is(err, fs.ErrNotExist) {
		status, title = http.StatusNotFound, "Not found"
	}
	if errors.Is(err, unix.ENOSPC) {
		status, title = http.StatusInsufficientStorage, "The bench has no room left"
	}
	v := errorView{Text: s.worded(err)}
	if status == http.StatusNotFound {
		s.refused(c.Request, err)
	} else {
		s.failed(c.Request, err)
		v.ID, v.Sent = sent(c.Request).id, c.Request.Method != http.MethodGet && sent(c.Request).acting
	}
	c.Abort()
	s.render(c, status, "error", page{Title: title, Body: v})
}

// worded is an error as people are told it: without where the machine keeps its files.
func (s *Server) worded(err error) string {
	text := words.Sentence(err)
	if whole, e := filepath.Abs(s.Data); e == nil {
		text = strings.ReplaceAll(text, whole+string(filepath.Separator), "")
	}
	return strings.ReplaceAll(text, s.Data+string(filepath.Separator), "")
}
