package layout

// Purpose is what a partition of a role is for, in plain words: what deleting it
// costs, and what to do first.
type Purpose struct{ For, Costs, First string }

var purposes = map[Role]Purpose{
	StartSystem: {"The system that the PC starts, with its programs and usually the customer's files.", "The PC no longer starts.", "Name another system to start, or take the drive out of the PC."},
	OtherSystem: {"An operating system that the PC does not start by default, or a copy of one.", "That system and everything in it is gone; a start entry may lead nowhere.", "Look inside for people's files, back it up, and take it out of the start order."},
	Data:        {"A volume for files.", "Its files are gone.", "Look inside and back it up."},
	EFI:         {"Holds the loaders that the PC starts from. Small, without a letter, needed.", "No system of this drive can be started.", "Make sure that the PC starts from another drive."},
	Reserved:    {"Room that a system keeps for itself. It holds no files.", "Nothing that anybody sees; some systems ask for it when the drive is converted.", "Nothing."},
	Recovery:    {"Holds the recovery environment.", "The PC cannot repair or reset itself from its own drive.", "Keep a rescue stick at hand, or a copy of recovery on the system's volume."},
	OEM:         {"The maker's area, usually the state in which the PC was sold.", "The PC cannot be put back to how it was sold without the maker's help.", "Ask whether the customer has the maker's rescue stick, and back it up."},
	Swap:        {"Room that a system uses as memory.", "Nothing is lost; the system that uses it may start slowly or complain.", "Take it out of that system's settings."},
	Container:   {"An extended container: it holds logical volumes and nothing itself.", "Nothing, once its logical volumes are gone.", "Deal with the logical volumes in it."},
	Unknown:     {"Nobody can say what it is for. It is handled whole.", "What it holds is gone, whatever it is.", "Back it up whole."},
}

// Purpose of the role.
func (r Role) Purpose() Purpose { return purposes[r] }

// Explains says why a gap is there.
func (w Why) Explains() string {
	return map[Why]string{
		Free:      "Free room that no partition uses.",
		Alignment: "Left over because partitions begin and end on whole MiB; too small for anything.",
		Table:     "The partition table lies here, or room that it cannot name.",
		InChain:   "The record of the logical volume behind it, in the container's chain.",
	}[w]
}
