package shelf

import "jadetrail/core/volume"

// Gathered is what arrives of a backup, which is open until it is closed.
type Gathered struct {
	Volume volume.Volume
	In     []volume.Incoming
	All    *volume.Together
	Lost   []string // paths that the backup has no contents of

	r *Reader
}

// Close closes the backup.
func (g *Gathered) Close() error { return g.r.Close() }

// Gather opens a backup and gathers what arrives of it: the files at some paths, all for none.
func (s *Shelf) Gather(backup string, only []string) (*Gathered, error) {
	m, err := s.Load(backup)
	if err != nil {
		return nil, err
	}
	g := &Gathered{}
	if g.Volume, g.r, err = s.Inside(m); err != nil {
		return nil, err
	}
	files, err := Choose(g.Volume, only)
	if err == nil {
		g.In, g.All, g.Lost, err = volume.Gather(g.Volume, files, "")
	}
	if err != nil {
		g.r.Close()
		return nil, err
	}
	return g, nil
}
