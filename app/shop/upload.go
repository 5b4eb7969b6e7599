package shop

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
	"jadetrail/core/intake"
)

// Upload is a file on its way into the dock, in pieces.
type Upload struct {
	Name     string     `json:"name"`
	Size     disk.Bytes `json:"size"`
	Received disk.Bytes `json:"received"`
	ID       string     `json:"id"`
}

// Errors of uploads, besides intake.ErrRoom where there is no room.
var (
	// ErrBadUpload tells that a file cannot be taken by its name or size.
	ErrBadUpload = errors.New("it cannot be taken")
	// ErrInDock tells that the dock has a file of that name already.
	ErrInDock = errors.New("it is in the dock already")
)

// uploadError is a refusal in words, of a kind.
type uploadError struct {
	kind error
	text string
}

func (e *uploadError) Error() string { return e.text }
func (e *uploadError) Unwrap() error { return e.kind }

// forgetUploadsAfter is how long what has come of a file is kept while nothing more comes.
const forgetUploadsAfter = 7 * 24 * time.Hour

// reserved is the room that uploads which were begun still need.
type reserved struct {
	mu sync.Mutex
	of map[string]reservation
}

// reservation is what one upload needs, and when it was last heard of.
type reservation struct {
	left  disk.Bytes
	heard time.Time
}

// reservedFor is how long room is kept for an upload that nothing comes of.
const reservedFor = time.Hour

// reserve keeps room for what is left of an upload, 0 for nothing more. It tells how much all others still need.
func (r *reserved) reserve(id string, left disk.Bytes, now time.Time) (others disk.Bytes) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == nil {
		r.of = map[string]reservation{}
	}
	for other, x := range r.of {
		switch {
		case now.Sub(x.heard) > reservedFor:
			delete(r.of, other)
		case other != id:
			others += x.left
		}
	}
	r.of[id] = reservation{left, now}
	if left <= 0 {
		delete(r.of, id)
	}
	return others
}

// comingPart is where the pieces of an upload are put together.
func (s *Shop) comingPart(id string) string {
	return filepath.Join(s.Folder("dock"), ".coming-"+id)
}

// BeginUpload begins an upload, or tells how far one of the same file by the same person has come. stamp tells
// files of one name and size apart.
func (s *Shop) BeginUpload(login, name string, size disk.Bytes, stamp string) (*Upload, error) {
	free, err := Room(s.Folder("dock"))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the dock cannot be used: %w", err)
	case !fileForm.MatchString(name):
		return nil, &uploadError{
			ErrBadUpload,
			fmt.Sprintf(
				"a file's name has letters, digits, spaces and . _ ( ) + -, and %q has others; nothing was sent. Rename it",
				name,
			),
		}
	case size <= 0 || size > intake.MaxSize:
		return nil, &uploadError{
			ErrBadUpload, fmt.Sprintf("a file of %d bytes cannot be taken; nothing was sent", int64(size)),
		}
	}
	if _, err := os.Stat(filepath.Join(s.Folder("dock"), name)); err == nil {
		return nil, &uploadError{
			ErrInDock,
			fmt.Sprintf(
				"the dock has a file %s already; nothing was sent. Rename it, or attach the one that is there", name,
			),
		}
	}
	h := sha256.Sum256([]byte(fmt.Sprintf("%s\x00%d\x00%s\x00%s", name, size, stamp, login)))
	u := s.UploadOf(hex.EncodeToString(h[:12]), name, size)
	others := s.reserved.reserve(u.ID, u.Size-u.Received, s.Now())
	if most := free - KeepFree - others; u.Size-u.Received > most {
		s.reserved.reserve(u.ID, 0, s.Now())
		return nil, fmt.Errorf(
			"%w: the file has %s, and %s can be taken; nothing was sent", intake.ErrRoom, u.Size, max(most, 0),
		)
	}
	return u, nil
}

// UploadOf is an upload that was begun, with how much of it has come.
func (s *Shop) UploadOf(id, name string, size disk.Bytes) *Upload {
	u := &Upload{ID: id, Name: name, Size: size}
	if st, err := os.Stat(s.comingPart(id)); err == nil {
		u.Received = min(disk.Bytes(st.Size()), size)
	}
	return u
}

// AddPiece takes the piece of an upload that follows what was received, of at most most bytes. The last one puts
// the file into the dock.
func (s *Shop) AddPiece(u *Upload, piece io.Reader, most int64) error {
	part := s.comingPart(u.ID)
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return fmt.Errorf("the dock cannot be written: %w", err)
	}
	n, err := io.Copy(
		io.NewOffsetWriter(f, int64(u.Received)), io.LimitReader(piece, min(most, int64(u.Size-u.Received))),
	)
	if e := f.Close(); err == nil {
		err = e
	}
	u.Received += disk.Bytes(n)
	s.reserved.reserve(u.ID, u.Size-u.Received, s.Now())
	switch {
	case errors.Is(err, unix.ENOSPC):
		os.Remove(part)
		return fmt.Errorf("%w: the host is full; what had come was taken away", intake.ErrRoom)
	case err != nil:
		return fmt.Errorf("the piece did not arrive whole: %w", err)
	case u.Received < u.Size:
		return nil
	}
	err = os.Link(part, filepath.Join(s.Folder("dock"), u.Name)) // fails where one is there
	if err == nil {
		err = os.Remove(part)
	}
	if err != nil {
		return &uploadError{ErrInDock, fmt.Sprintf("the file could not be put into the dock: %v", err)}
	}
	return nil
}

// ForgetUploads takes away what was sent in part and not gone on with for a week.
func (s *Shop) ForgetUploads() error {
	list, err := filepath.Glob(s.comingPart("*"))
	for _, p := range list {
		if st, e := os.Stat(p); e == nil && s.Now().Sub(st.ModTime()) > forgetUploadsAfter {
			err = errors.Join(err, os.Remove(p))
		}
	}
	return err
}
