package facts

import (
	"path"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// StartsHere tells that a PC starts from a drive.
func StartsHere(l *layout.Layout, facts *pc.Facts) bool {
	return strings.EqualFold(facts.StartDrive, l.DiskID) ||
		slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return p.Role == layout.StartSystem })
}

// Loaders reads what a PC starts from a drive: the loader files of its EFI partitions, and
// whether the first sector of an MBR holds code (its first 440 bytes).
func Loaders(f *plan.Facts, dev disk.Device, sv *survey.Survey) error {
	if sv.Layout.Scheme == "mbr" {
		code, err := disk.ReadFull(dev, 0, 440)
		f.NoStartCode = disk.Zeros(code)
		return err
	}
	f.Loaders = map[string][]string{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volumes[p.Number]
		if p.Role != layout.EFI || v == nil {
			continue
		}
		files, err := v.Files()
		if err != nil {
			continue // the check says that it cannot be read
		}
		paths := []string{}
		for _, x := range files {
			if strings.EqualFold(path.Ext(x.Path), ".efi") && x.Kind == volume.Plain && x.Bytes > 0 {
				paths = append(paths, x.Path)
			}
		}
		f.Loaders[p.UniqueID] = paths
	}
	return nil
}
