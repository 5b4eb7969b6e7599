package run

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/survey"
)

// movedPiece is a stretch of the drive that a run moves, with its hash: kept beside the journal,
// so that it can be told what lies where even when the journal cannot be read.
type movedPiece struct {
	From disk.Bytes `json:"from"`
	To   disk.Bytes `json:"to"` // -1 where the run leaves it nowhere as a whole
	Len  disk.Bytes `json:"len"`
	Sum  string     `json:"sum"` // BLAKE3; empty for nothing but zeros
}

// Evidence is what can be proven of a drive without the journal of its run.
type Evidence struct {
	// Pieces is how many stretches the run moves, New and Old how many of them lie in their new
	// and their old place only, Both in both, Neither in neither.
	Pieces, New, Old, Both, Neither int
	Bytes                           disk.Bytes
	Table                           string // what its partition table is like
}

// Text says it for people.
func (e *Evidence) Text() string {
	t := e.Table
	if e.Pieces > 0 {
		t += fmt.Sprintf(
			" Of the %s that the run moves, in %d pieces, %d lie in their new place only, %d in their old one only, %d in both, and %d in neither",
			e.Bytes, e.Pieces, e.New, e.Old, e.Both, e.Neither,
		)
		if t += "."; e.Neither == 1 {
			t = strings.TrimSuffix(t, ".") + ", as one that was on its way would be."
		}
	}
	return t
}

// Prove tells what can be proven of the drive of a run whose journal cannot be read, from the
// hashes that were kept beside it. It writes nothing.
func (u *Unfinished) Prove(o Options) (*Evidence, error) {
	e := &Evidence{Table: "What its partition table should be is not known."}
	if u.Meta != nil {
		sv, err := survey.Read(o.Dev, u.Meta.PC)
		if err != nil {
			return nil, err
		}
		sv.Relabel(u.Meta.Before)
		was := len(layout.Differ(u.Meta.Before, sv.Layout)) == 0
		sv.Relabel(u.Meta.After)
		is := len(layout.Differ(u.Meta.After, sv.Layout)) == 0
		switch {
		case was && is:
			e.Table = "The partitions are as before the run, which does not change them."
		case was:
			e.Table = "The partitions and the starts of their volumes are as before the run."
		case is:
			e.Table = "The partitions and the starts of their volumes are as they should be after the run."
		default:
			e.Table = "The partitions or the starts of their volumes are neither as before the run nor as they should be after it."
		}
	}
	if u.begun == nil {
		return e, nil
	}
	b, err := os.ReadFile(filepath.Join(o.Runs, u.ID, ran.PiecesFile))
	if err != nil || ran.SumOf(b) != u.begun.Pieces {
		return e, nil // nothing can be told by it
	}
	var pieces []movedPiece
	if err := json.Unmarshal(b, &pieces); err != nil {
		return e, nil
	}
	for _, p := range pieces {
		e.Pieces++
		e.Bytes += p.Len
		old, now := p.lies(o.Dev, p.From), p.To >= 0 && p.lies(o.Dev, p.To)
		switch {
		case old && now:
			e.Both++
		case old:
			e.Old++
		case now:
			e.New++
		default:
			e.Neither++
		}
	}
	return e, nil
}

// lies tells that the piece lies at a place.
func (p movedPiece) lies(dev disk.Device, at disk.Bytes) bool {
	b, err := disk.ReadFull(dev, at, p.Len)
	if err != nil {
		return false
	}
	if p.Sum == "" {
		return disk.Zeros(b)
	}
	return ran.SumOf(b) == p.Sum
}

// notePieces keeps what a run moves, and returns the hash of the file; "" for a run that moves
// nothing.
func notePieces(dir string, c *carry.Carry) (string, error) {
	var pieces []movedPiece
	for _, m := range c.Moved() {
		p := movedPiece{From: m.From, To: m.To, Len: m.Len}
		if m.Sum != [32]byte{} {
			p.Sum = hex.EncodeToString(m.Sum[:])
		}
		pieces = append(pieces, p)
	}
	if len(pieces) == 0 {
		return "", nil
	}
	b, err := json.Marshal(pieces)
	if err != nil {
		return "", err
	}
	return ran.SumOf(b), disk.WriteDurably(filepath.Join(dir, ran.PiecesFile), b)
}
