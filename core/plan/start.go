package plan

import (
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/volume"
)

// Standing of a check.
type Standing string

// The standings.
const (
	Sound Standing = "sound" // it will be as it must be
	Mends Standing = "mends" // the plan itself mends it
	Must  Standing = "must"  // somebody must do something
	Wrong Standing = "wrong" // the PC will not start so
)

// Check is one thing that a PC needs to start, and how it stands after the plan.
type Check struct {
	What     string   `json:"what"`
	Standing Standing `json:"standing"`
	Text     string   `json:"text"`
}

// leastRecovery is the room that a recovery environment needs for what is put beside it
// when it is renewed.
const leastRecovery = 250 * disk.MiB

// StartChecks tells whether the PC will start from the drive as it is laid out at the
// plan's end: what starts, from where, what names it, and what repairs it. after are the
// facts about the PC at that end.
func StartChecks(now, end *layout.Layout, f Facts, after *pc.Facts) []Check {
	var out []Check
	say := func(what string, s Standing, format string, args ...any) {
		out = append(out, Check{what, s, fmt.Sprintf(format, args...)})
	}
	if after == nil {
		return nil
	}
	start, here := byID(end, after.Start)
	was, before := byID(now, f.PC.Start)
	// What starts.
	switch {
	case after.Start == "":
		say("Start system", Sound, "No system of this drive is started by the PC.")
	case here:
		say("Start system", Sound, "%s is there, and the PC starts it by default.", start.Title())
	case before:
		say(
			"Start system", Wrong, "%s, which the PC starts by default, is gone. Name another start system first.",
			was.Title(),
		)
	default:
		say("Start system", Sound, "The PC starts a system on another of its drives.")
	}
	for _, e := range after.Order {
		p, there := byID(end, e.Partition)
		if q, then := byID(now, e.Partition); !there && then {
			say(
				"Start entry", Must,
				"The PC still offers to start %s, which is gone. Take it out of the start order.", q.Title(),
			)
		} else if there && p.Volume != nil && p.Volume.Kind == volume.Sealed {
			say("Start entry", Must, "%s is sealed: its recovery key may be asked for at the next start.", p.Title())
		}
	}
	for _, e := range f.PC.Order {
		if _, then := byID(now, e.Partition); then && !after.InOrder(e.Partition) && len(after.Order) < len(f.PC.Order) {
			say("Start entry", Mends, "%s leaves the start order with the plan.", e.Title)
		}
	}
	// From where: the loaders.
	if f.StartsHere {
		loaders(now, end, f, say)
	}
	// What names it by its place.
	if here && before && now.Scheme == "mbr" && start.Start != was.Start {
		say(
			"Place", Mends,
			"%s begins at another sector. What names it by the drive's signature and its place is written anew.",
			start.Title(),
		)
	}
	if now.DiskID != end.DiskID && after.StartDrive != "" && strings.EqualFold(after.StartDrive, now.DiskID) {
		say("Drive", Wrong, "The drive gets another id, by which the PC finds its loaders.")
	}
	if here && before && start.UniqueID != was.UniqueID && now.Scheme == "gpt" {
		say("Unique id", Must, "%s has another unique id. Its start entry must be made anew.", start.Title())
	}
	recoveryCheck(end, f, after, say)
	// Letters of programs and of the system.
	for _, p := range now.Partitions() {
		if q, there := end.Find(p.Number); p.Letter != "" && there && q.UniqueID == p.UniqueID && q.Letter != p.Letter && q.Letter != "" {
			say("Letter", Must, "What knows %s: by its letter must be told %s:.", p.Letter, q.Letter)
		}
	}
	return out
}

