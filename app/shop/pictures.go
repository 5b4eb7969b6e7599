package shop

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	_ "image/png" // a form in which pictures come
	"io"
	"slices"

	"github.com/disintegration/imaging"
	_ "golang.org/x/image/webp" // and another

	"jadetrail/app/store"
	"jadetrail/core/disk"
)

// Bounds of pictures.
const (
	MaxPicture  = 16 << 20 // bytes of one that is sent
	maxPixels   = 50e6     // of one that is opened, which takes four bytes each
	longestSide = 2000     // pixels of one that is kept
	jpegQuality = 85
	mostOfJob   = 60 // pictures of one job
)

// ErrPicture tells that something is no picture that can be kept.
var ErrPicture = errors.New("that is no picture in the form JPEG, PNG or WebP that can be opened; nothing was kept")

// errHEIF tells that a picture is in the form that some telephones use (ISO/IEC 23008-12), which is not opened here.
var errHEIF = fmt.Errorf("%w. It is in the form HEIF: set the telephone to send pictures as JPEG", ErrPicture)

// isHEIF tells a picture by the kind of its file (ISO/IEC 14496-12, section 4.3: the box ftyp and its brand).
func isHEIF(raw []byte) bool {
	brands := []string{"heic", "heix", "mif1", "msf1", "heif", "avif"}
	return len(raw) >= 12 && string(raw[4:8]) == "ftyp" && slices.Contains(brands, string(raw[8:12]))
}

// opening holds a place for the picture that is opened: one at a time.
var opening = make(chan struct{}, 1)

// plainPicture is a picture as it is kept: upright, no larger than one looks at, and with nothing in it but what is
// seen. What a camera adds, as the place and its own number, is not carried over.
func plainPicture(from io.Reader) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(from, MaxPicture+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > MaxPicture {
		return nil, fmt.Errorf("a picture has at most %s; nothing was kept", disk.Bytes(MaxPicture))
	}
	size, form, err := image.DecodeConfig(bytes.NewReader(raw))
	switch {
	case isHEIF(raw):
		return nil, errHEIF
	case err != nil || !slices.Contains([]string{"jpeg", "png", "webp"}, form):
		return nil, ErrPicture
	}
	if size.Width <= 0 || size.Height <= 0 || size.Width > maxPixels/size.Height {
		return nil, fmt.Errorf("a picture of %d by %d is too large to be opened; nothing was kept", size.Width, size.Height)
	}
	opening <- struct{}{}
	defer func() { <-opening }()
	picture, err := imaging.Decode(bytes.NewReader(raw), imaging.AutoOrientation(true))
	if err != nil {
		return nil, ErrPicture
	}
	if b := picture.Bounds(); max(b.Dx(), b.Dy()) > longestSide {
		picture = imaging.Fit(picture, longestSide, longestSide, imaging.Linear)
	}
	var out bytes.Buffer
	err = jpeg.Encode(&out, picture, &jpeg.Options{Quality: jpegQuality})
	return out.Bytes(), err
}

// AddPicture keeps a picture of a job, and what is written to it.
func (s *Shop) AddPicture(who *store.Technician, number, text string, from io.Reader) error {
	text, err := wellSaid("the note", text, maxText, false)
	if err == nil {
		err = s.takesDrives(number)
	}
	if err != nil {
		return err
	}
	have, err := s.pictures(number)
	if err != nil {
		return err
	}
	if len(have) >= mostOfJob {
		return fmt.Errorf("a job has at most %d pictures; nothing was kept. Take one out first", mostOfJob)
	}
	kept, err := plainPicture(from)
	if err != nil {
		return err
	}
	tail, err := s.tail()
	if err != nil {
		return err
	}
	n := store.Note{ID: "note-" + tail, Job: number, Who: who.Name, MadeAt: s.Now().UTC(), Text: text, Picture: true}
	if err := disk.WriteDurably(s.picturePath(n.ID), kept); err != nil {
		return err
	}
	return s.Store.AddNote(n)
}

// pictures are the notes of a job whose picture is there.
func (s *Shop) pictures(number string) ([]store.Note, error) {
	notes, err := s.Store.Notes(number)
	return slices.DeleteFunc(notes, func(n store.Note) bool { return !n.Picture || n.GoneAt != nil }), err
}

// note is a note of a job.
func (s *Shop) note(number, id string) (store.Note, error) {
	notes, err := s.Store.Notes(number)
	for _, n := range notes {
		if n.ID == id {
			return n, nil
		}
	}
	return store.Note{}, errors.Join(err, fmt.Errorf("the note: %w", store.ErrNotFound))
}

// Picture is the file of a picture of a job.
func (s *Shop) Picture(number, id string) (path string, err error) {
	n, err := s.note(number, id)
	if err == nil && (!n.Picture || n.GoneAt != nil) {
		err = fmt.Errorf("the picture: %w", store.ErrNotFound)
	}
	return s.picturePath(n.ID), err
}

// TakePictureOut takes a picture of a job away; what was written to it stays.
func (s *Shop) TakePictureOut(number, id string) error {
	n, err := s.note(number, id)
	if err == nil && (!n.Picture || n.GoneAt != nil) {
		err = errors.New("the picture was taken out before; nothing was changed")
	}
	if err != nil {
		return err
	}
	return s.takePicture(n)
}
