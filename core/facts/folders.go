package facts

import (
	"maps"

	"jadetrail/core/plan"
	"jadetrail/core/volume"
)

// WithFolders returns the facts with the folders of people's files in a volume.
func WithFolders(f plan.Facts, number int, sum *volume.Summary) plan.Facts {
	f.Insides = maps.Clone(f.Insides)
	if f.Insides == nil {
		f.Insides = map[int]plan.InsideFacts{}
	}
	x := f.Insides[number]
	x.Folders = nil
	for _, p := range sum.People() {
		x.Folders = append(x.Folders, plan.Folder{Path: p.Path, Bytes: p.Taken})
	}
	f.Insides[number] = x
	return f
}
