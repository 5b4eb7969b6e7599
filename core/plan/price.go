package plan

import (
	"fmt"
	"strconv"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// Price is what a plan costs.
type Price struct {
	Rewritten disk.Bytes `json:"bytes_rewritten"` // on the drive, all together, about
	Zeroed    disk.Bytes `json:"bytes_zeroed"`    // made zeros besides, to erase it
	Copied    disk.Bytes `json:"bytes_copied"`    // of that, what is copied from elsewhere
	Beside    disk.Bytes `json:"bytes_beside"`    // room that is needed for a while beside the volumes
	Given     disk.Bytes `json:"bytes_given"`     // that other volumes give up of their size
	Deleted   int        `json:"deleted"`
	Releases  int        `json:"releases"`
	Tables    int        `json:"tables"`       // made anew: the drive gets another id
	Over      int        `json:"records_over"` // of partitions that could be brought back before
	Checks    int        `json:"checks"`       // things that somebody must look after on the PC
	Restarts  int        `json:"restarts"`
	Seconds   int64      `json:"seconds"`
}

// Rate is what a drive writes in a second, until runs have taught better.
const Rate = 140 * disk.MiB

const (
	TableSectors = 4            // that a change of the table writes
	bookkeeping  = 8 * disk.KiB // of a volume, around what a change of its size writes
)

// own is about what a volume holds beside its files, as far as this program makes such.
func own(p *layout.Span) disk.Bytes {
	if p.Volume.Kind == volume.NTFS {
		return ntfs.Own(p.Bytes)
	}
	return bookkeeping
}

func Number(name string) int {
	n, _ := strconv.Atoi(name)
	return n
}

// tally is a price while it is added up.
type tally struct {
	Price
	copied disk.Bytes // by the step at hand
	beside disk.Bytes // in use beside the volumes at the step at hand
}

// gone counts a partition that is deleted.
func (sum *tally) gone(was *layout.Span) {
	sum.Deleted++
	if was.Protected {
		sum.Releases++
	}
}

// PriceOf is the price of the columns of a plan that begins with the layout now.
func PriceOf(now *layout.Layout, cols []Column, f Facts) Price {
	var sum tally
	before := now
	for _, c := range cols {
		sum.add(c, before, now.Sector, f)
		if c.Layout == nil {
			break
		}
		before = c.Layout
	}
	rate := Rate
	if f.Rate > 0 {
		rate = f.Rate
	}
	sum.Seconds = int64((sum.Rewritten+sum.Zeroed)/rate) + int64(len(cols)) + int64(sum.Restarts)*restartSeconds
	return sum.Price
}

// add counts what one step costs on a drive that is laid out as before.
func (sum *tally) add(c Column, before *layout.Layout, sector disk.Bytes, f Facts) {
	k := c.Step.kind()
	if c.Step.Do() != Restart {
		sum.Rewritten += TableSectors * sector
	}
	was, there := before.Find(c.Number)
	if !there {
		was = nil
	}
	sum.Over += len(c.Over)
	for _, n := range c.Notes {
		if n.Code == PlaceNamed {
			sum.Checks++
		}
	}
	for i := range c.Cleared {
		sum.gone(&c.Cleared[i])
	}
	if k.counted != nil {
		k.counted(sum, c, was, before)
	}
	if c.Layout == nil { // it cannot be done
		return
	}
	is, still := c.Layout.Find(c.Number)
	if !still {
		is = nil
	}
	sum.copied = 0
	if k.copies != nil {
		sum.copied = k.copies(c, is, before, f)
	}
	sum.Rewritten, sum.Copied = sum.Rewritten+sum.copied, sum.Copied+sum.copied
	if k.priced != nil {
		k.priced(sum, c, was, before)
	}
	sum.Beside = max(sum.Beside, sum.beside)
	if is != nil && Of[Creation](c.Step).Test {
		sum.Rewritten += is.Bytes
	}
	if k.rewrites != nil && was != nil && is != nil {
		sum.Rewritten += k.rewrites(c, was, is)
	}
}

// Lasts words a time in seconds for people.
func Lasts(seconds int64) string {
	switch {
	case seconds < 100:
		return fmt.Sprintf("%d s", seconds)
	case seconds < 100*60:
		return fmt.Sprintf("%d min", (seconds+30)/60)
	}
	return fmt.Sprintf("%.1f h", float64(seconds)/3600)
}