// loaders checks what the firmware starts: the EFI partition, or the active one.
func loaders(now, end *layout.Layout, f Facts, say func(string, Standing, string, ...any)) {
	if now.Scheme == "mbr" {
		if f.NoStartCode {
			say("Start code", Wrong, "The drive's first sector holds no start code: the PC cannot start from it.")
		}
		for _, p := range now.Partitions() {
			if !p.Active {
				continue
			}
			q, there := end.Find(p.Number)
			switch {
			case !there:
				say("Active partition", Wrong, "%s, the active partition, is gone: the PC finds no loader.", p.Title())
			case !q.Active:
				say("Active partition", Wrong, "%s is not active any more: the PC finds no loader.", p.Title())
			default:
				say("Active partition", Sound, "%s stays active.", p.Title())
			}
		}
		return
	}
	var had, has []layout.Span
	for _, p := range now.Partitions() {
		if p.Role == layout.EFI {
			had = append(had, p)
		}
	}
	for _, p := range end.Partitions() {
		if p.Role == layout.EFI {
			has = append(has, p)
		}
	}
	kept := false
	for _, p := range has {
		for _, q := range had {
			if p.UniqueID == q.UniqueID && p.Volume != nil && q.Volume != nil {
				kept = true
				paths, read := f.Loaders[p.UniqueID]
				byDefault := slices.IndexFunc(paths, func(path string) bool { return strings.HasPrefix(strings.ToLower(path), defaultLoader) })
				switch {
				case !read:
					say(
						"Loaders", Must,
						"The EFI partition (partition %d) stays, with its unique id, but it cannot be read: look after its loaders.",
						p.Number,
					)
				case len(paths) == 0:
					say(
						"Loaders", Wrong,
						"The EFI partition (partition %d) holds no loader: no file in it ends in .efi.", p.Number,
					)
				case byDefault >= 0:
					say(
						"Loaders", Sound, "The EFI partition stays, with its unique id. %s, which every PC finds.",
						inIt(paths, paths[byDefault]),
					)
				default:
					say(
						"Loaders", Sound,
						"The EFI partition stays, with its unique id. %s; the PC finds them only by its own start entry.",
						inIt(paths, paths[0]),
					)
				}
			}
		}
	}
	switch {
	case kept:
	case len(has) > 0:
		say("Loaders", Must, "The EFI partition is a new one: the loaders must be put into it.")
	case len(had) > 0:
		say("Loaders", Wrong, "There is no EFI partition any more: the PC finds no loader.")
	}
}

// defaultLoader is how the path of the loader begins that firmware takes where it knows of
// no other (UEFI 2.10, 3.5.1.1, table 3.2).
const defaultLoader = "efi/boot/boot"

func inIt(paths []string, first string) string {
	if len(paths) == 1 {
		return "A loader is in it, " + first
	}
	return fmt.Sprintf("%d loaders are in it, among them %s", len(paths), first)
}

// recoveryCheck checks the recovery environment: in use, there, and with room for its
// renewal.
func recoveryCheck(end *layout.Layout, f Facts, after *pc.Facts, say func(string, Standing, string, ...any)) {
	r := after.Recovery
	switch {
	case r == nil && f.PC.Recovery == nil:
		return
	case r == nil:
		say("Recovery", Must, "The PC has no recovery environment any more. Keep a rescue stick at hand.")
		return
	case r.Parked:
		say(
			"Recovery", Must,
			"Only a copy of recovery is kept, and it is not in use. Take it back into use, or keep a rescue stick at hand.",
		)
		return
	}
	p, there := byID(end, r.Partition)
	switch {
	case r.InUse && !there && f.PC.Recovery != nil && strings.EqualFold(f.PC.Recovery.Partition, r.Partition):
		say(
			"Recovery", Must,
			"The recovery environment was in use from a partition that is gone. Keep a copy of it first, or keep a rescue stick at hand.",
		)
	case r.InUse && there && p.Volume != nil && p.Volume.Free() < leastRecovery:
		say(
			"Recovery", Must,
			"The recovery environment is in use from %s, which has %s free; renewing it needs about %s.", p.Title(),
			p.Volume.Free(), leastRecovery,
		)
	case r.InUse && there:
		say("Recovery", Sound, "The recovery environment is in use from %s.", p.Title())
	case !r.InUse:
		say("Recovery", Must, "The recovery environment is not in use. Keep a rescue stick at hand.")
	}
}
