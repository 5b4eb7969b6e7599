package layout

import "strings"

// SamePartition tells that two are the same one at different times: by its unique id, or by the serial
// number of its volume.
func SamePartition(a, b Span) bool {
	if a.UniqueID != "" && strings.EqualFold(a.UniqueID, b.UniqueID) {
		return true
	}
	return a.Volume != nil && b.Volume != nil && a.Volume.Serial != "" && a.Volume.Kind == b.Volume.Kind && a.Volume.Serial == b.Volume.Serial
}
