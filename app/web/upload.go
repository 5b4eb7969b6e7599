package web

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/core/disk"
	"jadetrail/core/intake"
	"jadetrail/core/words"
)

// maxPiece bounds one piece of an upload.
const maxPiece = 8 << 20

// refuseUpload answers an upload with what went wrong, in words.
func refuseUpload(c *gin.Context, err error) {
	status := http.StatusInternalServerError
	switch {
	case errors.Is(err, shop.ErrBadUpload):
		status = http.StatusBadRequest
	case errors.Is(err, shop.ErrInDock):
		status = http.StatusConflict
	case errors.Is(err, intake.ErrRoom):
		status = http.StatusInsufficientStorage
	}
	c.AbortWithStatusJSON(status, gin.H{"trouble": words.Sentence(err)})
}

// beginUpload begins an upload, or tells how far one of the same file has come.
func (s *Server) beginUpload(c *gin.Context) {
	size, err := strconv.ParseInt(c.PostForm("size"), 10, 64)
	if err != nil {
		size = -1 // which no file has
	}
	u, err := s.BeginUpload(me(c).Login, c.PostForm("name"), disk.Bytes(size), c.PostForm("stamp"))
	if err != nil {
		refuseUpload(c, err)
		return
	}
	s.sessions.Put(c.Request.Context(), "upload-"+u.ID, fmt.Sprintf("%d:%s", u.Size, u.Name))
	c.JSON(http.StatusOK, u)
}

// addPiece takes the piece of an upload that follows what was received. An upload is that of the person who has
// begun it.
func (s *Server) addPiece(c *gin.Context) {
	id := c.Param("upload")
	size, name, ok := strings.Cut(s.sessions.GetString(c.Request.Context(), "upload-"+id), ":")
	n, err := strconv.ParseInt(size, 10, 64)
	if !ok || err != nil {
		c.AbortWithStatusJSON(http.StatusNotFound, gin.H{"trouble": "There is no such upload; begin it again."})
		return
	}
	u := s.UploadOf(id, name, disk.Bytes(n))
	if at := c.Query("at"); at != strconv.FormatInt(int64(u.Received), 10) {
		c.JSON(http.StatusConflict, u) // tells where to go on
		return
	}
	if err := s.AddPiece(u, c.Request.Body, maxPiece); err != nil {
		refuseUpload(c, err)
		return
	}
	if u.Received == u.Size {
		s.sessions.Remove(c.Request.Context(), "upload-"+id)
	}
	c.JSON(http.StatusOK, u)
}
