package volume

import (
	"fmt"
	"math"
	"strconv"
	"time"
)

// A file time counts units of 100 ns since the first of January 1601, UTC ([MS-DTYP] 2.3.3).
const (
	fileTimeUnits  = 10_000_000     // in a second
	fileTimeBefore = 11_644_473_600 // seconds from there to 1970
	// lastFileTime is the last that has a year of four digits; nothing that a person saved is
	// later, and what is later cannot be written down in the usual forms.
	lastFileTime = (253_402_300_799+fileTimeBefore)*fileTimeUnits + fileTimeUnits - 1
)

// FromFileTime is the moment that a file time names, exactly; one after the year 9999 is the last
// moment of that year.
func FromFileTime(units uint64) time.Time {
	units = min(units, lastFileTime)
	return time.Unix(int64(units/fileTimeUnits)-fileTimeBefore, int64(units%fileTimeUnits)*100).UTC()
}

// FileTime is the file time of a moment, to 100 ns; 0 for one before there were any.
func FileTime(t time.Time) uint64 {
	seconds := t.Unix() + fileTimeBefore
	if seconds < 0 {
		return 0
	}
	return uint64(seconds)*fileTimeUnits + uint64(t.Nanosecond()/100)
}

// Stamp is a moment as text that differs from that of any other, at whatever time: nanoseconds since
// 1970, where they can be counted.
func Stamp(t time.Time) string {
	if s := t.Unix(); s > math.MinInt64/1_000_000_000 && s < math.MaxInt64/1_000_000_000 {
		return strconv.FormatInt(t.UnixNano(), 10)
	}
	return fmt.Sprintf("%d s %d", t.Unix(), t.Nanosecond())
}
