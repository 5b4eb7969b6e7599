package volume

// What some volumes can do besides being read, each asked for where it serves.

// PlaceWalker is a volume that tells where its files lie without asking for more of each.
type PlaceWalker interface {
	// WalkPlaces is Walk with the extents of every file.
	WalkPlaces(visit func(File) error) error
}

// WalkPlaces visits every file of a volume with its extents.
func WalkPlaces(v Volume, visit func(File) error) error {
	if w, ok := v.(PlaceWalker); ok {
		return w.WalkPlaces(visit)
	}
	return v.Walk(visit)
}

// Laster is a volume that finds the file at its end without going through all files.
type Laster interface {
	// LastFile names the file that holds the last used cluster, and tells whether it cannot be moved.
	LastFile() (name string, fixed bool, err error)
}

// SameNamer is a volume in which a file can have several names.
type SameNamer interface {
	// SameAs is the first name of a file that has several, "" where it is this one.
	SameAs(File) string
}

// FolderFinder is a volume that tells quickly whether folders are there.
type FolderFinder interface {
	// HasFolders tells that the folders lie one in the other below the root.
	HasFolders(names ...string) bool
}
