package words

import "jadetrail/core/plan"

// inShort is what stands against an act, in a word or two.
var inShort = map[plan.Code]string{
	plan.BadPlaces:     "bad clusters",
	plan.BeyondMBR:     "beyond 2 TiB",
	plan.FifthPrimary:  "a fifth primary",
	plan.Full:          "full",
	plan.GapBefore:     "gap lies before",
	plan.GapTooSmall:   "gap too small",
	plan.HasVolumes:    "has volumes",
	plan.Held:          "held open",
	plan.Hibernated:    "hibernated",
	plan.Inside:        "gap inside",
	plan.IsShelf:       "a shelf",
	plan.IsStart:       "start system",
	plan.LastCluster:   "last cluster",
	plan.LetterTaken:   "letter taken",
	plan.NoGap:         "no gap",
	plan.NoNeighbour:   "no other volume",
	plan.NoPC:          "PC unknown",
	plan.NoRecord:      "no record",
	plan.NoSystem:      "no system",
	plan.NoVolume:      "no volume",
	plan.NotClean:      "not clean",
	plan.NotInOrder:    "not in it",
	plan.NotParked:     "not there",
	plan.NotReadable:   "not readable",
	plan.NotResizable:  "cannot be resized",
	plan.NothingToDo:   "as it is",
	plan.OnlyEFI:       "only one",
	plan.OtherDrive:    "other drive",
	plan.Outside:       "gap outside",
	plan.ReadOnly:      "read-only",
	plan.RestorePoints: "restore points",
	plan.Sealed:        "sealed",
	plan.SetMember:     "part of a set",
	plan.TableFull:     "table full",
	plan.TableUnsafe:   "table damaged",
	plan.TooLarge:      "too large",
	plan.TooSmall:      "too small",
	plan.Unsound:       "not sound",
	plan.Removable:     "removable",
	plan.NowhereToGo:   "nowhere to go",
	plan.NoBackup:      "no backup",
	plan.RecoveryInUse: "in use",
	plan.NotYet:        "not yet",
	plan.Doubted:       "doubtful",
	plan.RecordAltered: "record altered",
	plan.NoFind:        "not found",
	plan.BadAmount:     "another amount",
	plan.NoSuch:        "not there",
	plan.TooMuch:       "too much",
}

// InShort says what stands against an act in a word or two.
func InShort(o *plan.Obstacle) string {
	if o.Code == plan.InTheWay {
		return "blocked by " + Plural(len(o.Partitions), "partition", "partitions")
	}
	return inShort[o.Code]
}
