package web

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
)

// everybody is the role of those who need not be signed in.
const everybody store.Role = ""

// rights say for each address who may use it: the least role that may. What is not here, nobody may.
var rights = map[string]store.Role{
	// Before anybody is signed in.
	"GET /healthz":         everybody,
	"GET /static/*path":    everybody,
	"GET /first-day":       everybody,
	"POST /first-day":      everybody,
	"GET /sign-in":         everybody,
	"POST /sign-in":        everybody,
	"GET /sign-in/second":  everybody,
	"POST /sign-in/second": everybody,
	"GET /welcome":         everybody,
	"POST /welcome":        everybody,

	// One's own account.
	"POST /sign-out":                store.Reader,
	"GET /account":                  store.Reader,
	"POST /account/password":        store.Reader,
	"POST /account/end":             store.Reader,
	"GET /account/second":           store.Reader,
	"POST /account/second":          store.Reader,
	"POST /account/second/take-off": store.Reader,

	// People and the shop.
	"GET /people":           store.Leader,
	"POST /people":          store.Leader,
	"POST /people/:id":      store.Leader,
	"POST /people/:id/on":   store.Leader,
	"POST /people/:id/off":  store.Leader,
	"POST /people/:id/code": store.Leader,
	"GET /shop":             store.Leader,
	"POST /shop":            store.Leader,
	"POST /asks/:ask":       store.Leader,

	// Jobs.
	"GET /":                                   store.Reader,
	"GET /find":                               store.Reader,
	"GET /jobs":                               store.Reader,
	"GET /jobs/new":                           store.Worker,
	"POST /jobs":                              store.Worker,
	"GET /customers":                          store.Worker,
	"GET /jobs/:job/about":                    store.Reader,
	"GET /jobs/:job/edit":                     store.Worker,
	"POST /jobs/:job/edit":                    store.Worker,
	"POST /jobs/:job/give":                    store.Worker,
	"POST /jobs/:job/wait":                    store.Worker,
	"POST /jobs/:job/consent":                 store.Worker,
	"POST /jobs/:job/notes":                   store.Worker,
	"POST /jobs/:job/pictures":                store.Worker,
	"GET /jobs/:job/pictures/:note":           store.Reader,
	"POST /jobs/:job/pictures/:note/take-out": store.Worker,
	"GET /jobs/:job/intake-sheet":             store.Reader,
	"POST /jobs/:job/handed-over":             store.Worker,
	"GET /jobs/:job/close":                    store.Worker,
	"POST /jobs/:job/close":                   store.Worker,
	"POST /jobs/:job/open-again":              store.Worker,
	"POST /jobs/:job/clear":                   store.Worker,

	// A job's drive and its plan.
	"GET /jobs/:job":                 store.Reader,
	"GET /jobs/:job/amount":          store.Reader,
	"GET /jobs/:job/work":            store.Reader,
	"POST /progress/:key/stop":       store.Worker,
	"GET /progress/:key":             store.Reader,
	"GET /jobs/:job/safeguard":       store.Reader,
	"GET /jobs/:job/confirm":         store.Reader,
	"GET /jobs/:job/plan.json":       store.Reader,
	"GET /jobs/:job/pc":              store.Reader,
	"GET /jobs/:job/pc.json":         store.Reader,
	"GET /jobs/:job/holds":           store.Reader,
	"POST /jobs/:job/anew":           store.Worker,
	"POST /jobs/:job/ask":            store.Worker,
	"POST /jobs/:job/back-up":        store.Worker,
	"POST /jobs/:job/carry-out":      store.Worker,
	"POST /jobs/:job/leave":          store.Worker,
	"POST /jobs/:job/letter":         store.Worker,
	"POST /jobs/:job/copy":           store.Worker,
	"POST /jobs/:job/mend":           store.Worker,
	"POST /jobs/:job/pc/facts":       store.Worker,
	"POST /jobs/:job/pc/state":       store.Worker,
	"POST /jobs/:job/plan/:what":     store.Worker,
	"POST /jobs/:job/rehearse":       store.Worker,
	"POST /jobs/:job/resume":         store.Worker,
	"POST /jobs/:job/route":          store.Worker,
	"POST /jobs/:job/steps":          store.Worker,
	"POST /jobs/:job/steps/change":   store.Worker,
	"POST /jobs/:job/steps/improve":  store.Worker,
	"POST /jobs/:job/steps/move":     store.Worker,
	"POST /jobs/:job/steps/take-out": store.Worker,
	"POST /jobs/:job/stop":           store.Worker,

	// Inside volumes, finds and comparisons.
	"GET /jobs/:job/inside":        store.Reader,
	"GET /jobs/:job/file":          store.Reader,
	"GET /jobs/:job/folder.tar":    store.Reader,
	"GET /jobs/:job/search":        store.Reader,
	"POST /jobs/:job/search":       store.Worker,
	"POST /jobs/:job/finds":        store.Worker,
	"GET /jobs/:job/find":          store.Reader,
	"POST /jobs/:job/find":         store.Worker,
	"POST /jobs/:job/find/back-up": store.Worker,
	"GET /jobs/:job/compare":       store.Reader,
	"POST /jobs/:job/compare":      store.Worker,
	"GET /compared/:id":            store.Reader,

	// The dock.
	"GET /dock":                 store.Reader,
	"GET /dock/handed/:file":    store.Reader,
	"POST /dock/attach":         store.Worker,
	"POST /dock/blank":          store.Worker,
	"POST /dock/detach":         store.Worker,
	"POST /dock/how":            store.Worker,
	"POST /dock/move":           store.Worker,
	"POST /dock/shelf":          store.Worker,
	"POST /dock/no-shelf":       store.Worker,
	"POST /dock/hand-out":       store.Worker,
	"POST /dock/uploads":        store.Worker,
	"PUT /dock/uploads/:upload": store.Worker,

	// The shelf.
	"GET /shelf":                        store.Reader,
	"GET /shelf/:backup":                store.Reader,
	"GET /shelf/:backup/contents.zst":   store.Reader,
	"GET /shelf/:backup/file":           store.Reader,
	"GET /shelf/:backup/folder.tar":     store.Reader,
	"GET /shelf/:backup/inside":         store.Reader,
	"POST /shelf/:backup/put-back":      store.Worker,
	"POST /shelf/:backup/restore-image": store.Worker,
	"POST /shelf/:backup/to-folder":     store.Worker,
	"POST /shelf/delete":                store.Worker,
	"POST /shelf/export":                store.Worker,
	"POST /shelf/keep":                  store.Worker,
	"POST /shelf/onto":                  store.Worker,
	"POST /shelf/own":                   store.Leader,
	"POST /shelf/verify":                store.Worker,

	// The trail, records and what is handed over.
	"GET /trail":                       store.Reader,
	"GET /trail.jsonl":                 store.Reader,
	"GET /trail/:seq":                  store.Reader,
	"POST /trail/:seq":                 store.Worker,
	"GET /trail/chain":                 store.Reader,
	"GET /trail/heads.jsonl":           store.Reader,
	"GET /trail/shop.pub":              store.Reader,
	"POST /trail/take-in":              store.Worker,
	"GET /trail/taken-in/:name":        store.Reader,
	"GET /records/:record":             store.Reader,
	"POST /records/:record/bring-back": store.Worker,
	"GET /jobs/:job/hand-over":         store.Reader,
	"GET /jobs/:job/report.pdf":        store.Reader,
	"GET /jobs/:job/archive.zip":       store.Reader,
	"GET /jobs/:job/tables/:what":      store.Reader,
}

// ErrRole tells that somebody may not do what was asked for.
var ErrRole = errors.New("your account may not do that; nothing was changed")

// roleWords are who may do something, in words.
var roleWords = map[store.Role]string{
	everybody: "everybody", store.Reader: "everybody who is signed in", store.Worker: "technicians and leads",
	store.Leader: "leads",
}

// allowed lets a request through to an address that its sender may use.
func (s *Server) allowed(c *gin.Context) {
	needs, known := rights[c.Request.Method+" "+c.FullPath()]
	switch {
	case !known:
		s.fail(c, errNoPage)
	case needs == everybody:
	default:
		s.signedIn(c)
		if c.IsAborted() || me(c).Role.May(needs) {
			return
		}
		s.forbid(c, needs)
	}
}

// forbid answers a request of somebody who may not send it.
func (s *Server) forbid(c *gin.Context, needs store.Role) {
	s.refused(c.Request, ErrRole)
	c.Abort()
	text := fmt.Sprintf(
		"That is for %s, and your account is a %s's. Nothing was changed.", roleWords[needs], me(c).Role,
	)
	s.render(c, http.StatusForbidden, "error", page{Title: "Not for your account", Body: errorView{Text: text}})
}
