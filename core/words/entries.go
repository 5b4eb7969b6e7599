package words

import (
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// acts are the words of entries that no step of a plan makes.
var acts = map[trail.Act]string{
	trail.ActAnswer:       "lead answered",
	trail.ActAttach:       "attached",
	trail.ActBackup:       "backed up",
	trail.ActBlank:        "record emptied",
	trail.ActClearJob:     "kept no longer",
	trail.ActCloseJob:     "job closed",
	trail.ActCompare:      "compared",
	trail.ActDeleteBackup: "backup deleted",
	trail.ActDetach:       "detached",
	trail.ActDone:         "carried out",
	trail.ActHandOver:     "handed over",
	trail.ActJob:          "job changed",
	trail.ActKey:          "new key",
	trail.ActLeft:         "left as it is",
	trail.ActMark:         "marked good",
	trail.ActOpenJob:      "job opened",
	trail.ActPerson:       "account",
	trail.ActPlan:         "plan begun",
	trail.ActRelease:      "protection lifted",
	trail.ActReopen:       "job opened again",
	trail.ActRestore:      "files restored",
	trail.ActSearch:       "searched",
	trail.ActShelf:        "made a shelf",
	trail.ActShop:         "shop",
	trail.ActTakeIn:       "taken in",
	trail.ActUndone:       "taken back",
	trail.ActVerify:       "backup verified",
	trail.ActVoid:         "not begun",
	trail.ActWaiver:       "goes without a backup",
}

// Entered says what an entry of the trail tells was done.
func Entered(a trail.Act) string {
	if w, ok := acts[a]; ok {
		return w
	}
	return steps[plan.Do(a)].entered
}

// Acts are all kinds of entry, in the order in which they are chosen from.
var Acts = []trail.Act{
	trail.ActBackup, trail.ActVerify, trail.ActDeleteBackup, trail.ActRestore, trail.ActPlan, trail.ActRelease,
	trail.ActWaiver, trail.ActAnswer, trail.ActDelete, trail.ActGrow, trail.Act(plan.Shrink), trail.Act(plan.Slide),
	trail.Act(plan.Absorb), trail.ActCreate, trail.Act(plan.Rebuild), trail.Act(plan.CopyOut), trail.ActCopyBack,
	trail.ActBringBack, trail.ActSearch, trail.ActTakeIn, trail.ActCompare, trail.Act(plan.Retag),
	trail.Act(plan.Label), trail.Act(plan.Clear), trail.Act(plan.Container), trail.Act(plan.ParkRecovery),
	trail.Act(plan.UseRecovery), trail.Act(plan.DropStartEntry), trail.Act(plan.StartOrder),
	trail.Act(plan.NoteIdentity), trail.Act(plan.Restart), trail.ActLetter, trail.ActMend, trail.ActAttach,
	trail.ActDetach, trail.ActShelf, trail.ActDone, trail.ActMark, trail.ActUndone, trail.ActLeft, trail.ActVoid,
	trail.ActBlank, trail.ActKey, trail.ActOpenJob, trail.ActJob, trail.ActHandOver, trail.ActCloseJob, trail.ActReopen,
	trail.ActClearJob, trail.ActPerson, trail.ActShop,
}
