// Package compile turns a planned step and the drive as surveyed into the script
// that does it.
package compile

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/script"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// ErrCannot tells that a step cannot be done on this drive for a reason that only
// its bytes show.
var ErrCannot = errors.New("the step cannot be done")

// Given is what a step needs beside the drive.
type Given struct {
	Gone map[string]Gone
	// Found is what of a partition is written anew before it comes back: from copies of its own
	// structures, or as its record kept it.
	Found []seek.Repair
	Now   time.Time
	// Files are on their way into the volume, from the script's source of this name.
	Files  []volume.Incoming
	Source string
	Onto   map[string]string // not nil for some more files of those that an earlier script put there
	Image  Image             // what a new partition is filled from
	Dev    disk.Device
}

// Done is what a step will do, and of files that come in, what becomes of them.
type Done struct {
	Script  script.Script
	Arrival *volume.Arrival
}

// entered puts the entry of a new partition into the table.
func entered(sv *survey.Survey, p *layout.Span) (script.Script, error) {
	attrs, err := strconv.ParseUint(strings.TrimPrefix(p.Attributes, "0x"), 16, 64)
	if err != nil {
		return nil, fmt.Errorf("%w: attributes %q", ErrCannot, p.Attributes)
	}
	var raw []byte
	if sv.Table.Scheme == table.MBR {
		if typ, err := hex.DecodeString(p.TypeID); err != nil || len(typ) != 1 {
			return nil, fmt.Errorf("%w: %q is not a type of an MBR", ErrCannot, p.TypeID)
		}
		raw = table.MBREntry(
			table.Entry{TypeID: p.TypeID, Record: p.Record, Start: p.Start, End: p.End}, sv.Layout.Sector,
		).Raw
	} else {
		raw = table.NewEntry(table.Entry{
			Slot: p.Number, TypeID: p.TypeID, UniqueID: p.UniqueID, Start: p.Start, End: p.End, Attributes: attrs,
			Name: p.Name,
		}).Raw
	}
	if p.Container != 0 {
		return sv.Table.Insert(p.Record, raw, sv.Table.LinkTo(p.Record))
	}
	return sv.Table.Set(p.Number, raw)
}
