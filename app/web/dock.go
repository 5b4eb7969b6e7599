package web

import (
	"errors"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/intake"
	"jadetrail/core/survey"
)

// dockRoutes are the addresses of the dock.
func (s *Server) dockRoutes(in *gin.RouterGroup) {
	in.GET("/dock", s.dockPage)
	in.POST("/dock/attach", s.attach)
	in.POST("/dock/blank", s.blankDrive)
	in.POST("/dock/detach", s.detach)
	in.POST("/dock/how", s.howAttached)
	in.POST("/dock/move", s.moveDrive)
	in.POST("/dock/shelf", s.makeShelf)
	in.POST("/dock/no-shelf", s.noShelf)
	in.POST("/dock/hand-out", s.handOut)
	in.GET("/dock/handed/:file", s.handedOut)
	in.POST("/dock/uploads", s.beginUpload)
	in.PUT("/dock/uploads/:upload", s.addPiece)
}

type dockView struct {
	Bays   []shop.Docked
	Free   []string // bays without a drive
	Files  []shop.DockFile
	Jobs   []store.Job
	Room   disk.Bytes
	Dock   string
	Handed []shop.DockFile
	Forms  []intake.Format
	Work   *workLine
	Line   string
	Upload disk.Bytes // the largest file that can be uploaded
	// File and Job are what was chosen before: which file of the dock, for which job.
	File, Job string
}

func (s *Server) dockPage(c *gin.Context) {
	v := dockView{Dock: "dock", Forms: shop.HandOutForms, File: c.Query("file"), Job: c.Query("job")}
	var err error
	if v.Jobs, err = s.Store.OpenJobs(); err == nil {
		v.Room, err = shop.Room(s.Folder("drives"))
	}
	bays, e := s.Store.Bays()
	if err = errors.Join(err, e); err != nil {
		s.fail(c, err)
		return
	}
	v.Upload = max(v.Room-shop.KeepFree, 0)
	for _, b := range bays {
		if b.Image == nil {
			v.Free = append(v.Free, b.Letter)
			continue
		}
		d := s.Docked(b)
		if b.Job == nil && !b.Shelf && d.Trouble == "" {
			if x, err := s.Open(&b, false); err == nil {
				d.Blank, d.Keeps = len(x.Survey.Layout.Partitions()) == 0, len(shop.Keepers(x)) > 0
				x.Close()
			}
		}
		v.Bays = append(v.Bays, d)
	}
	s.MarkAlike(v.Bays)
	v.Files = s.FilesIn("dock")
	v.Handed = s.FilesIn("handed-out")
	if w, ok := s.Desk.State("dock"); ok && w.Kind != "" {
		l := workView(w)
		v.Work = &l
		v.Line = w.Title + ": " + w.Trouble + w.Outcome
	}
	s.render(
		c, http.StatusOK, "dock",
		page{Title: "Dock", Here: "dock", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Dock", ""}}},
	)
}

// identityOf is what a form says of a drive.
func identityOf(c *gin.Context) survey.Identity {
	return survey.Identity{
		Model: strings.TrimSpace(c.PostForm("model")), Serial: strings.TrimSpace(c.PostForm("serial")),
		Removable: c.PostForm("removable") != "", ReadOnly: c.PostForm("read_only") != "",
	}
}

// attach takes a file from the dock in as a drive in a bay.
func (s *Server) attach(c *gin.Context) {
	if err := s.AttachFile(me(c), c.PostForm("file"), identityOf(c), c.PostForm("bay"), c.PostForm("job")); err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	c.Redirect(http.StatusSeeOther, "/dock")
}

// blankDrive makes a new empty drive.
func (s *Server) blankDrive(c *gin.Context) {
	sector := disk.Bytes(512)
	if c.PostForm("sector") == "4096" {
		sector = 4096
	}
	said, err := s.MakeBlank(me(c), identityOf(c), c.PostForm("size"), sector, c.PostForm("bay"), c.PostForm("job"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// detach takes a drive out of its bay; its image goes to the dock.
func (s *Server) detach(c *gin.Context) {
	said, err := s.TakeOutOfBay(me(c), c.PostForm("bay"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// moveDrive lets the drive in a bay belong to another job, or to the shop itself.
func (s *Server) moveDrive(c *gin.Context) {
	said, err := s.MoveDrive(me(c), c.PostForm("bay"), c.PostForm("job"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// howAttached changes whether a drive is attached for evidence.
func (s *Server) howAttached(c *gin.Context) {
	said, err := s.AttachFor(me(c), c.PostForm("bay"), c.PostForm("read_only") != "")
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// handOut writes a drive out in a form that can be handed over.
func (s *Server) handOut(c *gin.Context) {
	if err := s.WriteOut(c.PostForm("bay"), intake.Format(c.PostForm("format"))); err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	c.Redirect(http.StatusSeeOther, "/dock")
}

func (s *Server) handedOut(c *gin.Context) {
	p, err := s.HandedOut(c.Param("file"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.FileAttachment(p, filepath.Base(p))
}

func dockLink(name string) string { return "/dock/handed/" + url.PathEscape(name) }
