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
		none, err := survey.Remembered(sv, "no start code", func() (bool, error) {
			code, err := disk.ReadFull(dev, 0, 440)
			return disk.Zeros(code), err
		})
		f.NoStartCode = none
		return err
	}
	var err error
	f.Loaders, err = survey.Remembered(sv, "loaders", func() (map[string][]string, error) { return loaders(sv), nil })
	return err
}

// loaders are the files that a PC starts from, by the ids of the EFI partitions that they lie in.
func loaders(sv *survey.Survey) map[string][]string {
	out := map[string][]string{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volume(p.Number)
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
		out[p.UniqueID] = paths
	}
	return out
}
