package route

import (
	"cmp"
	"slices"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// clearDrive makes plain storage of the whole drive.
func (s *search) clearDrive() {
	parts := s.l.ByPlace()
	slices.SortStableFunc(parts, func(a, b layout.Span) int { // logical volumes before their container
		return cmp.Compare(b.Container, a.Container)
	})
	for i := range parts {
		if o := plan.AgainstDeleting(s.l, &parts[i], s.f); o != nil && o.Code != plan.HasVolumes {
			s.block(o)
		}
	}
	if len(s.Obstacles) > 0 {
		return
	}
	s.Most = s.l.Size
	store := plan.Step{Body: plan.Creation{Size: "all", Type: "basic", Format: "ntfs", Label: "Storage", As: "storage"}}
	if len(parts) > 0 || s.l.Scheme != "none" {
		s.add(parts, nil, append(deletions(parts), store))
	}
	s.add(parts, nil, []plan.Step{{Body: plan.Clearing{Scheme: "gpt"}}, store})
	if s.l.Size <= 2<<40 {
		s.add(parts, nil, []plan.Step{{Body: plan.Clearing{Scheme: "mbr"}}, store})
	}
}
