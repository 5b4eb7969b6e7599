package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sys/unix"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/intake"
	"jadetrail/core/run"
	"jadetrail/core/survey"
)

// dockFile is an image that waits in the dock.
type dockFile struct {
	Name, Form, Trouble string
	Bytes, Drive        disk.Bytes // of the file, and of the drive in it; -1 where unknown
	Identity            survey.Identity
}

type dockView struct {
	Bays   []shop.Docked
	Free   []string // bays without a drive
	Files  []dockFile
	Jobs   []store.Job
	Room   disk.Bytes
	Dock   string
	Handed []dockFile
	Forms  []intake.Format
	Work   *workLine
	Line   string
	Upload disk.Bytes // the largest file that can be uploaded
}

func (s *Server) dockPage(c *gin.Context) {
	v := dockView{Dock: "dock", Forms: shop.HandOutForms}
	var err error
	if v.Jobs, err = s.Store.Jobs(); err == nil {
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
	v.Files = s.dockFiles("dock")
	v.Handed = s.dockFiles("handed-out")
	if w, ok := s.Desk.State("dock"); ok && w.Kind != "" {
		l := workView(w)
		v.Work = &l
		v.Line = w.Title + ": " + w.Trouble + w.Outcome
	}
	s.render(c, http.StatusOK, "dock", page{Title: "Dock", Here: "dock", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Dock", ""}}})
}

func (s *Server) dockFiles(folder string) []dockFile {
	list, err := os.ReadDir(s.Folder(folder))
	if err != nil {
		return nil
	}
	var out []dockFile
	for _, e := range list {
		if !e.Type().IsRegular() || !shop.FileForm.MatchString(e.Name()) || strings.HasSuffix(e.Name(), ".json") || strings.HasSuffix(e.Name(), shop.PartEnds) {
			continue
		}
		f := dockFile{Name: e.Name(), Drive: -1}
		p := filepath.Join(s.Folder(folder), e.Name())
		if st, err := e.Info(); err == nil {
			f.Bytes = disk.Bytes(st.Size())
		}
		if f.Identity, err = survey.ReadIdentity(p); err != nil {
			f.Trouble = run.Sentence(err)
		}
		src, err := intake.Open(p)
		if err != nil {
			f.Trouble = run.Sentence(err)
		} else {
			f.Form, f.Drive = string(src.Format), src.Size
			src.Close()
		}
		out = append(out, f)
	}
	return out
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
	p, err := s.DockPath("handed-out", c.Param("file"))
	if err == nil {
		_, err = os.Stat(p)
	}
	if err != nil {
		s.fail(c, fmt.Errorf("this file does not exist: %w", store.ErrNotFound))
		return
	}
	c.FileAttachment(p, filepath.Base(p))
}

// upload is a file that comes in pieces.
type upload struct {
	Name     string     `json:"name"`
	Size     disk.Bytes `json:"size"`
	Received disk.Bytes `json:"received"`
	ID       string     `json:"id"`
	Trouble  string     `json:"trouble,omitempty"`
}

// maxPiece bounds one piece of an upload.
const maxPiece = 8 << 20

func (s *Server) part(id string) string {
	return filepath.Join(s.Folder("dock"), ".coming-"+id)
}

func (s *Server) badUpload(c *gin.Context, status int, format string, args ...any) {
	c.AbortWithStatusJSON(status, upload{Trouble: run.Sentence(fmt.Errorf(format, args...))})
}

// beginUpload begins an upload, or tells how far one of the same file has come.
func (s *Server) beginUpload(c *gin.Context) {
	u := upload{Name: c.PostForm("name")}
	n, err := strconv.ParseInt(c.PostForm("size"), 10, 64)
	u.Size = disk.Bytes(n)
	free, e := shop.Room(s.Folder("dock"))
	switch {
	case e != nil:
		s.badUpload(c, 500, "the dock cannot be used: %w", e)
		return
	case !shop.FileForm.MatchString(u.Name):
		s.badUpload(c, 400, "a file's name has letters, digits, spaces and . _ ( ) + -, and %q has others; nothing was sent. Rename it", u.Name)
		return
	case err != nil || n <= 0 || u.Size > intake.MaxSize:
		s.badUpload(c, 400, "a file of %q bytes cannot be taken; nothing was sent", c.PostForm("size"))
		return
	}
	if _, err := os.Stat(filepath.Join(s.Folder("dock"), u.Name)); err == nil {
		s.badUpload(c, 409, "the dock has a file %s already; nothing was sent. Rename it, or attach the one that is there", u.Name)
		return
	}
	h := sha256.Sum256([]byte(fmt.Sprintf("%s\x00%d\x00%s\x00%s", u.Name, u.Size, c.PostForm("stamp"), me(c).Login)))
	u.ID = hex.EncodeToString(h[:12])
	if st, err := os.Stat(s.part(u.ID)); err == nil {
		u.Received = min(disk.Bytes(st.Size()), u.Size)
	}
	if u.Size-u.Received > free-shop.KeepFree {
		s.badUpload(c, 507, "%w: the file has %s, and %s can be taken; nothing was sent", intake.ErrRoom, u.Size, max(free-shop.KeepFree, 0))
		return
	}
	s.sessions.Put(c.Request.Context(), "upload-"+u.ID, fmt.Sprintf("%d:%s", u.Size, u.Name))
	c.JSON(http.StatusOK, u)
}

// uploadOf is an upload that this person has begun.
func (s *Server) uploadOf(c *gin.Context) (*upload, bool) {
	id := c.Param("upload")
	size, name, ok := strings.Cut(s.sessions.GetString(c.Request.Context(), "upload-"+id), ":")
	if !ok {
		s.badUpload(c, 404, "there is no such upload; begin it again")
		return nil, false
	}
	n, _ := strconv.ParseInt(size, 10, 64)
	u := &upload{ID: id, Name: name, Size: disk.Bytes(n)}
	if st, err := os.Stat(s.part(id)); err == nil {
		u.Received = disk.Bytes(st.Size())
	}
	return u, true
}

// addPiece takes the piece of an upload that follows what was received. The last one
// puts the file into the dock.
func (s *Server) addPiece(c *gin.Context) {
	u, ok := s.uploadOf(c)
	if !ok {
		return
	}
	if at := c.Query("at"); at != strconv.FormatInt(int64(u.Received), 10) {
		c.JSON(http.StatusConflict, u) // tells where to go on
		return
	}
	f, err := os.OpenFile(s.part(u.ID), os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		s.badUpload(c, 500, "the dock cannot be written: %w", err)
		return
	}
	n, err := io.Copy(io.NewOffsetWriter(f, int64(u.Received)), io.LimitReader(c.Request.Body, min(maxPiece, int64(u.Size-u.Received))))
	if e := f.Close(); err == nil {
		err = e
	}
	u.Received += disk.Bytes(n)
	switch {
	case errors.Is(err, unix.ENOSPC):
		os.Remove(s.part(u.ID))
		s.badUpload(c, 507, "%w: the host is full; what had come was taken away", intake.ErrRoom)
		return
	case err != nil:
		s.badUpload(c, 500, "the piece did not arrive whole: %w", err)
		return
	case u.Received == u.Size:
		err := os.Link(s.part(u.ID), filepath.Join(s.Folder("dock"), u.Name)) // fails where one is there
		if err == nil {
			err = os.Remove(s.part(u.ID))
		}
		if err != nil {
			s.badUpload(c, 409, "the file could not be put into the dock: %w", err)
			return
		}
		s.sessions.Remove(c.Request.Context(), "upload-"+u.ID)
	}
	c.JSON(http.StatusOK, u)
}

// forgetUploads removes what was sent in part and not gone on with for a week.
func (s *Server) forgetUploads() error {
	list, err := filepath.Glob(s.part("*"))
	for _, p := range list {
		if st, e := os.Stat(p); e == nil && s.Now().Sub(st.ModTime()) > 7*24*time.Hour {
			err = errors.Join(err, os.Remove(p))
		}
	}
	return err
}

func dockLink(name string) string { return "/dock/handed/" + url.PathEscape(name) }
