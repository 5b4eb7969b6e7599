package shelf

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"jadetrail/core/disk"
)

// ErrForeign tells that a backup is not one of this shop's, as far as its manifest can be trusted.
var ErrForeign = errors.New("the backup is not signed by this shop, so nothing is done in its name. Look into it, and take it in first")

// TakenIn tells who has made a backup that was not signed by the shop one of the shop's own, and when. Who
// made it, and of what, is as it says itself.
type TakenIn struct {
	Who  string    `json:"who"`
	When time.Time `json:"when"`
}

// signed is what a signature of the manifest with a sum is over.
func signed(sum string) []byte { return []byte("jade trail backup " + sum) }

// owned notes whether a manifest was written by the shop. Without keys nobody can tell, and all count as
// the shop's.
func (s *Shelf) owned(m *Manifest) *Manifest {
	if len(s.Keys) == 0 {
		return m
	}
	raw, err := base64.StdEncoding.DecodeString(m.Signature)
	ours := err == nil && slices.ContainsFunc(s.Keys, func(k ed25519.PublicKey) bool {
		return len(k) == ed25519.PublicKeySize && ed25519.Verify(k, signed(m.Sum), raw)
	})
	if !ours {
		m.Foreign, m.Verified = true, nil
	}
	return m
}

// sealed is the manifest as it is written, with its sum and the shop's signature, where there is a key.
func (s *Shelf) sealed(m *Manifest) ([]byte, error) {
	var err error
	if m.Sum, err = m.sum(); err != nil {
		return nil, err
	}
	if m.Signature = ""; s.Key != nil {
		m.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(s.Key, signed(m.Sum)))
	}
	return json.Marshal(m)
}

// TakeIn makes a backup that is not signed by the shop one of its own, once all of it was read and is whole.
func (s *Shelf) TakeIn(ctx context.Context, id, who string, now time.Time, report func(Progress)) (*Manifest, error) {
	m, err := s.Load(id)
	if err != nil {
		return nil, err
	}
	if !m.Foreign {
		return nil, fmt.Errorf("the backup %s is signed by this shop already; nothing was changed", id)
	}
	if err := s.verify(ctx, m, report); err != nil {
		return m, err
	}
	m.Foreign, m.Away, m.Damage = false, false, nil
	m.Verified, m.TakenIn = &now, &TakenIn{who, now}
	if m.Touched, err = s.touched(m); err != nil {
		return m, err
	}
	return m, s.save(m)
}

// Lies tells whether the files of a backup are on the shelf with their lengths, and on the bench not written
// to since they were verified, without reading them.
func (m *Manifest) Lies() error {
	if m.at == nil {
		return fmt.Errorf("%w: %s", ErrNoBackup, m.ID)
	}
	f, err := m.at.open(m.ID, m.Kind.file())
	var named *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %s: its contents are not on the shelf any more", ErrDamaged, m.ID)
	case errors.As(err, &named): // where it lies on the machine says nothing to anybody
		return fmt.Errorf("%w: %s: its contents cannot be opened: %w", ErrDamaged, m.ID, named.Err)
	case err != nil:
		return fmt.Errorf("%w: %s: its contents cannot be opened: %w", ErrDamaged, m.ID, err)
	}
	defer f.Close()
	var length int64
	if n := len(m.Pieces); n > 0 {
		length = m.Pieces[n-1].FrameOff + m.Pieces[n-1].FrameLen
	}
	if f.Size() < length {
		return fmt.Errorf(
			"%w: %s: of its contents %s are there, of %s", ErrDamaged, m.ID, disk.Bytes(f.Size()), disk.Bytes(length),
		)
	}
	if now, err := f.touched(); err != nil || m.Touched == 0 || now == m.Touched || m.Verified == nil {
		return err
	}
	return fmt.Errorf("%w: %s: its contents were written to after they were verified", ErrDamaged, m.ID)
}

// touched is when the contents of a backup were written to last.
func (s *Shelf) touched(m *Manifest) (int64, error) {
	f, err := s.file(m, m.Kind.file())
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return f.touched()
}
